/* Relays of the built program: which target gets what, what waits and what is given up, and that nothing is
 * silent about it. Outages at random: relay_trials_test.c. */
#define _GNU_SOURCE
#include "support/live.h"
#include "support/other_side.h"

#include "net/udp.h"
#include "support/certificates.h"
#include <sys/mount.h>

enum { SIDES = 2 };
static struct ind_other_side *sides[SIDES];
static bool mounted; /* at state/relays */
static char *other_folder;
static struct ind_running other;

static int leave(void **state)
{
    if (other.process > 0)
        (void)ind_collect_stop(&other, SIGKILL);
    other.process = 0;
    if (running.process > 0)
        (void)ind_collect_stop(&running, SIGKILL);
    running.process = 0;
    for (int i = 0; i < SIDES; i++) {
        ind_other_side_free(sides[i]);
        sides[i] = NULL;
    }
    if (mounted)
        (void)umount2(ind_path(folder, "state/relays"), MNT_DETACH);
    mounted = false;
    if (other_folder)
        ind_folder_remove(other_folder);
    other_folder = NULL;
    return tear_down(state);
}

#define TOP "store: log\nstate: state\nzone: UTC\nlisten:\n  - tcp: 127.0.0.1:0\n" IND_QUIET
#define ROUTES                                                                                               \
    "routes:\n  - {name: on, when: app is \"trial\", to: {relay: hq}}\n"                                     \
    "  - {name: own, when: 'app is \"indagator\"', file: own.log}\n"

static void write_relay(const char *targets, const char *settings)
{
    char config[2000];
    snprintf(config, sizeof config, TOP "relays:\n  - {name: hq, to: [%s]%s}\n" ROUTES, targets, settings);
    ind_write_file(ind_path(folder, "indagator.yaml"), config);
}

static void begin_relay(const char *targets, const char *settings)
{
    write_relay(targets, settings);
    running = ind_collect_start(folder);
}

static const char *target(const char *scheme, unsigned port)
{
    static char text[4][60];
    static int turn;
    char *one = text[turn++ % 4];
    snprintf(one, sizeof *text, "\"%s:127.0.0.1:%u\"", scheme, port);
    return one;
}

static const char *both(const char *one, const char *second)
{
    static char text[130];
    snprintf(text, sizeof text, "%s, %s", one, second);
    return text;
}

/* A port at which nobody listens. */
static unsigned free_port(void)
{
    const int fd = ind_tcp_listen("127.0.0.1", 0, false);
    const unsigned port = ind_socket_port(fd);
    close(fd);
    return port;
}

static void send_ids(unsigned from, unsigned count, int padding)
{
    const int fd = open_to(IND_SEND_TCP, ind_reported_port(&running, "tcp 127.0.0.1:"), NULL);
    for (unsigned i = from; i < from + count; i++) {
        char text[2000];
        const int length = snprintf(text, sizeof text, "<134>1 - - trial - - - id=%u %0*d\n", i, padding, 7);
        say(fd, text, (size_t)length);
    }
    close(fd);
}

struct wanted {
    const char *key;
    unsigned long least;
};

static bool has_so_many(void *context)
{
    const struct wanted *wanted = context;
    return of_relay(wanted->key) >= wanted->least;
}

static void wait_relay(const char *key, unsigned long least)
{
    ind_wait_until(has_so_many, &(struct wanted){key, least}, key);
}

static bool has_messages(void *side)
{
    const struct ind_other_side *one = ((struct ind_other_side **)side)[0];
    return one->messages >= *(unsigned *)((void **)side)[1];
}

static void wait_messages(struct ind_other_side *side, unsigned count)
{
    void *context[] = {side, &count};
    ind_wait_until(has_messages, context, "messages have come");
}

static bool is_told(void *text)
{
    return ind_file_holds(ind_path(folder, "log/own.log"), text);
}

static void wait_told(const char *text)
{
    ind_wait_until(is_told, (void *)(uintptr_t)text, text);
}

static void the_first_that_answers_is_used_and_returned_to(void **state)
{
    (void)state;
    const unsigned first = free_port();
    sides[1] = ind_other_side_new(NULL, 0);
    begin_relay(both(target("tcp", first), target("tcp", sides[1]->port)), "");
    send_ids(0, 100, 10);
    wait_messages(sides[1], 100);
    sides[0] = ind_other_side_new(NULL, first);
    while (sides[0]->connections == 0)
        ind_other_nap(10);
    ind_other_nap(100);
    send_ids(100, 100, 10);
    wait_messages(sides[0], 100);
    assert_int_equal(sides[1]->messages, 100);
    assert_int_equal(sides[0]->seen[150], 1);
    wait_relay("sent", 200);
    assert_int_equal(of_relay("sent_again"), 0);
    end();
}

