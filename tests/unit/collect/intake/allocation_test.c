/* From the bytes of a message to its lines nothing is allocated, whatever the rules ask for. */
#include "support/support.h"

#include "collect/intake/intake.h"
#include "config/config.h"

#include <string.h>

#if defined(__SANITIZE_ADDRESS__) || defined(__SANITIZE_THREAD__)
#define COUNTED 0 /* the sanitizers bring an allocator of their own */
#elif defined(__GLIBC__)
#define COUNTED 1
#else
#define COUNTED 0
#endif

static size_t allocations;

#if COUNTED
/* The C library's own, under the names by which it keeps them for such as us. */
extern void *__libc_malloc(size_t size);
extern void *__libc_calloc(size_t count, size_t size);
extern void *__libc_realloc(void *old, size_t size);

void *malloc(size_t size)
{
    allocations++;
    return __libc_malloc(size);
}

void *calloc(size_t count, size_t size)
{
    allocations++;
    return __libc_calloc(count, size);
}

void *realloc(void *old, size_t size)
{
    allocations++;
    return __libc_realloc(old, size);
}
#endif

static const char head[] =
    "zone: Europe/Lisbon\ndomain: skerry.example\n"
    "devices:\n  - {name: harbour-fw, address: 192.0.2.9, labels: {site: harbour}}\n"
    "patterns:\n  - name: login-failed\n    text:\n"
    "      - layout: \"Failed password for {user:word} from {peer:ip} port {port:int} {:remainder}\"\n"
    "conditions:\n  trouble: severity at least warning\n"
    "edits:\n"
    "  - {name: hide, mask: [phone, ipv4, secret, {matches: 'sw|rtr'}], with: <x>}\n"
    "  - {name: mark, when: 'text contains \"down\"', label: {state: \"{app}\"}}\n"
    "  - {name: less, when: 'app is \"kernel\"', forget: [\"field IN\", procid]}\n"
    "  - {name: calm, when: 'text contains \"Failed\"', set: {severity: alert, text: \"{text}, {field "
    "SRC}\"}}\n"
    "  - {name: same, when: 'app is \"a\"', repeat: 30s}\n"
    "  - {name: few, when: 'app is \"sshd\"', limit: 1 a second}\n"
    "routes:\n"
    "  - {name: pattern, when: 'pattern is \"login-failed\" and field user is \"tern\"', file: \"{field "
    "user}.log\"}\n"
    "  - {name: regex, when: 'text matches \"port [0-9]+ .*down\"', file: regex.log}\n"
    "  - {name: slow, when: 'text matches \"(x+x+)+y\"', file: slow.log}\n"
    "  - {name: field, when: 'field SRC within 203.0.113.0/24', file: field.log, layout: json}\n"
    "  - {name: data, when: 'data port@32473 name is \"ge0/1\"', file: data.log}\n"
    "  - {name: label, when: 'label site is \"harbour\" and trouble', file: \"{device}/{date}.log\"}\n"
    "  - {name: night, when: 'time within 22:00-06:00 and day in (sat, sun)', file: night.log}\n"
    "  - {name: json, file: \"json/{severity}.log\", layout: json}\n"
    "  - {name: out, when: 'text contains \"down\"', to: output}\n"
    "  - {name: rest, otherwise: yes, file: rest.log}\n";

static void write_config(const char *path)
{
    FILE *file = fopen(path, "w");
    assert_non_null(file);
    fputs(head, file);
    for (int i = 0; i < 200; i++) {
        static const char *const kinds[] = {"host is \"pier%d-rtr\"",
                                            "host starts with \"pier%d\"",
                                            "text contains \"reason %d\"",
                                            "sender within 192.0.%d.0/24",
                                            "text mentions \"line %d\" ignoring case",
                                            "app ends with \"%d\""};
        fprintf(file, "  - {name: r%d, file: r%d.log, when: '", i, i);
        fprintf(file, kinds[i % 6], i); /* NOLINT: all of them take one number */
        fputs("'}\n", file);
    }
    fclose(file);
}

static const char *const messages[] = {
    "<164>1 2026-11-23T04:45:00Z pier7-rtr kernel - - - port 12 is down, reason 8, line 4",
    "<165>Nov 23 04:45:01 harbour-fw sshd[77]: Failed password for tern from 203.0.113.7 port 4022 ssh2",
    "<13>Nov 23 04:45:01 pier12-sw kernel: IN=ge0 SRC=203.0.113.7 DST=192.0.2.9 "
    "xxxxxxxxxxxxxxxxxxxxxxxxxxxxxx",
    "<189>1 2026-11-23T04:45:00Z pier31-rtr.skerry.example a - - [port@32473 name=\"ge0/1\"] Line 16 REASON "
    "20",
    "no header at all, and a character that is none: \xff\xfe",
    "{\"event\": \"boot\", \"reason\": 3}",
};

static void take(struct ind_intake *intake, struct ind_batch *batch, size_t count)
{
    enum { KINDS = sizeof messages / sizeof *messages };
    const uint8_t bytes[4] = {192, 0, 2, 9};
    struct ind_address address = ind_address_v4(bytes);
    for (size_t i = 0; i < count; i++) {
        const struct ind_origin origin = {.transport = IND_TRANSPORT_UDP,
                                          .number = 2,
                                          .listener = IND_SLICE("udp 0.0.0.0:514"),
                                          .sender = ind_intake_sender(intake, &address),
                                          .received = (ind_time)i * IND_SECOND,
                                          .now = (ind_time)i * IND_SECOND};
        struct ind_slice message = {messages[i % KINDS], strlen(messages[i % KINDS])};
        enum ind_submitted submitted = ind_intake_submit(intake, IND_LINES_RAW, message, &origin, batch);
        while (submitted == IND_SUBMIT_FULL) {
            ind_batch_clear(batch);
            submitted = ind_intake_resume(intake, batch);
        }
    }
}

static void forget_report(void *context, const struct ind_edit_report *report)
{
    (void)context;
    (void)report;
}

static void no_message_makes_the_intake_allocate(void **state)
{
    (void)state;
    char *folder = ind_folder_new();
    const char *path = ind_path(folder, "indagator.yaml");
    struct ind_loaded loaded;
    write_config(path);
    ind_config_load(path, &loaded);
    assert_non_null(loaded.config);
    struct ind_accounts *accounts = ind_accounts_new();
    struct ind_edit_states *states = ind_edit_states_new(forget_report, NULL);
    struct ind_intake *intake = ind_intake_new(loaded.config, accounts, states);
    struct ind_batch *batch = ind_batch_new();
    assert_non_null(intake);
    assert_non_null(batch);
    take(intake, batch, 1000); /* senders and accounts are met */
    size_t before = allocations;
    take(intake, batch, 20000);
    assert_int_equal(allocations, before);
    assert_true(!COUNTED || before > 1000); /* they are counted */
    ind_batch_free(batch);
    ind_intake_free(intake);
    ind_edit_states_free(states);
    ind_accounts_free(accounts);
    ind_loaded_free(&loaded);
    ind_folder_remove(folder);
}

int main(void)
{
    const struct CMUnitTest tests[] = {cmocka_unit_test(no_message_makes_the_intake_allocate)};
    return cmocka_run_group_tests(tests, NULL, NULL);
}
