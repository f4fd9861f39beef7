/* The built program against senders, files and callers that mean harm: nothing stops it, hides, passes for
 * another's, or is answered wrongly. */
#define _GNU_SOURCE
#include "support/live.h"

#include <sys/stat.h>
#include <sys/un.h>

static bool all_stored(void *context)
{
    const unsigned long *wanted = context;
    json_t *object = status();
    bool stored = number(json_object_get(object, "ledger"), "stored") >= *wanted;
    json_decref(object);
    return stored;
}

/* Messages of our own are among them. */
static void wait_stored(unsigned long wanted)
{
    ind_wait_until(all_stored, &wanted, "all is stored");
}

static void expect_lines(const char *file, const char *condition, int exit_code, const char *expected)
{
    struct ind_ran ran = condition ? ind_run(folder, "search", "--count", "--when", condition, file, NULL)
                                   : ind_run(folder, "search", "--count", file, NULL);
    if (ran.status != exit_code || strcmp(ran.out, expected) != 0)
        print_error("%s: %d %s%s", condition ? condition : "everything", ran.status, ran.out, ran.err);
    assert_int_equal(ran.status, exit_code);
    assert_string_equal(ran.out, expected);
    ind_ran_free(&ran);
}

/* ---- It cannot be stopped ---- */

static void a_message_that_no_batch_has_room_for_is_cut_and_hangs_nothing(void **state)
{
    static char message[65000];
    (void)state;
    begin("store: log\nstate: state\nzone: UTC\nlisten:\n  - udp: 127.0.0.1:0\n"
          "edits:\n  - {name: l, label: {l: \"{text}\"}}\nroutes:\n  - {name: j, file: j.log, layout: json}\n"
          "  - {name: t, file: t.log, layout: \"{text}{text}{text}{text}{text}\"}\n");
    int fd = open_to(IND_SEND_UDP, running.port, NULL);
    memset(message, 1, sizeof message);
    memcpy(message, "<34>", 4);
    for (int i = 0; i < 8; i++) {
        say(fd, message, sizeof message);
        SAY(fd, "<34>after");
    }
    wait_stored(16);
    json_t *object = status(), *route;
    size_t i;
    json_array_foreach(json_object_get(object, "routes"), i, route)
    {
        assert_int_equal(number(route, "messages"), 16);
        assert_int_equal(number(route, "cut"), 8);
    }
    json_decref(object);
    end();
    close(fd);
    /* Every line is one: none is glued to the next. What was cut is not answered for. */
    expect_lines("log/j.log", NULL, 0, "16\n");
    expect_lines("log/t.log", NULL, 0, "16\n");
    expect_lines("log/j.log", "severity is critical", 0, "16\n");
    expect_lines("log/j.log", "app is absent and severity is critical", 3, "16\n");
    struct ind_ran ran = ind_shell(folder, "wc -l < log/t.log; grep -c ' .x.cut.$' log/t.log; "
                                           "grep -c '\"line_cut\":true' log/j.log");
    assert_string_equal(ran.out, "16\n8\n8\n");
    ind_ran_free(&ran);
}

/* ---- Nobody passes for another ---- */

static void a_stranger_that_bears_a_configured_name_is_filed_as_itself(void **state)
{
    (void)state;
    begin("store: log\nstate: state\nzone: UTC\nlisten:\n  - udp: 127.0.0.1:0\n"
          "devices:\n  - {name: core-fw, address: 127.0.0.9, labels: {site: harbour}}\n"
          "  - {name: hq-relay, address: 127.0.0.200, relay: yes}\nroutes:\n"
          "  - {name: fw, when: 'device is \"core-fw\" or label site is \"harbour\"', file: fw.log}\n"
          "  - {name: all, file: \"by/{device}.log\"}\n");
    static const char *const from[] = {"127.0.0.9", "127.0.0.77", "127.0.0.77", "127.0.0.200"};
    static const char *const texts[] = {
        "<34>Nov 23 04:45:00 core-fw su: own", "<34>Nov 23 04:45:00 CORE-FW su: forged",
        "<34>Nov 23 04:45:00 other su: unknown", "<34>Nov 23 04:45:00 core-fw su: relayed"};
    for (int i = 0; i < 4; i++) {
        int fd = open_to(IND_SEND_UDP, running.port, from[i]);
        say(fd, texts[i], strlen(texts[i]));
        close(fd);
    }
    wait_stored(4);
    json_t *object = status(), *stranger = json_array_get(json_object_get(object, "unknown_senders"), 0);
    json_t *claim = json_array_get(json_object_get(stranger, "claims"), 0);
    assert_string_equal(json_string_value(json_object_get(stranger, "sender")), "127.0.0.77");
    assert_string_equal(json_string_value(json_object_get(claim, "device")), "core-fw");
    assert_string_equal(json_string_value(json_object_get(claim, "configured_at")), "127.0.0.9");
    assert_int_equal(json_array_size(json_object_get(stranger, "hosts")), 1);
    json_t *row;
    size_t i;
    json_array_foreach(json_object_get(object, "devices"), i,
                       row) if (strcmp(json_string_value(json_object_get(row, "device")), "core-fw") == 0)
        assert_int_equal(number(row, "received"), 2);
    json_decref(object);
    struct ind_ran ran = ind_run(folder, "status", NULL);
    assert_non_null(strstr(ran.out, "calls itself core-fw, which is configured at 127.0.0.9"));
    ind_ran_free(&ran);
    assert_true(
        ind_file_holds(running.err, "127.0.0.77 calls itself core-fw, which is configured at 127.0.0.9"));
    end();
    expect_lines("log/fw.log", NULL, 0, "2\n");
    expect_lines("log/by/127.0.0.77.log", "host is \"core-fw\" and text is \"forged\"", 0, "1\n");
    expect_lines("log/by/other.log", NULL, 0, "1\n");
    /* Searched by label it is as it was filed by label, in all files together: two routes took each. */
    ran = ind_run(folder, "search", "--count", "--when", "label site is \"harbour\"", NULL);
    assert_string_equal(ran.out, "4\n");
    ind_ran_free(&ran);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
#define in_a_folder(test) cmocka_unit_test_setup_teardown(test, set_up, tear_down)
        in_a_folder(a_message_that_no_batch_has_room_for_is_cut_and_hangs_nothing),
        in_a_folder(a_stranger_that_bears_a_configured_name_is_filed_as_itself),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