static void all_share_what_comes(void **state)
{
    (void)state;
    sides[0] = ind_other_side_new(NULL, 0);
    sides[1] = ind_other_side_new(NULL, 0);
    begin_relay(both(target("tcp", sides[0]->port), target("tcp", sides[1]->port)), ", share: yes");
    while (sides[0]->connections == 0 || sides[1]->connections == 0)
        ind_other_nap(10);
    ind_other_nap(100);
    /* Whose turn it is goes by how often the relay looks: on a busy machine it may be the same one's some
     * times. */
    unsigned sent = 0;
    while (sent < 5000 || ((sides[0]->messages == 0 || sides[1]->messages == 0) && sent < 60000)) {
        send_ids(sent, 500, 100);
        sent += 500;
        wait_relay("sent", sent);
    }
    assert_true(sides[0]->messages > 0 && sides[1]->messages > 0);
    for (unsigned i = 0; i < sent; i++)
        assert_int_equal(sides[0]->seen[i] + sides[1]->seen[i], 1);
    end();
}

static void who_accepts_and_never_reads_is_left(void **state)
{
    (void)state;
    sides[0] = ind_other_side_new(NULL, 0);
    sides[1] = ind_other_side_new(NULL, 0);
    sides[0]->deaf = true;
    begin_relay(both(target("tcp", sides[0]->port), target("tcp", sides[1]->port)), ", answer within: 1 s");
    send_ids(0, 10000, 1000); /* more than the system of the first takes */
    wait_relay("sent", 10000);
    assert_true(sides[1]->messages > 0);
    wait_told("nothing was acknowledged for 1 s");
    sides[0]->deaf = false;
    end();
}

static void a_wrong_certificate_is_told_and_gets_nothing(void **state)
{
    struct ind_tls_fault fault;
    char certificate[300], key[300];
    (void)state;
    ind_make_certificates(folder);
    snprintf(certificate, sizeof certificate, "%s",
             ind_path(folder, "pier1-rtr.pem")); /* not for 127.0.0.1 */
    snprintf(key, sizeof key, "%s", ind_path(folder, "pier1-rtr.key"));
    struct ind_tls *tls =
        ind_tls_server_new(&(struct ind_tls_settings){.certificate = certificate, .key = key}, &fault);
    assert_non_null(tls);
    sides[0] = ind_other_side_new(tls, 0);
    begin_relay(target("tls", sides[0]->port), ", trust: authority.pem");
    send_ids(0, 100, 10);
    wait_told("relay-failed");
    assert_int_equal(of_relay("waiting"), 100);
    assert_int_equal(sides[0]->messages, 0);
    struct ind_ran ran = ind_run(folder, "status", NULL);
    assert_non_null(strstr(ran.out, "Look at: 1 relay has no target that answers"));
    assert_non_null(strstr(ran.out, "down for"));
    ind_ran_free(&ran);
    ran = ind_run(folder, "doctor", NULL);
    assert_int_equal(ran.status, 1);
    assert_non_null(strstr(ran.out, "the relay hq cannot reach tls:127.0.0.1"));
    ind_ran_free(&ran);
    end();
    ind_other_side_free(sides[0]);
    sides[0] = NULL;
    ind_tls_release(tls);
}

static void no_more_than_a_rate_is_sent(void **state)
{
    struct timespec begun, now;
    (void)state;
    sides[0] = ind_other_side_new(NULL, 0);
    begin_relay(target("tcp", sides[0]->port), ", at most: 400 kB/s");
    clock_gettime(CLOCK_MONOTONIC, &begun);
    send_ids(0, 1000, 1000); /* a bit more than 1.1 MB */
    wait_messages(sides[0], 1000);
    clock_gettime(CLOCK_MONOTONIC, &now);
    assert_true(now.tv_sec - begun.tv_sec >= 2);
    end();
}

