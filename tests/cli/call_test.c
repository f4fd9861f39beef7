/* The built program: calls that are wrong, help, check, emit, the demo. */
#include "support/support.h"

#include "net/socket.h"
#include "net/udp.h"

#include <signal.h>
#include <unistd.h>

static char *folder;

static int set_up(void **state)
{
    (void)state;
    folder = ind_folder_new();
    ind_write_file(ind_path(folder, "indagator.yaml"),
                   "store: log\nstate: state\nlisten:\n  - udp: 127.0.0.1:0\n");
    return 0;
}

static int tear_down(void **state)
{
    (void)state;
    ind_folder_remove(folder);
    return 0;
}

static void wrong_calls_say_what_to_do(void **state)
{
    static const struct {
        const char *call, *told;
    } cases[] = {
        {"", "Usage: indagator COMMAND"},
        {"colect", "unknown command \"colect\"; did you mean \"collect\"?"},
        {"collect --frm x", "--frm: unknown option; see \"indagator collect --help\""},
        {"collect x", "\"x\": files follow --from"},
        {"collect --from", "--from: which files? \"-\" is standard input"},
        {"collect --as plain", "--received, --sender and --as go with --from"},
        {"collect --from x --as plane", "--as: unknown layout \"plane\""},
        {"collect --from x --sender here", "--sender: \"here\" is not an address"},
        {"collect --from x --received soon", "--received: \"soon\" is not a time"},
        {"collect -c nowhere.yaml", "cannot read the configuration nowhere.yaml: No such file"},
        {"check x.yaml", "name the configuration with -c x.yaml"},
        {"check -c", "-c: a value is missing"},
        {"search --when severity", "--when:1:9: after severity expected is"},
        {"search --since tomorrow", "--since: \"tomorrow\" is not a time"},
        {"search --by 'no colour'", "--by: unknown field \"no colour\""},
        {"search --by day/24", "--by: unknown field \"day/24\""},
        {"search --by 'data x'", "--by: unknown field \"data x\""},
        {"search --by facilty", "--by: unknown field \"facilty\"; did you mean \"facility\"?"},
        {"search --top 3", "--top goes with --by"},
        {"search --share", "--share goes with --by"},
        {"search --by host --reverse", "--reverse is of lines, and --by prints none"},
        {"search --every hour --layout json", "--layout is of lines, and --every prints none"},
        {"search --every '7 min'", "--every: \"7 min\" is no step of time"},
        {"search --around 12:00 --since 11:00", "--around tells a span"},
        {"search --within 2min", "--within goes with --around"},
        {"search --around 12:00 --within soon", "--within: \"soon\" is not a span"},
        {"search --csv --json", "--csv and --json say the opposite"},
        {"search --csv --count", "--csv is of lines and groups"},
        {"search --columns device --layout json", "--layout and --columns both say how lines are printed"},
        {"search --columns hour", "--columns: unknown field \"hour\""},
        {"search --by host --sort sum", "--sort sum goes with --sum"},
        {"search --by host --sort colour", "--sort: unknown order \"colour\""},
        {"search --by host --sum hour", "--sum: \"hour\" is a time"},
        {"search --context 0", "--context: a number from 1"},
        {"search --context 2 --first 1", "--context shows more than is found"},
        {"search --by host --against 2026-11-23", "--against: \"2026-11-23\" is no span"},
        {"search --by host --against 2026-11-24..2026-11-22", "is not before"},
        {"search --factor 2", "--factor goes with --against"},
        {"search --by host --against 2026-11-22..2026-11-23 --factor 0.5", "--factor: a number from 1 on"},
        {"search --by host --against 2026-11-22..2026-11-23 --factor nan", "--factor: a number from 1 on"},
        {"search --color blue", "--color: \"blue\" is none of"},
        {"follow --when 'severity is error' --when 'severity = 3'", "--when:1:10:"},
        {"follow --by host --layout json", "--layout is of lines, and --by prints none"},
        {"follow --last -1", "--last: a number from 1"},
        {"search --first 0", "--first and --last: a number from 1 on"},
        {"search --last -1", "--first and --last: a number from 1 on"},
        {"search --first 2 --last 2", "--first and --last say the opposite"},
        {"search --last 2 --count", "--last is of lines, and --count prints none"},
        {"search --by host --top x", "x: this is no number"},
        {"search --layout xml", "--layout: unknown layout \"xml\""},
        {"search --layout {tme}", "--layout: unknown placeholder {tme}; did you mean {time}?"},
        {"rotate now", "rotate takes no arguments"},
        {"emit text", "where to? give --to"},
        {"emit --to ftp:127.0.0.1:1 text", "is not a target"},
        {"emit --to tcp:127.0.0.1:1 --trust FILE text", "go with --to tls:HOST:PORT"},
        {"emit --to tls:127.0.0.1:1 --key FILE text", "--certificate and --key go together"},
        {"emit --to tls:127.0.0.1:1 --trust ./none.pem text", "./none.pem: cannot be read: No such file"},
        {"emit --to tcp: text", "is not a target"},
        {"emit --to udp:127.0.0.1:9 --framing octets x", "--framing: unknown framing \"octets\""},
        {"emit --to udp:127.0.0.1:9 --to tcp:127.0.0.1:9 x", "several --to go with --fleet only"},
        {"emit --to udp:127.0.0.1:9 --fleet f --from g", "one of them"},
        {"emit --to udp:127.0.0.1:9 --fleet broken-fleet.yaml",
         "broken-fleet.yaml:3:11: \"127.0.0.256\" is not an address"},
        {"follow x", "conditions go with --when"},
        {"follow --when 'severity = 3'", "--when:1:10:"},
        {"status x y", "status takes one device at most"},
        {"emit --to udp:127.0.0.1:9", "what is to be sent?"},
        {"emit --to udp:127.0.0.1:9 --severity warnign x",
         "--severity: unknown name \"warnign\"; did you mean \"warning\"?"},
        {"emit --to udp:127.0.0.1:9 --form rfc1 x", "--form: unknown form \"rfc1\""},
    };
    (void)state;
    ind_write_file(ind_path(folder, "broken-fleet.yaml"),
                   "devices:\n  - name: a\n    from: 127.0.0.256\n    says: [{text: b}]\n");
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct ind_ran ran = ind_shell(folder, "%s %s", IND_PROGRAM, cases[i].call);
        if (!strstr(ran.err, cases[i].told))
            print_error("%s: %s\n", cases[i].call, ran.err);
        assert_non_null(strstr(ran.err, cases[i].told));
        assert_int_equal(ran.status, 2);
        assert_string_equal(ran.out, "");
        ind_ran_free(&ran);
    }
    struct ind_ran ran = ind_shell(folder, "rm indagator.yaml; %s search", IND_PROGRAM);
    assert_int_equal(ran.status, 2);
    assert_non_null(strstr(ran.err, "no configuration: neither ./indagator.yaml nor"));
    ind_ran_free(&ran);
}

