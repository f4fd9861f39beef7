/* The built program, `explain`; and what collect makes of the same rules. */
#include "support/support.h"

#include <jansson.h>
#include <signal.h>
#include <string.h>

static const char rules[] = "store: log\nstate: state\ndomain: skerry.example\n"
                            "allow: [192.0.2.0/24]\n"
                            "devices:\n"
                            "  - from: devices.csv\n"
                            "  - {name: hq-relay, address: 192.0.2.200, relay: yes}\n"
                            "conditions:\n"
                            "  trouble: severity at least warning\n"
                            "  scan: field DPT in (\"22\", \"23\") and field SRC within 203.0.113.0/24\n"
                            "routes:\n"
                            "  - {name: scans, when: scan and trouble, file: \"scans/{field SRC}.log\"}\n"
                            "  - {name: crew, when: 'label site is \"ship\" or host ends with \"-ap1\"', "
                            "file: crew.log, layout: json}\n"
                            "  - {name: fw, when: facility is local4, file: \"fw/{device}.log\", last: yes}\n"
                            "  - {name: rest, when: not text mentions \"poll\", file: \"{facility}.log\"}\n";

static char *folder_with_rules(void)
{
    char *folder = ind_folder_new();
    ind_write_file(ind_path(folder, "indagator.yaml"), rules);
    ind_write_file(ind_path(folder, "devices.csv"), "name,address,site,host\n"
                                                    "harbour-fw,192.0.2.9 2001:db8::9,harbour,hfw\n"
                                                    "mv-tern-ap1,192.0.2.70-192.0.2.72,ship,\n");
    return folder;
}

static void check(const char *folder, struct ind_ran ran, const char *const *expected)
{
    (void)folder;
    assert_int_equal(ran.status, 0);
    assert_string_equal(ran.err, "");
    for (const char *from = ran.out; *expected; expected++) {
        const char *found = strstr(from, *expected);
        if (!found)
            print_error("\"%s\" is not in, or not in its place in:\n%s\n", *expected, ran.out);
        assert_non_null(found);
        from = found + strlen(*expected);
    }
    ind_ran_free(&ran);
}

static void every_step_is_told_with_what_it_saw(void **state)
{
    static const char *const expected[] = {
        "<164>Nov 23 04:45:00 hfw kernel: DENY IN=ge0 SRC=203.0.113.7 DPT=23\n",
        "^^^^^~~~~~~~~~~~~~~~ ^^^ ~~~~~~  ^^^^^^",
        "PRI  timestamp       |   app     text\n                     host\n",
        "rfc3164: a time follows the PRI",
        "164: local4, warning",
        "sent      2026-11-23T04:45:00.000000Z, written \"Nov 23 04:45:00\"",
        "2026-11-23T04:45:02.000000Z, 2 s later",
        "Device      harbour-fw: its sender is configured as that",
        "site is \"harbour\"",
        "Payload     key=value, 3 fields",
        "SRC       203.0.113.7",
        "trouble   yes  severity at least warning (it is warning)",
        "scans     yes  into scans/203.0.113.7.log",
        "scan: field DPT in (\"22\", \"23\") (it is 23)",
        "crew      no   label site is \"ship\" (it is harbour)",
        "host ends with \"-ap1\" (it is hfw)",
        "fw        yes  into fw/harbour-fw.log",
        "rest      not asked: \"fw\" took it, and is last",
        "stored, in 2 files",
        NULL};
    char *folder = folder_with_rules();
    (void)state;
    check(folder,
          ind_run(folder, "explain", "--sender", "192.0.2.9", "--received", "2026-11-23T04:45:02Z",
                  "<164>Nov 23 04:45:00 hfw kernel: DENY IN=ge0 SRC=203.0.113.7 DPT=23", NULL),
          expected);
    static const char *const refused[] = {"no configured device; that is what it calls itself",
                                          "refused: its sender is not under allow:", NULL};
    check(folder, ind_run(folder, "explain", "--sender", "203.0.113.1", "<14>1 - hfw a - - - x", NULL),
          refused);
    static const char *const relayed[] = {"mv-tern-ap1: the address in its structured data \"origin\"",
                                          "crew      yes  into crew.log", NULL};
    check(folder,
          ind_run(folder, "explain", "--sender", "192.0.2.200",
                  "<14>1 - elsewhere a - - [origin ip=\"192.0.2.71\"] x", NULL),
          relayed);
    static const char *const broken[] = {"malformed structured data: where the structured data should be",
                                         NULL};
    check(folder, ind_run(folder, "explain", "<14>1 - elsewhere a - - text", NULL), broken);
    ind_folder_remove(folder);
}

static void a_message_cannot_drive_the_terminal(void **state)
{
    char *folder = folder_with_rules();
    (void)state;
    struct ind_ran ran =
        ind_run(folder, "explain", "<14>Nov 23 04:45:00 h\x1b[2Jst a: x\x07\xff=\x9b k=\x1b", NULL);
    assert_int_equal(ran.status, 0);
    for (const char *c = ran.out; *c; c++)
        assert_true((unsigned char)*c >= ' ' || *c == '\n');
    assert_non_null(strstr(ran.out, "h\\x1b[2Jst"));
    ind_ran_free(&ran);
    ind_folder_remove(folder);
}