/* The target is not there; what has no room is counted, and the rest comes once it is. */
static void what_has_no_room(const char *settings, bool newest)
{
    enum { COUNT = 5000 };
    const unsigned port = free_port();
    begin_relay(target("tcp", port), settings);
    for (unsigned i = 0; i < COUNT; i += 1000) {
        send_ids(i, 1000, 1000);
        wait_relay("taken", newest ? 0 : i + 1000);
        ind_other_nap(700); /* until it is on disk */
    }
    wait_relay(newest ? "not_taken" : "given_up", 1);
    json_t *object = status();
    const json_t *relay = json_array_get(json_object_get(object, "relays"), 0);
    const unsigned long lost = number(relay, newest ? "not_taken" : "given_up");
    assert_int_equal(number(relay, "taken"), newest ? COUNT - lost : COUNT);
    assert_int_equal(number(json_object_get(object, "ledger"), "lost_not_taken"), newest ? lost : 0);
    assert_true(number(relay, "disk_bytes") <= (2 << 20));
    json_decref(object);
    wait_told("relay-gave-up");
    sides[0] = ind_other_side_new(NULL, port);
    wait_messages(sides[0], (unsigned)(COUNT - lost));
    wait_relay("sent", COUNT - lost);
    assert_int_equal(sides[0]->seen[newest ? 0 : COUNT - 1], 1);
    assert_int_equal(sides[0]->seen[newest ? COUNT - 1 : 0], 0);
    assert_int_equal(of_relay("given_up"), newest ? 0 : lost);
    end_with(SIGTERM, newest ? 3 : 0);
}

static void the_oldest_are_given_up(void **state)
{
    (void)state;
    what_has_no_room(", waiting: {space: 1 MiB, give up: oldest}", false);
}

static void the_newest_are_not_taken(void **state)
{
    (void)state;
    what_has_no_room(", waiting: {space: 1 MiB, give up: newest}", true);
}

static void what_waits_outlives_the_end_and_goes_to_another_target(void **state)
{
    (void)state;
    begin_relay(target("tcp", free_port()), "");
    send_ids(0, 1000, 100);
    wait_relay("taken", 1000);
    end();
    running = ind_collect_start(folder);
    wait_relay("found", 1000);
    send_ids(1000, 500, 100);
    wait_relay("taken", 500);
    sides[0] = ind_other_side_new(NULL, 0);
    write_relay(target("tcp", sides[0]->port), "");
    reload_and_expect("\"routes\":2");
    send_ids(1500, 500, 100);
    wait_messages(sides[0], 2000);
    wait_relay("sent", 2000);
    for (unsigned i = 0; i < 2000; i++)
        assert_int_equal(sides[0]->seen[i], 1);
    assert_int_equal(of_relay("sent_again"), 0);
    write_relay(target("tcp", sides[0]->port), ", at most: 1 MB/s"); /* once more, with nothing waiting */
    reload_and_expect("\"routes\":2");
    send_ids(2000, 10, 100);
    wait_messages(sides[0], 2010);
    end();
}

static void a_queue_that_cannot_be_is_told(void **state)
{
    (void)state;
    struct ind_ran ran = ind_shell(folder, "mkdir -m 700 state; echo mine > state/relays");
    ind_ran_free(&ran);
    sides[0] = ind_other_side_new(NULL, 0);
    begin_relay(target("tcp", sides[0]->port), "");
    send_ids(0, 1000, 100);
    wait_messages(sides[0], 1000);
    wait_told("relay-queue");
    ran = ind_run(folder, "status", NULL);
    assert_non_null(strstr(ran.out, "hq: its queue on disk takes nothing: Not a directory"));
    ind_ran_free(&ran);
    assert_true(ind_file_holds(ind_path(folder, "state/relays"), "mine"));
    end();
}

/* The disk takes only a part: what it does not take waits in memory, and everything comes in its order. */
static void a_full_disk_is_told_and_loses_nothing_that_fits_memory(void **state)
{
    const unsigned port = free_port();
    (void)state;
    struct ind_ran ran = ind_shell(
        folder,
        "mkdir -p state/relays && chmod 700 state && mount -t tmpfs -o size=2m,mode=700 small state/relays");
    mounted = ran.status == 0;
    ind_ran_free(&ran);
    if (!mounted) {
        print_message("not tried: no small file system can be mounted here\n");
        return;
    }
    begin_relay(target("tcp", port), "");
    for (unsigned i = 0; i < 10000; i += 1000) {
        send_ids(i, 1000, 500); /* 7 MB in all */
        wait_relay("taken", i + 1000);
        ind_other_nap(100);
    }
    wait_told("takes nothing: No space left on device");
    sides[0] = ind_other_side_new(NULL, port);
    wait_relay("sent", 10000);
    assert_int_equal(of_relay("given_up") + of_relay("damaged") + of_relay("not_taken"), 0);
    for (unsigned i = 0; i < 10000; i++)
        assert_int_equal(sides[0]->seen[i], 1);
    end();
}

