/* What the status tells of one device, against what was sent, the files, and the status of all. */
#define _GNU_SOURCE
#include "support/live.h"
#include "support/random.h"

#define RULES                                                                                                \
    "store: log\nstate: state\nzone: UTC\ndomain: skerry.example\nlisten: [{udp: 127.0.0.1:0}]\n"            \
    "allow: [127.0.0.0/16]\n"                                                                                \
    "devices:\n"                                                                                             \
    "  - {name: pier1-rtr, address: [127.0.0.5, 127.0.9.0/24], host: [p1], labels: {site: pier1}}\n"         \
    "  - {name: pier2-rtr, address: 127.0.0.6, zone: Europe/Lisbon}\n"                                       \
    "  - {name: pier3-rtr, address: 127.0.0.7}\n"                                                            \
    "edits:\n"                                                                                               \
    "  - {name: hide, mask: phone}\n"                                                                        \
    "  - {name: chatter, when: 'app is \"dhcpd\"', drop: yes}\n"                                             \
    "routes:\n"                                                                                              \
    "  - {name: own, when: 'app is \"indagator\"', file: own.log, last: yes}\n"                              \
    "  - {name: trouble, when: severity at least warning, file: trouble.log}\n"                              \
    "  - {name: rest, when: 'not app is \"nobody\"', file: rest.log}\n"

static json_t *about(const char *device)
{
    struct ind_ran ran = ind_run(folder, "status", "--json", device, NULL);
    json_error_t error;
    if (ran.status != 0)
        print_error("%s", ran.err);
    assert_int_equal(ran.status, 0);
    json_t *object = json_loads(ran.out, 0, &error);
    assert_non_null(object);
    ind_ran_free(&ran);
    return object;
}

static bool all_received(void *context)
{
    json_t *object = status();
    const json_t *ledger = json_object_get(object, "ledger");
    const unsigned long expected = *(const unsigned long *)context;
    const json_t *listener;
    size_t i;
    unsigned long received = 0;
    json_array_foreach(json_object_get(object, "listeners"), i,
                       listener) if (strcmp(json_string_value(json_object_get(listener, "listener")),
                                            "internal") != 0) received += number(listener, "received");
    const bool all = received == expected && number(ledger, "waiting") == 0;
    json_decref(object);
    return all;
}

static unsigned long taken_by(const json_t *device, const char *name)
{
    const json_t *route;
    size_t i;
    json_array_foreach(json_object_get(device, "routes"), i,
                       route) if (strcmp(json_string_value(json_object_get(route, "route")), name) ==
                                  0) return number(route, "messages");
    return 0;
}

/* What was sent of one device. */
struct sent {
    unsigned long severities[8], dropped, trouble, rest, all;
    char last[80];
};

static void expect_same(const char *name, const struct sent *sent)
{
    static const char *const severities[] = {"emergency", "alert",  "critical", "error",
                                             "warning",   "notice", "info",     "debug"};
    json_t *device = about(name);
    for (int i = 0; i < 8; i++)
        assert_int_equal(number(json_object_get(device, "severities"), severities[i]), sent->severities[i]);
    assert_int_equal(number(device, "received"), sent->all);
    assert_int_equal(number(device, "noted"), sent->all); /* there is little to do */
    assert_int_equal(number(device, "dropped"), sent->dropped);
    assert_int_equal(taken_by(device, "rest"), sent->rest);
    assert_int_equal(taken_by(device, "trouble"), sent->trouble);
    const json_t *last = json_object_get(device, "last_messages"),
                 *newest = json_array_get(last, json_array_size(last) - 1);
    assert_non_null(strstr(json_string_value(json_object_get(newest, "line")), sent->last));
    json_decref(device);
}

static void expect_addresses_and_names(void)
{
    json_t *one = about("pier1-rtr"), *other = about("127.0.0.5"), *by_host = about("P1.skerry.example");
    assert_int_equal(number(one, "received"), number(other, "received"));
    assert_string_equal(json_string_value(json_object_get(by_host, "device")), "pier1-rtr");
    const json_t *configured = json_object_get(one, "configured");
    assert_string_equal(json_string_value(json_array_get(json_object_get(configured, "addresses"), 1)),
                        "127.0.9.0/24");
    assert_string_equal(json_string_value(json_array_get(json_object_get(configured, "hosts"), 0)), "p1");
    assert_string_equal(json_string_value(json_object_get(json_object_get(configured, "labels"), "site")),
                        "pier1");
    json_decref(one);
    json_decref(other);
    json_decref(by_host);
}

