/* Relays through outages: lines that are cut anywhere, ends of the collector at any moment. Nothing is lost
 * that was on disk and not acknowledged by the other side's system, and no more comes twice than is told. */
#define _GNU_SOURCE
#include "support/live.h"
#include "support/other_side.h"

#include "core/queue/segment.h"
#include "support/certificates.h"
#include <dirent.h>

static struct ind_other_side *side;
static int everything; /* IND_ALL=1 */

static int leave(void **state)
{
    if (running.process > 0)
        (void)ind_collect_stop(&running, SIGKILL);
    running.process = 0;
    ind_other_side_free(side);
    side = NULL;
    return tear_down(state);
}

static void begin_relay(const char *target, const char *settings)
{
    char config[2000];
    snprintf(config, sizeof config,
             "store: log\nstate: state\nzone: UTC\n"
             "listen:\n  - tcp: 127.0.0.1:0\n" IND_QUIET
             "relays:\n  - {name: hq, to: [%s], answer within: 1 s%s}\n"
             "routes:\n  - {name: on, when: app is \"trial\", to: {relay: hq}}\n"
             "  - {name: own, when: 'app is \"indagator\"', file: own.log}\n",
             target, settings);
    begin(config);
}

/* Messages with ids from `from` on, of random lengths and odd bytes. */
static void send_messages(unsigned from, unsigned count)
{
    static char text[5000];
    uint64_t random = from * 7919u + IND_RANDOM_START;
    const int fd = open_to(IND_SEND_TCP, ind_reported_port(&running, "tcp 127.0.0.1:"), NULL);
    for (unsigned i = from; i < from + count; i++) {
        char message[4000], count_text[16];
        int length = snprintf(message, sizeof message, "<134>1 - - trial - - - id=%u ", i);
        const unsigned more =
            ind_random(&random, 100003) % 20 ? ind_random(&random, 200) : ind_random(&random, 3000);
        for (unsigned n = 0; n < more; n++)
            message[length++] = (char)(ind_random(&random, 100003) % 255 + 1);
        message[length++] = '.';
        const int digits = snprintf(count_text, sizeof count_text, "%d ", length);
        memcpy(text, count_text, (size_t)digits);
        memcpy(text + digits, message, (size_t)length);
        say(fd, text, (size_t)(digits + length));
    }
    close(fd);
}

static const json_t *the_relay(json_t *object)
{
    return json_array_get(json_object_get(object, "relays"), 0);
}

static bool all_is_sent(void *context)
{
    json_t *object = status();
    const json_t *relay = the_relay(object);
    const unsigned long sent = number(relay, "sent");
    const bool all = sent >= *(unsigned long *)context && number(relay, "waiting") == 0;
    assert_int_equal(number(relay, "taken") + number(relay, "found"),
                     sent + number(relay, "given_up") + number(relay, "damaged") + number(relay, "waiting"));
    if (getenv("IND_SHOW") && !all) {
        char *t = json_dumps(relay, 0);
        fprintf(stderr, "%lu: %s\n", *(unsigned long *)context, t);
        free(t);
    }
    json_decref(object);
    return all;
}

static void expect_all(unsigned count, unsigned long told)
{
    unsigned missing = 0;
    for (unsigned i = 0; i < count; i++)
        missing += side->seen[i] == 0;
    assert_int_equal(side->bad, 0);
    assert_int_equal(missing, 0);
    if (side->doubles > told)
        fail_msg("%u messages came twice, %lu were told", side->doubles, told);
}

static void through_cuts(struct ind_tls *tls, const char *scheme, const char *settings, int cuts)
{
    char target[80];
    unsigned count = 0;
    side = ind_other_side_new(tls, 0);
    side->cut_every = 60 << 10;
    side->swallow = everything ? 3 : 1;
    side->cuts = cuts;
    snprintf(target, sizeof target, "\"%s:127.0.0.1:%u\"", scheme, side->port);
    begin_relay(target, settings);
    while (side->cuts > 0 && count + 2000 < IND_IDS) {
        send_messages(count, 1000);
        count += 1000;
        ind_wait_until(all_is_sent, &(unsigned long){count > 20000 ? count - 20000 : 0}, "most is sent");
    }
    ind_wait_until(all_is_sent, &(unsigned long){count}, "all is sent");
    json_t *object = status();
    const unsigned long told = number(the_relay(object), "sent_again");
    json_decref(object);
    print_message("%d cuts, %u connections: %u messages, %u twice (%lu told)\n", cuts, side->connections,
                  count, side->doubles, told);
    end();
    expect_all(count, told);
}