static void messages_from_files_wait_for_a_relay(void **state)
{
    enum { COUNT = 60000 };
    (void)state;
    FILE *file = fopen(ind_path(folder, "messages.txt"), "w");
    assert_non_null(file);
    for (unsigned i = 0; i < COUNT; i++)
        fprintf(file, "<134>1 - - trial - - - id=%u %0800d\n", i, 7); /* more than there is memory */
    fclose(file);
    sides[0] = ind_other_side_new(NULL, 0);
    write_relay(target("tcp", sides[0]->port), ", waiting: {space: 4 MiB}");
    struct ind_ran ran = ind_run(folder, "collect", "--from", "messages.txt", NULL);
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
    wait_messages(sides[0], COUNT);
    for (unsigned i = 0; i < COUNT; i++)
        assert_int_equal(sides[0]->seen[i], 1);
}

static bool loop_is_told(void *context)
{
    (void)context;
    return ind_file_holds(ind_path(folder, "log/all.log"), "relay-loop");
}

/* Two that pass on to each other. */
static void what_goes_in_a_circle_is_stopped(void **state)
{
    char config[2000], back[2000];
    (void)state;
    const unsigned port = free_port();
    const char *form = "store: log\nstate: state\nzone: UTC\nlisten:\n  - tcp: 127.0.0.1:%u\n" IND_QUIET
                       "devices:\n  - {name: neighbour, address: 127.0.0.1, relay: yes}\n"
                       "relays:\n  - {name: hq, to: \"tcp:127.0.0.1:%u\"}\n"
                       "routes:\n  - {name: on, when: app is \"trial\", to: {relay: hq}}\n"
                       "  - {name: all, file: all.log}\n";
    snprintf(config, sizeof config, form, 0u, port);
    begin(config);
    snprintf(back, sizeof back, form, port, ind_reported_port(&running, "tcp 127.0.0.1:"));
    other_folder = ind_folder_new();
    ind_write_file(ind_path(other_folder, "indagator.yaml"), back);
    other = ind_collect_start(other_folder);
    send_ids(0, 5, 10);
    wait_relay("looped", 5); /* after four rounds each */
    assert_int_equal(of_relay("taken"), 20);
    ind_wait_until(loop_is_told, NULL, "the circle is told");
    assert_int_equal(ind_collect_stop(&other, SIGTERM), 0);
    free(other.out);
    free(other.err);
    other.process = 0;
    struct ind_ran ran = ind_shell(other_folder, "grep -c id= log/all.log");
    assert_string_equal(ran.out, "20\n");
    ind_ran_free(&ran);
    ran = ind_shell(folder, "grep -c id= log/all.log; grep -c relay-loop log/all.log");
    assert_string_equal(ran.out, "25\n1\n");
    ind_ran_free(&ran);
    end();
}

static bool has_come(void *context)
{
    char buffer[4000];
    const int fd = ((int *)context)[0];
    const ssize_t got = recv(fd, buffer, sizeof buffer - 1, MSG_DONTWAIT);
    if (got <= 0)
        return false;
    buffer[got] = '\0';
    assert_non_null(strstr(buffer, "id="));
    assert_non_null(strstr(buffer, "hops=\"1\""));
    return ++((int *)context)[1] == 10;
}

static void datagrams_are_passed_on(void **state)
{
    (void)state;
    char unix_target[300];
    int udp = ind_udp_listen("127.0.0.1", 0, false);
    begin_relay(target("udp", ind_socket_port(udp)), "");
    send_ids(0, 10, 10);
    ind_wait_until(has_come, (int[2]){udp, 0}, "ten datagrams");
    wait_relay("sent", 10);
    close(udp);
    const int local = ind_unix_listen(ind_path(folder, "there"), 0600);
    assert_true(local >= 0);
    snprintf(unix_target, sizeof unix_target, "\"unix:%s\"", ind_path(folder, "there"));
    write_relay(unix_target, "");
    reload_and_expect("\"routes\":2");
    send_ids(10, 10, 10);
    ind_wait_until(has_come, (int[2]){local, 0}, "ten local datagrams");
    close(local);
    end();
}

/* An HTTP server that says one thing. */
struct probe {
    int listener;
    atomic_int status;
    atomic_bool ending;
};

