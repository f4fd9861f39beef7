/* bench/devices.c: what a message costs, from its bytes to its line, with 10 and with 10,000 configured
 * devices that all speak in turn: sender, header, device, account, route, line. Both run in turn; prints
 * devices  messages/s  ratio to 10 devices. Usage: bench_devices [SECONDS] */
#include "measure.h"

#include "collect/intake/intake.h"

#include <stdio.h>
#include <stdlib.h>
#include <unistd.h>

enum { SIZES = 2, MESSAGES = 20000 };
static const unsigned sizes[SIZES] = {10, 10000};

struct setting {
    struct ind_loaded loaded;
    struct ind_accounts *accounts;
    struct ind_intake *intake;
    struct ind_batch *batch;
    struct ind_address *senders;
};

static struct ind_address address_of(unsigned i)
{
    const uint8_t bytes[4] = {10, (uint8_t)(i >> 14), (uint8_t)(i >> 6), (uint8_t)(i << 2)};
    return ind_address_v4(bytes);
}

static void set_up(struct setting *setting, unsigned count)
{
    char list[64], config[64];
    snprintf(list, sizeof list, "/tmp/indagator-bench-%ld.csv", (long)getpid());
    snprintf(config, sizeof config, "/tmp/indagator-bench-%ld.yaml", (long)getpid());
    FILE *file = fopen(list, "w");
    fputs("name,address,site\n", file);
    for (unsigned i = 0; i < count; i++) {
        char text[IND_ADDRESS_WIDTH] = "";
        struct ind_buffer out = ind_buffer_on(text, sizeof text - 1);
        struct ind_address address = address_of(i);
        ind_address_write(&out, &address);
        fprintf(file, "device-%u,%s,site-%u\n", i, text, i % 7);
    }
    fclose(file);
    file = fopen(config, "w");
    fprintf(file, "devices:\n  - from: %s\nroutes:\n  - {name: a, file: \"{facility}/{severity}.log\"}\n",
            list);
    fclose(file);
    ind_config_load(config, &setting->loaded);
    unlink(list);
    unlink(config);
    if (!setting->loaded.config || ind_devices_count(setting->loaded.config->devices) != count) {
        fprintf(stderr, "no such configuration\n");
        exit(1);
    }
    setting->accounts = ind_accounts_new();
    setting->intake = ind_intake_new(setting->loaded.config, setting->accounts, NULL);
    setting->batch = ind_batch_new();
    setting->senders = calloc(MESSAGES, sizeof *setting->senders);
    for (unsigned i = 0; i < MESSAGES; i++)
        setting->senders[i] = address_of((i * 7919u) % count);
}

static double measure(struct setting *setting)
{
    static const char text[] =
        "<189>Nov 23 04:45:00 pier1-rtr ospfd[77]: neighbour 192.0.2.131 on ge0/1 is down: "
        "dead timer expired, interface changed state";
    double start = now();
    for (unsigned i = 0; i < MESSAGES; i++) {
        /* as the receivers look ahead in what they have read */
        ind_intake_expect(setting->intake, &setting->senders[(i + 2) % MESSAGES],
                          &setting->senders[(i + 5) % MESSAGES]);
        const struct ind_origin origin = {.transport = IND_TRANSPORT_UDP,
                                          .sender = ind_intake_sender(setting->intake, &setting->senders[i]),
                                          .received = INT64_C(1795409100) * IND_SECOND,
                                          .now = INT64_C(1795409100) * IND_SECOND};
        enum ind_submitted submitted =
            ind_intake_submit(setting->intake, IND_LINES_RAW, (struct ind_slice){text, sizeof text - 1},
                              &origin, setting->batch);
        while (submitted == IND_SUBMIT_FULL) {
            ind_batch_clear(setting->batch);
            submitted = ind_intake_resume(setting->intake, setting->batch);
        }
    }
    return MESSAGES / (now() - start);
}

int main(int argc, char **argv)
{
    static struct setting settings[SIZES];
    double seconds = argc > 1 ? atof(argv[1]) : 3, best[SIZES] = {0};
    for (int i = 0; i < SIZES; i++)
        set_up(&settings[i], sizes[i]);
    for (double end = now() + seconds; now() < end;)
        for (int i = 0; i < SIZES; i++) {
            double rate = measure(&settings[i]);
            best[i] = rate > best[i] ? rate : best[i];
        }
    for (int i = 0; i < SIZES; i++)
        printf("%u\t%.2f\t%.2f\n", sizes[i], best[i] / 1e6, best[i] / best[0]);
    return 0;
}