static void cut_lines_lose_nothing(void **state)
{
    (void)state;
    through_cuts(NULL, "tcp", "", everything ? 200 : 12);
}

static void cut_lines_lose_nothing_under_tls(void **state)
{
    (void)state;
    struct ind_tls_fault fault;
    ind_make_certificates(folder);
    const struct ind_tls_settings settings = {.certificate = ind_path(folder, "collector.pem"),
                                              .key = strdup(ind_path(folder, "collector.key"))};
    const struct ind_tls_settings copy = settings;
    char certificate[300];
    snprintf(certificate, sizeof certificate, "%s", ind_path(folder, "collector.pem"));
    const struct ind_tls_settings server = {.certificate = certificate, .key = copy.key};
    struct ind_tls *tls = ind_tls_server_new(&server, &fault);
    assert_non_null(tls);
    through_cuts(tls, "tls", ", trust: authority.pem", everything ? 200 : 12);
    ind_other_side_free(side);
    side = NULL;
    ind_tls_release(tls);
    free((void *)(uintptr_t)copy.key);
}

/* ---- Ends of the collector at any moment ---- */

static unsigned char must[IND_IDS]; /* what is on disk, and the other side is not known to have */

static uint64_t acknowledged(void)
{
    uint64_t most = 0;
    char *text = ind_read_file(ind_path(folder, "state/relays/hq/position"), NULL);
    for (char *at = text; at && (at = strstr(at, " acknowledged ")); at++) {
        const uint64_t one = strtoull(at + strlen(" acknowledged "), NULL, 10);
        most = one > most ? one : most;
    }
    free(text);
    return most;
}

/* Notes the ids of a segment's records, as its format says (docs/queue-format.md). */
static void note_segment(const char *path, uint64_t from)
{
    size_t length;
    uint64_t number;
    char *bytes = ind_read_file(path, &length);
    struct ind_slice rest = {bytes, length};
    struct ind_queued record;
    if (bytes && ind_segment_read(rest, &number))
        for (rest = ind_slice_from(rest, IND_SEGMENT_HEADER);
             ind_queued_read(rest, number, &record) == IND_QUEUED_WHOLE; number++) {
            const char *id = memmem(record.bytes.at, record.bytes.length, "id=", 3);
            assert_non_null(id);
            if (number >= from)
                must[strtoul(id + 3, NULL, 10)] = 1;
            rest = ind_slice_from(rest, record.size);
        }
    free(bytes);
}

static void note_what_is_on_disk(void)
{
    const uint64_t from = acknowledged();
    DIR *queue = opendir(ind_path(folder, "state/relays/hq"));
    for (const struct dirent *entry; queue && (entry = readdir(queue));) {
        char name[400];
        snprintf(name, sizeof name, "state/relays/hq/%s", entry->d_name);
        if (strstr(entry->d_name, ".queue"))
            note_segment(ind_path(folder, name), from);
    }
    if (queue)
        closedir(queue);
}

static unsigned long sent_again(void)
{
    json_t *object = status();
    const unsigned long again = number(the_relay(object), "sent_again");
    json_decref(object);
    return again;
}

static bool nothing_waits(void *context)
{
    json_t *object = status();
    (void)context;
    const bool nothing = number(the_relay(object), "waiting") == 0;
    json_decref(object);
    return nothing;
}

static void ends_at_any_moment_lose_nothing_of_the_disk(void **state)
{
    char target[80];
    unsigned count = 0, missing = 0, noted = 0;
    unsigned long told = 0;
    uint64_t random = IND_RANDOM_START;
    (void)state;
    memset(must, 0, sizeof must);
    side = ind_other_side_new(NULL, 0);
    snprintf(target, sizeof target, "\"tcp:127.0.0.1:%u\"", side->port);
    begin_relay(target, "");
    for (int i = 0; i < (everything ? 30 : 6); i++) {
        side->deaf = ind_random(&random, 100003) % 3 > 0;
        send_messages(count, 5000);
        count += 5000;
        ind_other_nap((int)(ind_random(&random, 100003) % 900));
        told += sent_again();
        side->deaf = ind_random(&random, 100003) % 2;
        ind_other_nap((int)(ind_random(&random, 100003) % 30));
        side->cut_every = 1; /* what the system of the one that has ended still holds does not come through */
        side->cuts = i % 2;
        (void)ind_collect_stop(&running, SIGKILL);
        free(running.out);
        free(running.err);
        note_what_is_on_disk();
        running = ind_collect_start(folder);
    }
    side->deaf = false;
    ind_wait_until(nothing_waits, NULL, "nothing waits");
    told += sent_again();
    end();
    for (unsigned i = 0; i < count; i++) {
        missing += must[i] && !side->seen[i];
        noted += must[i];
    }
    print_message("%u messages, %u of them on disk at an end, %u twice (%lu told)\n", count, noted,
                  side->doubles, told);
    assert_true(noted > 0);
    assert_int_equal(missing, 0);
    assert_int_equal(side->bad, 0);
    if (side->doubles > told)
        fail_msg("%u messages came twice, %lu were told", side->doubles, told);
}