static void *answer_probes(void *argument)
{
    struct probe *probe = argument;
    while (!probe->ending) {
        struct pollfd poller = {probe->listener, POLLIN, 0};
        char text[400];
        if (poll(&poller, 1, 20) != 1)
            continue;
        const int fd = accept(probe->listener, NULL, NULL);
        if (fd < 0 || recv(fd, text, sizeof text, 0) <= 0)
            continue;
        const int length =
            snprintf(text, sizeof text, "HTTP/1.1 %d x\r\nContent-Length: 0\r\nConnection: close\r\n\r\n",
                     probe->status);
        (void)send(fd, text, (size_t)length, MSG_NOSIGNAL);
        (void)shutdown(fd, SHUT_WR);
        close(fd);
    }
    return NULL;
}

static void a_probe_must_answer_200(void **state)
{
    pthread_t thread;
    char settings[100];
    (void)state;
    struct probe probe = {.listener = ind_tcp_listen("127.0.0.1", 0, false)};
    probe.status = 503;
    assert_int_equal(pthread_create(&thread, NULL, answer_probes, &probe), 0);
    sides[0] = ind_other_side_new(NULL, 0);
    snprintf(settings, sizeof settings, ", probe: \"http://{host}:%u/health\"",
             ind_socket_port(probe.listener));
    begin_relay(target("tcp", sides[0]->port), settings);
    send_ids(0, 10, 10);
    wait_told("its probe answers 503, not 200");
    assert_int_equal(sides[0]->connections, 0);
    probe.status = 200;
    wait_messages(sides[0], 10);
    end();
    probe.ending = true;
    pthread_join(thread, NULL);
    close(probe.listener);
}

static void what_was_received_is_passed_on_as_it_came(void **state)
{
    char got[400];
    (void)state;
    const int listener = ind_tcp_listen("127.0.0.1", 0, false);
    begin_relay(target("tcp", ind_socket_port(listener)), ", form: as received");
    struct pollfd poller = {listener, POLLIN, 0};
    assert_int_equal(poll(&poller, 1, 10000), 1);
    const int fd = accept(listener, NULL, NULL);
    const int from = open_to(IND_SEND_TCP, ind_reported_port(&running, "tcp 127.0.0.1:"), NULL);
#define MESSAGE "<13>Oct 11 22:14:15 mv-tern-ap1 trial: what\x01 \\n it\xff says"
    SAY(from, MESSAGE "\n");
    close(from);
    const char expected[] = "56 " MESSAGE;
    assert_int_equal(sizeof MESSAGE - 1, 56);
    assert_int_equal(recv(fd, got, sizeof expected - 1, MSG_WAITALL), sizeof expected - 1);
    assert_memory_equal(got, expected, sizeof expected - 1);
    close(fd);
    close(listener);
    end();
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(the_first_that_answers_is_used_and_returned_to, set_up, leave),
        cmocka_unit_test_setup_teardown(all_share_what_comes, set_up, leave),
        cmocka_unit_test_setup_teardown(who_accepts_and_never_reads_is_left, set_up, leave),
        cmocka_unit_test_setup_teardown(a_wrong_certificate_is_told_and_gets_nothing, set_up, leave),
        cmocka_unit_test_setup_teardown(no_more_than_a_rate_is_sent, set_up, leave),
        cmocka_unit_test_setup_teardown(the_oldest_are_given_up, set_up, leave),
        cmocka_unit_test_setup_teardown(the_newest_are_not_taken, set_up, leave),
        cmocka_unit_test_setup_teardown(what_waits_outlives_the_end_and_goes_to_another_target, set_up,
                                        leave),
        cmocka_unit_test_setup_teardown(a_queue_that_cannot_be_is_told, set_up, leave),
        cmocka_unit_test_setup_teardown(a_full_disk_is_told_and_loses_nothing_that_fits_memory, set_up,
                                        leave),
        cmocka_unit_test_setup_teardown(messages_from_files_wait_for_a_relay, set_up, leave),
        cmocka_unit_test_setup_teardown(what_goes_in_a_circle_is_stopped, set_up, leave),
        cmocka_unit_test_setup_teardown(datagrams_are_passed_on, set_up, leave),
        cmocka_unit_test_setup_teardown(a_probe_must_answer_200, set_up, leave),
        cmocka_unit_test_setup_teardown(what_was_received_is_passed_on_as_it_came, set_up, leave),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