static void help_names_every_option_and_an_example(void **state)
{
    static const char *const commands[] = {"collect", "check", "emit", "search", "rotate", "demo"};
    (void)state;
    for (size_t i = 0; i < sizeof commands / sizeof *commands; i++) {
        struct ind_ran ran = ind_run(folder, commands[i], "--help", NULL);
        assert_int_equal(ran.status, 0);
        assert_non_null(strstr(ran.out, "Usage: indagator "));
        assert_non_null(strstr(ran.out, "Example"));
        assert_non_null(strstr(ran.out, "--config"));
        assert_null(strstr(ran.out, "(null)"));
        ind_ran_free(&ran);
    }
    struct ind_ran ran = ind_run(folder, "--version", NULL);
    assert_memory_equal(ran.out, "indagator ", 10);
    ind_ran_free(&ran);
}

static void check_shows_what_would_act(void **state)
{
    (void)state;
    struct ind_ran ran = ind_run(folder, "check", NULL);
    assert_int_equal(ran.status, 0);
    assert_non_null(strstr(
        ran.out,
        "rotate every day or at 256 MiB, keep 30 days, at most 80 % of the file system, compress zstd 3"));
    assert_non_null(strstr(ran.out, "{facility}/{severity}.log"));
    assert_non_null(strstr(ran.out, "indagator.yaml: no mistakes"));
    ind_ran_free(&ran);
    ind_write_file(ind_path(folder, "bad.yaml"), "zone: Nowhere\n");
    ran = ind_run(folder, "-c", "bad.yaml", "check", "--json", NULL);
    assert_int_equal(ran.status, 1);
    assert_string_equal(
        ran.out,
        "{\"file\":\"bad.yaml\",\"line\":1,\"column\":7,\"warning\":false,\"text\":\"unknown time zone "
        "\\\"Nowhere\\\"; write one such as Europe/Lisbon, UTC or +01:00\"}\n");
    ind_ran_free(&ran);
    ran = ind_run(folder, "-c", "bad.yaml", "check", NULL);
    assert_int_equal(ran.status, 1);
    assert_string_equal(ran.out, "bad.yaml: 1 mistake\n");
    ind_ran_free(&ran);
}