static void numbers_are_those_that_were_sent(void **state)
{
    enum { DEVICES = 2, MESSAGES = 600, DROPPED = 1, NOBODY = 2 };
    (void)state;
    static const char *const apps[] = {"sshd", "dhcpd", "nobody", "kernel", "ospfd"};
    static const char *const names[DEVICES] = {"pier1-rtr", "pier2-rtr"};
    struct sent all_sent[DEVICES];
    unsigned long all = 0;
    uint64_t random = IND_RANDOM_START;
    memset(all_sent, 0, sizeof all_sent);
    begin(RULES);
    int from[DEVICES] = {open_to(IND_SEND_UDP, running.port, "127.0.0.5"),
                         open_to(IND_SEND_UDP, running.port, "127.0.0.6")};
    for (int i = 0; i < MESSAGES; i++) {
        const unsigned device = ind_random(&random, DEVICES), app = ind_random(&random, 5),
                       severity = ind_random(&random, 8);
        struct sent *sent = &all_sent[device];
        char text[200], word[32];
        snprintf(word, sizeof word, "text %d", i);
        int length = snprintf(text, sizeof text, "<%u>1 - - %s - - - %s", 16 * 8 + severity, apps[app], word);
        say(from[device], text, (size_t)length);
        sent->severities[severity]++;
        sent->dropped += app == DROPPED;
        sent->trouble += app != DROPPED && severity <= 4;
        sent->rest += app != DROPPED && app != NOBODY;
        sent->all++;
        snprintf(sent->last, sizeof sent->last, "%s",
                 app == DROPPED ? "(dropped by the edit chatter)" : word);
        all++;
        if (i % 50 == 49)
            ind_wait_until(all_received, &all, "all are received");
        if (i == MESSAGES / 2)
            reload_and_expect("\"routes\":3"); /* counts go on */
    }
    ind_wait_until(all_received, &all, "all are received");
    for (int i = 0; i < DEVICES; i++) {
        close(from[i]);
        expect_same(names[i], &all_sent[i]);
    }
    expect_addresses_and_names();
    end();
}

/* Neither what a mask hides nor what a stranger sends to drive a terminal. */
static void nothing_hidden_is_told(void **state)
{
    (void)state;
    begin(RULES);
    int known = open_to(IND_SEND_UDP, running.port, "127.0.0.5"),
        stranger = open_to(IND_SEND_UDP, running.port, "127.0.0.99"),
        refused = open_to(IND_SEND_UDP, running.port, "127.1.0.1");
    SAY(known, "<13>1 - - app - - - call +1 202 555 0142 now");
    SAY(known, "<13>1 - - dhcpd - - - also +1 202 555 0142");
    SAY(stranger, "<13>1 - \x1b[31mevil\" a\x07pp - - - \x1b]0;x\x07 \xff\xfe");
    SAY(refused, "<13>1 - - a - - - b");
    unsigned long all = 4;
    ind_wait_until(all_received, &all, "all are received");
    close(known);
    close(stranger);
    close(refused);
    struct ind_ran ran = ind_run(folder, "status", "pier1-rtr", NULL);
    assert_int_equal(ran.status, 0);
    if (strstr(ran.out, "0142") || !strstr(ran.out, "call *") ||
        !strstr(ran.out, "(dropped by the edit chatter)"))
        fail_msg("%s", ran.out);
    ind_ran_free(&ran);
    ran = ind_run(folder, "status", "127.0.0.99", NULL);
    assert_int_equal(ran.status, 0);
    if (strchr(ran.out, 0x1b) || strchr(ran.out, 7) || !strstr(ran.out, "evil") ||
        !strstr(ran.out, "devices:"))
        fail_msg("%s", ran.out);
    ind_ran_free(&ran);
    ran = ind_run(folder, "status", "127.1.0.1", NULL);
    assert_non_null(strstr(ran.out, "not under allow:"));
    ind_ran_free(&ran);
    ran = ind_run(folder, "status", "pier3-rtr", NULL);
    assert_non_null(strstr(ran.out, "nothing has come from it since the start"));
    ind_ran_free(&ran);
    ran = ind_run(folder, "status", "pier7-rtr", NULL);
    assert_int_equal(ran.status, 1);
    assert_non_null(strstr(ran.err, "nothing is known of \"pier7-rtr\""));
    ind_ran_free(&ran);
    ran = ind_run(folder, "status", "pier1-rtr", "pier3-rtr", NULL);
    assert_int_equal(ran.status, 2);
    ind_ran_free(&ran);
    end();
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(numbers_are_those_that_were_sent, set_up, tear_down),
        cmocka_unit_test_setup_teardown(nothing_hidden_is_told, set_up, tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