/* Each message goes where explain says: the same core decides. */
static void explain_and_collect_agree(void **state)
{
    char *folder = folder_with_rules();
    size_t taken = 0, unrouted = 0, messages = 0;
    (void)state;
    struct ind_ran ran = ind_run(folder, "collect", "--from", IND_SOURCE_FOLDER "/demo/messages.log", NULL);
    assert_int_equal(ran.status, 0);
    size_t lines = ind_count_lines(folder);
    ind_ran_free(&ran);
    ran = ind_run(folder, "explain", "--json", "--from", IND_SOURCE_FOLDER "/demo/messages.log", NULL);
    assert_int_equal(ran.status, 0);
    for (char *line = strtok(ran.out, "\n"); line; line = strtok(NULL, "\n"), messages++) {
        json_t *object = json_loads(line, 0, NULL), *route;
        size_t i;
        assert_non_null(object);
        json_array_foreach(json_object_get(object, "routes"), i, route) taken +=
            strcmp(json_string_value(json_object_get(route, "takes")), "yes") == 0;
        unrouted += strncmp(json_string_value(json_object_get(object, "ends")), "unrouted", 8) == 0;
        json_decref(object);
    }
    assert_int_equal(taken, lines);
    assert_true(messages > 500 && unrouted > 0 && taken > messages / 2);
    ind_ran_free(&ran);
    ind_folder_remove(folder);
}

static void fields_and_labels_are_kept_and_found_again(void **state)
{
    char *folder = folder_with_rules();
    (void)state;
    ind_write_file(ind_path(folder, "in"),
                   "<14>Nov 23 04:45:00 mv-tern-ap1 wland: %AP-4-LEFT: station=02:00:5e:20:00:2b signal=-79\n"
                   "<14>12: Nov 23 04:45:01: %AP-4-LEFT: reason=\"too far\"\n"
                   "<164>Nov 23 04:45:02 hfw kernel: DENY SRC=203.0.113.7 DPT=23\n");
    struct ind_ran ran = ind_run(folder, "collect", "--from", "in", NULL);
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
    char *stored = ind_read_file(ind_path(folder, "log/crew.log"), NULL);
    assert_non_null(strstr(stored,
                           "\"fields\":{\"code_group\":\"AP\",\"code_severity\":\"4\",\"code_name\":\"LEFT\","
                           "\"station\":\"02:00:5e:20:00:2b\",\"signal\":\"-79\"}"));
    assert_non_null(strstr(stored, "\"labels\":{\"site\":\"ship\"}"));
    free(stored);
    static const struct {
        const char *when, *count;
    } cases[] = {
        {"field code_name is \"LEFT\"", "3\n"}, /* one of them is in two files */
        {"field signal at most -70", "2\n"},
        {"field SRC within 203.0.113.0/24", "2\n"},
        {"label site is \"harbour\"", "2\n"},
        {"label site is \"ship\" and text matches 'station=\\S+'", "2\n"},
        {"msgid is absent and procid is absent", "5\n"},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        ran = ind_run(folder, "search", "--count", "--copies", "--when", cases[i].when, NULL);
        if (strcmp(ran.out, cases[i].count) != 0)
            print_error("%s: %s%s\n", cases[i].when, ran.out, ran.err);
        assert_string_equal(ran.out, cases[i].count);
        ind_ran_free(&ran);
    }
    /* What a layout does not hold is told. */
    ran = ind_run(folder, "search", "--count", "--when", "transport is \"udp\"", NULL);
    assert_int_equal(ran.status, 3);
    assert_non_null(strstr(ran.err, "the field \"transport\""));
    ind_ran_free(&ran);
    ind_folder_remove(folder);
}

static bool tells_the_clock(void *context)
{
    struct ind_ran ran = ind_run(context, "status", "--json", NULL);
    bool told = strstr(ran.out, "\"clock\":\"5 h 00 min behind: is its zone set?\"") &&
                strstr(ran.out, "\"clock\":\"never set\"") && strstr(ran.out, "\"lag_spread\":") &&
                strstr(ran.out, "\"formats\":{\"rfc5424\":4,\"rfc3164\":0,\"bare\":0}");
    ind_ran_free(&ran);
    return told;
}

/* A device whose zone is wrong, and one whose clock was never set, seen by a running collector. */
static void status_tells_whose_clock_is_off(void **state)
{
    char *folder = ind_folder_new();
    (void)state;
    ind_write_file(
        ind_path(folder, "indagator.yaml"),
        "store: log\nstate: state\nlisten:\n  - udp: 127.0.0.1:0\nroutes:\n  - {name: a, file: a.log}\n");
    struct ind_running running = ind_collect_start(folder);
    for (int i = 0; i < 4; i++) {
        struct ind_ran ran = ind_shell(folder,
                                       "t=$(date -u -d '-5 hours' +%%Y-%%m-%%dT%%H:%%M:%%SZ); "
                                       "printf '<14>1 %%s mv-tern-rtr a - - - x\\n<14>7: mv-auk-ap1: *Mar  1 "
                                       "00:00:12: %%%%A-6-B: x\\n' $t > in; "
                                       "%s emit --to udp:127.0.0.1:%u --from in",
                                       IND_PROGRAM, running.port);
        assert_int_equal(ran.status, 0);
        ind_ran_free(&ran);
    }
    ind_wait_until(tells_the_clock, folder, "status tells both clocks");
    assert_int_equal(ind_collect_stop(&running, SIGTERM), 0);
    free(running.out);
    free(running.err);
    ind_folder_remove(folder);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(every_step_is_told_with_what_it_saw),
        cmocka_unit_test(a_message_cannot_drive_the_terminal),
        cmocka_unit_test(explain_and_collect_agree),
        cmocka_unit_test(fields_and_labels_are_kept_and_found_again),
        cmocka_unit_test(status_tells_whose_clock_is_off),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
