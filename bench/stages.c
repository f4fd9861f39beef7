/* bench/stages.c: where the work of a message goes. Each stage is a function of its own, run once over the
 * lines of a form, so that callgrind can count its instructions (bench/stages.sh); by itself it prints form
 * stage  ns a message, the best of many rounds. Usage: bench_stages [SECONDS]; bench_stages count FORM;
 * bench_stages lines COUNT prints lines of all forms mixed. */
#include "forms.h"
#include "measure.h"

#include "collect/intake/intake.h"
#include "core/line/line.h"
#include "core/message/header.h"
#include "core/payload/payload.h"

#include <string.h>
#include <unistd.h>

static struct lines lines[FORMS + 1];
static struct ind_message messages[LINES];
static struct ind_loaded loaded;
static struct ind_intake *intake;
static struct ind_batch *batch;
static struct ind_sender *sender;
static struct ind_payload payload;
static char scratch[IND_PAYLOAD_SCRATCH], out[IND_LINE_MOST];
static const ind_time received = INT64_C(1795409100) * IND_SECOND;

#if defined(__GNUC__) || defined(__clang__)
#define STAGE __attribute__((noinline))
#else
#define STAGE
#endif

STAGE static void stage_header(const struct lines *of)
{
    for (size_t i = 0; i < LINES; i++)
        ind_header_read(of->line[i].at, of->line[i].length, received, loaded.config->zone, &messages[i]);
}

STAGE static void stage_fields(void)
{
    for (size_t i = 0; i < LINES; i++)
        ind_payload_read(&messages[i], scratch, sizeof scratch, &payload);
}

static void write_lines(enum ind_layout layout)
{
    struct ind_line_clock clock = {.zone = loaded.config->times};
    for (size_t i = 0; i < LINES; i++) {
        struct ind_buffer line = ind_buffer_on(out, sizeof out);
        messages[i].time = messages[i].received = received;
        messages[i].sent = received - IND_SECOND / 4;
        messages[i].device = messages[i].host.length ? messages[i].host : IND_SLICE("192.0.2.9");
        ind_line_write(layout, &messages[i], &clock, &line);
    }
}

STAGE static void stage_plain(void)
{
    write_lines(IND_LAYOUT_PLAIN);
}

STAGE static void stage_json(void)
{
    write_lines(IND_LAYOUT_JSON);
}

STAGE static void stage_whole(const struct lines *of)
{
    for (size_t i = 0; i < LINES; i++) {
        const struct ind_origin origin = {
            .transport = IND_TRANSPORT_UDP, .sender = sender, .received = received, .now = received};
        enum ind_submitted submitted = ind_intake_submit(intake, IND_LINES_RAW, of->line[i], &origin, batch);
        while (submitted == IND_SUBMIT_FULL) {
            ind_batch_clear(batch);
            submitted = ind_intake_resume(intake, batch);
        }
    }
}

static void set_up(void)
{
    char path[64];
    const uint8_t address[4] = {192, 0, 2, 9};
    const struct ind_address from = ind_address_v4(address);
    snprintf(path, sizeof path, "/tmp/indagator-bench-%ld.yaml", (long)getpid());
    FILE *file = fopen(path, "w");
    fputs("zone: Europe/Lisbon\nroutes:\n  - {name: a, file: \"{facility}/{severity}.log\"}\n", file);
    fclose(file);
    ind_config_load(path, &loaded);
    unlink(path);
    struct ind_accounts *accounts = ind_accounts_new();
    intake = loaded.config && accounts ? ind_intake_new(loaded.config, accounts, NULL) : NULL;
    batch = ind_batch_new();
    if (!intake || !batch) {
        fprintf(stderr, "no such configuration\n");
        exit(1);
    }
    sender = ind_intake_sender(intake, &from);
    make_lines(lines);
}

static const char *const stages[] = {"header", "fields", "plain", "json", "whole"};
enum { STAGES = sizeof stages / sizeof *stages };

static void run(int stage, const struct lines *of)
{
    switch (stage) {
    case 0:
        stage_header(of);
        break;
    case 1:
        stage_fields();
        break;
    case 2:
        stage_plain();
        break;
    case 3:
        stage_json();
        break;
    default:
        stage_whole(of);
        break;
    }
}

int main(int argc, char **argv)
{
    const bool counts = argc > 2 && strcmp(argv[1], "count") == 0;
    const double seconds = argc > 1 ? atof(argv[1]) : 3;
    set_up();
    if (argc > 2 && strcmp(argv[1], "lines") == 0) {
        for (long i = 0, count = atol(argv[2]); i < count; i++)
            printf("%.*s\n", IND_ARG(lines[MIXED].line[i % LINES]));
        return 0;
    }
    for (int form = 0; form <= FORMS; form++) {
        double best[STAGES] = {0};
        if (counts && strcmp(argv[2], name_of(form)) != 0)
            continue;
        for (double end = now() + seconds / (FORMS + 1);;) {
            for (int stage = 0; stage < STAGES; stage++) {
                double start = now();
                run(stage, &lines[form]);
                double ns = (now() - start) * 1e9 / LINES;
                best[stage] = best[stage] == 0 || ns < best[stage] ? ns : best[stage];
            }
            if (now() > end || counts)
                break;
        }
        for (int stage = 0; stage < STAGES && !counts; stage++)
            printf("%s\t%s\t%.0f\n", name_of(form), stages[stage], best[stage]);
    }
    return 0;
}