static void included_files_act_at_their_place_in_sorted_order(void **state)
{
    (void)state;
    ind_write_file(ind_path(folder, "main.yaml"),
                   "store: log\nroutes:\n  - {name: first, file: 1.log}\ninclude: [\"rules.d/*.yaml\"]\n");
    struct ind_ran ran =
        ind_shell(folder,
                  "mkdir rules.d; echo 'routes: [{name: third, file: 3.log}]' > rules.d/b.yaml; "
                  "echo 'routes: [{name: second, file: 2.log, when: trouble}]' > rules.d/a.yaml; "
                  "echo 'conditions: {trouble: severity at least error}' > rules.d/c.yaml; "
                  "%s -c main.yaml check | grep -E '^(first|second|third)' | cut -d' ' -f1",
                  IND_PROGRAM);
    assert_string_equal(ran.out, "first\nsecond\nthird\n");
    ind_ran_free(&ran);
    ran = ind_shell(folder, "echo 'store: other' > rules.d/d.yaml; %s -c main.yaml check", IND_PROGRAM);
    assert_int_equal(ran.status, 1);
    assert_non_null(strstr(ran.err, "rules.d/d.yaml:1:8: this is set already in main.yaml; leave one out"));
    ind_ran_free(&ran);
}

struct wanted {
    size_t lines;
};

static bool stored(void *context)
{
    return ind_count_lines(folder) >= ((const struct wanted *)context)->lines;
}

static void emit_sends_messages_in_both_forms(void **state)
{
    char target[64];
    struct wanted wanted = {8};
    (void)state;
    ind_write_file(ind_path(folder, "in"), "<13>1 - h a - - - from a file\n\n<14>1 - h a - - - another\r\n");
    struct ind_running running = ind_collect_start(folder);
    snprintf(target, sizeof target, "udp:127.0.0.1:%u", running.port);
    struct ind_ran ran = ind_run(folder, "emit", "--to", target, "--facility", "local4", "--severity", "warn",
                                 "--host", "pier1 rtr", "--app", "test", "link", "down", NULL);
    assert_int_equal(ran.status, 0);
    assert_memory_equal(ran.out, "sent 1 message, ", 16);
    ind_ran_free(&ran);
    ran = ind_run(folder, "emit", "--to", target, "--form", "rfc3164", "--host", "h", "--facility", "local5",
                  "--count", "2", "old form", NULL);
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
    ran = ind_run(folder, "emit", "--to", target, "--from", "in", "--count", "5", "--rate", "1000", "--json",
                  NULL);
    assert_non_null(strstr(ran.out, "{\"sent\":5,"));
    ind_ran_free(&ran);
    ind_wait_until(stored, &wanted, "all is stored");
    assert_int_equal(ind_collect_stop(&running, SIGTERM), 0);
    ran = ind_shell(folder, "cut -d' ' -f3- log/local4/warning.log; cut -d' ' -f3- log/local5/notice.log; "
                            "cat log/user/*.log | wc -l");
    assert_string_equal(
        ran.out, "pier1\\\\x20rtr local4 warning test - - - link down\n"
                 "h local5 notice indagator - - - old form\nh local5 notice indagator - - - old form\n5\n");
    ind_ran_free(&ran);
    free(running.out);
    free(running.err);
}

static void the_demo_fits_some_screens_and_ends_well(void **state)
{
    size_t lines = 0;
    (void)state;
    struct ind_ran ran = ind_run(folder, "demo", "--folder", "demo", NULL);
    if (ran.status != 0)
        print_error("%s%s", ran.out, ran.err);
    assert_int_equal(ran.status, 0);
    for (const char *c = ran.out; *c; c++)
        lines += *c == '\n';
    assert_in_range(lines, 60, 200);
    static const char *const parts[] = {"fleet.yaml  ",
                                        "messages.log  ",
                                        "before.yaml  ",
                                        "sent 719 messages",
                                        "ge0/24 (uplink to pier3-rtr) link down",
                                        "203.0.113.66",
                                        "call the bosun of mv-tern on ***",
                                        "messages received",
                                        "messages dropped by edits",
                                        "archives proven, ",
                                        "its text is not the one that was hashed",
                                        "To go on:\n  cd "};
    for (size_t i = 0; i < sizeof parts / sizeof *parts; i++)
        assert_non_null(strstr(ran.out, parts[i]));
    ind_ran_free(&ran);
    ran = ind_shell(folder,
                    "cd demo && %s check >/dev/null 2>&1 && %s rehearse --against before.yaml messages.log "
                    ">/dev/null; echo $?",
                    IND_PROGRAM, IND_PROGRAM);
    assert_string_equal(ran.out, "1\n"); /* there are differences */
    ind_ran_free(&ran);
    ran = ind_run(folder, "demo", "--folder", "demo", NULL);
    assert_int_equal(ran.status, 2);
    assert_non_null(strstr(ran.err, "demo is not empty"));
    ind_ran_free(&ran);
}