/* ---- Ends of the other side at any moment ---- */

static char *other_folder;
static struct ind_running other;

static int leave_both(void **state)
{
    if (other.process > 0)
        (void)ind_collect_stop(&other, SIGKILL);
    other.process = 0;
    if (other_folder)
        ind_folder_remove(other_folder);
    other_folder = NULL;
    return leave(state);
}

static void begin_other(unsigned port)
{
    char config[500];
    snprintf(config, sizeof config,
             "store: log\nstate: state\nzone: UTC\nlisten:\n  - tcp: 127.0.0.1:%u\n" IND_QUIET
             "devices:\n  - {name: here, address: 127.0.0.1, relay: yes}\n"
             "routes:\n  - {name: all, file: all.log}\n",
             port);
    if (!other_folder)
        other_folder = ind_folder_new();
    ind_write_file(ind_path(other_folder, "indagator.yaml"), config);
    free(other.out);
    free(other.err);
    other = ind_collect_start(other_folder);
}

/* A collector that is killed takes with it what its system has acknowledged and it has not written: of each
 * connection that is one piece. Nothing else is missing. */
static void a_killed_other_side_loses_one_piece_at_a_time(void **state)
{
    char target[80];
    const int kills = everything ? 30 : 5;
    unsigned count = 0, pieces = 0, missing = 0, doubles = 0;
    uint64_t random = IND_RANDOM_START;
    static unsigned char seen[IND_IDS];
    (void)state;
    memset(seen, 0, sizeof seen);
    begin_other(0);
    const unsigned port = ind_reported_port(&other, "tcp 127.0.0.1:");
    snprintf(target, sizeof target, "\"tcp:127.0.0.1:%u\"", port);
    begin_relay(target, "");
    for (int i = 0; i < kills; i++) {
        send_messages(count, 4000);
        count += 4000;
        ind_other_nap((int)(ind_random(&random, 100003) % 300));
        (void)ind_collect_stop(&other, SIGKILL);
        begin_other(port);
        send_messages(count, 1000);
        count += 1000;
        ind_other_nap((int)(ind_random(&random, 100003) % 600));
    }
    ind_wait_until(all_is_sent, &(unsigned long){count}, "all is sent");
    const unsigned long told = sent_again();
    end();
    (void)ind_collect_stop(&other, SIGTERM);
    other.process = 0;
    char *stored = ind_read_file(ind_path(other_folder, "log/all.log"), NULL);
    for (char *at = stored; (at = strstr(at, " id=")); at++) {
        const unsigned long id = strtoul(at + 4, NULL, 10);
        doubles += seen[id] > 0;
        seen[id] = 1;
    }
    free(stored);
    for (unsigned i = 0; i < count; i++) {
        missing += !seen[i];
        pieces += !seen[i] && (i == 0 || seen[i - 1]);
    }
    print_message("%d kills: %u messages, %u missing in %u pieces, %u twice (%lu told)\n", kills, count,
                  missing, pieces, doubles, told);
    assert_in_range(pieces, 0, kills);
    assert_true(doubles <= told);
    free(other.out);
    free(other.err);
    other = (struct ind_running){0};
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(cut_lines_lose_nothing, set_up, leave),
        cmocka_unit_test_setup_teardown(cut_lines_lose_nothing_under_tls, set_up, leave),
        cmocka_unit_test_setup_teardown(ends_at_any_moment_lose_nothing_of_the_disk, set_up, leave),
        cmocka_unit_test_setup_teardown(a_killed_other_side_loses_one_piece_at_a_time, set_up, leave_both),
    };
    everything = getenv("IND_ALL") != NULL;
    return cmocka_run_group_tests(tests, NULL, NULL);
}
