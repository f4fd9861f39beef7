/* What strangers may take at most, as the configuration says: each limit is kept, counted and told. */
#define _GNU_SOURCE
#include "support/live.h"

#define RULES "store: log\nstate: state\nzone: UTC\n"
#define ROUTE "routes:\n  - {name: all, when: 'app is not \"indagator\"', file: all.log}\n"

static void expect_end(int fd)
{
    char byte;
    assert_int_equal(recv(fd, &byte, 1, 0), 0);
    close(fd);
}

static unsigned long of_receivers(const char *key)
{
    json_t *object = status();
    const json_t *list = json_object_get(object, "receivers");
    unsigned long sum = 0;
    for (size_t i = 0; i < json_array_size(list); i++)
        sum += number(json_array_get(list, i), key);
    json_decref(object);
    return sum;
}

static void what_does_not_end_and_who_says_nothing_is_ended(void **state)
{
    (void)state;
    begin(RULES "limits: {unfinished: 1 s, idle: 2 s}\nlisten:\n  - tcp: 127.0.0.1:0\n" ROUTE);
    unsigned port = ind_reported_port(&running, "tcp 127.0.0.1:");
    int half = open_to(IND_SEND_TCP, port, NULL), silent = open_to(IND_SEND_TCP, port, NULL);
    SAY(half, "<13>1 - - - - - - half a mess");
    SAY(silent, "<13>1 - - - - - - whole\n");
    expect_end(half);
    expect_end(silent);
    assert_int_equal(of_receivers("connections_unfinished"), 1);
    assert_int_equal(of_receivers("connections_idle"), 1);
    assert_int_equal(of_receivers("connections"), 0);
    assert_true(ind_file_holds(running.err, "has not ended within the 1 s of \"unfinished\" under limits"));
    struct ind_ran ran = ind_run(folder, "status", NULL);
    assert_non_null(strstr(ran.out, "2 ended for a message that did not end, or for silence"));
    ind_ran_free(&ran);
    end();
    assert_true(ind_file_holds(ind_path(folder, "log/all.log"), "half a mess"));
    assert_true(ind_file_holds(ind_path(folder, "log/all.log"), " whole\n"));
}

static void a_message_is_cut_at_the_size_that_is_set_over_every_transport(void **state)
{
    static const char *const kinds[] = {"udp", "tcp"};
    char text[2000];
    (void)state;
    begin(RULES "limits: {message: 480}\nlisten:\n  - udp: 127.0.0.1:0\n  - tcp: 127.0.0.1:0\n"
                "routes:\n  - {name: u, when: 'transport is \"udp\"', file: udp.log, layout: raw}\n"
                "  - {name: t, when: 'transport is \"tcp\"', file: tcp.log, layout: raw}\n");
    memset(text, 'x', sizeof text);
    memcpy(text, "<13>", 4);
    text[sizeof text - 1] = '\n';
    int udp = open_to(IND_SEND_UDP, running.port, NULL),
        tcp = open_to(IND_SEND_TCP, ind_reported_port(&running, "tcp 127.0.0.1:"), NULL);
    say(udp, text, sizeof text);
    say(tcp, text, sizeof text);
    SAY(tcp, "<13>the next\n");
    close(udp);
    close(tcp);
    end();
    for (int i = 0; i < 2; i++) {
        char name[40];
        size_t length;
        snprintf(name, sizeof name, "log/%s.log", kinds[i]);
        char *lines = ind_read_file(ind_path(folder, name), &length);
        assert_non_null(lines);
        assert_int_equal(strchr(lines, '\n') - lines, 480);
        free(lines);
    }
    assert_true(ind_file_holds(ind_path(folder, "log/tcp.log"), "\n<13>the next\n"));
}

/* Also by a reload, and for those who are in already: they stay. */
static void connections_are_turned_away_beyond_the_limit_of_an_address(void **state)
{
    (void)state;
    begin(RULES "limits: {connections: 10, per address: 2}\nlisten:\n  - tcp: 127.0.0.1:0\n" ROUTE);
    unsigned port = ind_reported_port(&running, "tcp 127.0.0.1:");
    int first = open_to(IND_SEND_TCP, port, NULL), second = open_to(IND_SEND_TCP, port, NULL);
    expect_end(open_to(IND_SEND_TCP, port, NULL));
    int other = open_to(IND_SEND_TCP, port, "127.0.0.2");
    SAY(other, "<13>1 - - - - - - other\n");
    ind_write_file(ind_path(folder, "indagator.yaml"),
                   RULES "limits: {connections: 10, per address: 1}\nlisten:\n  - tcp: 127.0.0.1:0\n" ROUTE);
    reload_and_expect("\"listeners\":1");
    expect_end(open_to(IND_SEND_TCP, port, "127.0.0.2"));
    SAY(first, "<13>1 - - - - - - first\n");
    SAY(second, "<13>1 - - - - - - second\n");
    json_t *object = status();
    const json_t *connections = json_object_get(object, "connections");
    assert_int_equal(number(connections, "accepted"), 3);
    assert_int_equal(number(connections, "turned_away"), 2);
    assert_int_equal(number(connections, "not_allowed"), 0);
    json_decref(object);
    close(first);
    close(second);
    close(other);
    end();
    size_t length;
    char *lines = ind_read_file(ind_path(folder, "log/all.log"), &length);
    assert_non_null(lines);
    assert_true(strstr(lines, "first") && strstr(lines, "second") && strstr(lines, "other"));
    free(lines);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(what_does_not_end_and_who_says_nothing_is_ended, set_up, tear_down),
        cmocka_unit_test_setup_teardown(a_message_is_cut_at_the_size_that_is_set_over_every_transport, set_up,
                                        tear_down),
        cmocka_unit_test_setup_teardown(connections_are_turned_away_beyond_the_limit_of_an_address, set_up,
                                        tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