static void help_is_had_in_every_usual_way(void **state)
{
    static const char *const calls[] = {"search --help", "search -h", "help search", "-h search",
                                        "--help search"};
    (void)state;
    for (size_t i = 0; i < 3; i++) {
        struct ind_ran ran = ind_shell(folder, "%s %s", IND_PROGRAM, calls[i]);
        assert_int_equal(ran.status, 0);
        assert_non_null(strstr(ran.out, "Usage: indagator search"));
        ind_ran_free(&ran);
    }
    static const char *const whole[] = {"--help", "-h", "help"};
    for (size_t i = 0; i < 3; i++) {
        struct ind_ran ran = ind_run(folder, whole[i], NULL);
        assert_int_equal(ran.status, 0);
        assert_non_null(strstr(ran.out, "Commands:"));
        ind_ran_free(&ran);
    }
}

static void a_configuration_that_is_named_must_be_there(void **state)
{
    static const char *const calls[] = {
        "collect", "check",    "explain x", "rehearse x", "fit x", "emit --to udp:127.0.0.1:9 x",
        "search",  "search x", "follow",    "status",     "rotate"};
    (void)state;
    for (size_t i = 0; i < sizeof calls / sizeof *calls; i++) {
        struct ind_ran ran = ind_shell(folder, "%s -c nothere.yaml %s", IND_PROGRAM, calls[i]);
        assert_int_equal(ran.status, 2);
        assert_non_null(strstr(ran.err, "nothere.yaml"));
        ind_ran_free(&ran);
    }
}

static void check_looks_around(void **state)
{
    (void)state;
    ind_write_file(ind_path(folder, "empty.yaml"), "# nothing\n\n");
    struct ind_ran ran = ind_run(folder, "check", "-c", "empty.yaml", NULL);
    assert_int_equal(ran.status, 0);
    assert_non_null(strstr(ran.err, "empty.yaml is empty"));
    assert_non_null(strstr(ran.err, "nothing is listened on"));
    ind_ran_free(&ran);
    int taken = ind_udp_listen("127.0.0.1", 0, false);
    char text[512];
    snprintf(text, sizeof text,
             "store: log\nstate: file/state\nlisten: [{udp: \"127.0.0.1:%u\"}, {tcp: \"127.0.0.1:0\"}]\n",
             ind_socket_port(taken));
    ind_write_file(ind_path(folder, "here.yaml"), text);
    ind_write_file(ind_path(folder, "file"), "");
    ran = ind_run(folder, "check", "-c", "here.yaml", NULL);
    assert_null(strstr(ran.err, "another program listens there"));
    assert_non_null(strstr(ran.err, "state: "));
    ind_ran_free(&ran);
    ran = ind_run(folder, "check", "-c", "here.yaml", "--here", NULL);
    assert_int_equal(ran.status, 0);
    assert_non_null(strstr(ran.err, "another program listens there"));
    assert_null(strstr(ran.err, "tcp 127.0.0.1:0:"));
    ind_ran_free(&ran);
    close(taken);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
#define in_folder(test) cmocka_unit_test_setup_teardown(test, set_up, tear_down)
        in_folder(wrong_calls_say_what_to_do),
        in_folder(help_names_every_option_and_an_example),
        in_folder(check_shows_what_would_act),
        in_folder(included_files_act_at_their_place_in_sorted_order),
        in_folder(emit_sends_messages_in_both_forms),
        in_folder(the_demo_fits_some_screens_and_ends_well),
        in_folder(help_is_had_in_every_usual_way),
        in_folder(a_configuration_that_is_named_must_be_there),
        in_folder(check_looks_around),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
