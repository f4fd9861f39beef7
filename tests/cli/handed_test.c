/* Routes into no file: standard output, and programs that behave, die, hang, or are not there. */
#include "support/support.h"

#include "net/socket.h"
#include <signal.h>
#include <stdlib.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <unistd.h>

static const char head[] = "store: log\nstate: state\nzone: UTC\nlisten:\n  - udp: 127.0.0.1:0\nroutes:\n";

static char *folder_with(const char *routes)
{
    static char config[4096];
    char *folder = ind_folder_new();
    snprintf(config, sizeof config, "%s%s", head, routes);
    ind_write_file(ind_path(folder, "indagator.yaml"), config);
    return folder;
}

static void write_script(const char *folder, const char *name, const char *text)
{
    ind_write_file(ind_path(folder, name), text);
    assert_int_equal(chmod(ind_path(folder, name), 0755), 0);
}

static void write_messages(const char *folder, unsigned count)
{
    FILE *file = fopen(ind_path(folder, "in.log"), "w");
    assert_non_null(file);
    for (unsigned i = 0; i < count; i++)
        fprintf(file, "<%u>1 2026-11-23T04:45:00Z harbour-fw kernel - - - message %u of the ferry line\n",
                i % 2 ? 164u : 165u, i);
    fclose(file);
}

static size_t lines_of(const char *folder, const char *name)
{
    size_t length, lines = 0;
    char *text = ind_read_file(ind_path(folder, name), &length);
    for (size_t i = 0; text && i < length; i++)
        lines += text[i] == '\n';
    free(text);
    return lines;
}

static void standard_output_has_the_lines_and_nothing_else(void **state)
{
    (void)state;
    char *folder = folder_with("  - {name: a, when: severity is warning, to: output, layout: raw}\n"
                               "  - {name: b, otherwise: yes, file: rest.log}\n");
    write_messages(folder, 4);
    struct ind_ran ran = ind_run(folder, "collect", "--from", "in.log", NULL);
    assert_int_equal(ran.status, 0);
    assert_string_equal(ran.out,
                        "<164>1 2026-11-23T04:45:00Z harbour-fw kernel - - - message 1 of the ferry line\n"
                        "<164>1 2026-11-23T04:45:00Z harbour-fw kernel - - - message 3 of the ferry line\n");
    assert_non_null(strstr(ran.err, "2  messages handed on"));
    assert_non_null(strstr(ran.err, "2  messages stored"));
    assert_int_equal(lines_of(folder, "log/rest.log"), 2);
    ind_ran_free(&ran);
    ind_folder_remove(folder);
}

/* More than its queue holds: messages from files wait for it. */
static void a_slow_program_gets_every_line_of_files(void **state)
{
    (void)state;
    enum { COUNT = 60000 };
    char *folder = folder_with("  - {name: a, to: {program: [./slow, \"two words\", '$HOME']}}\n");
    write_script(folder, "slow",
                 "#!/bin/sh\nprintf '%s|' \"$@\" >args.txt\nsleep 0.3\nexec cat >taken.log\n");
    write_messages(folder, COUNT);
    struct ind_ran ran = ind_run(folder, "collect", "--from", "in.log", NULL);
    assert_int_equal(ran.status, 0);
    assert_int_equal(lines_of(folder, "taken.log"), COUNT);
    assert_non_null(strstr(ran.out, "60000  messages handed on"));
    size_t length;
    char *arguments = ind_read_file(ind_path(folder, "args.txt"), &length);
    assert_int_equal(length, strlen("two words|$HOME|")); /* no shell has read them */
    assert_memory_equal(arguments, "two words|$HOME|", length);
    free(arguments);
    ind_ran_free(&ran);
    ind_folder_remove(folder);
}

static void a_program_that_is_not_there_costs_its_messages_only(void **state)
{
    (void)state;
    char *folder = folder_with("  - {name: a, when: severity is warning, to: {program: [./nowhere]}}\n"
                               "  - {name: b, file: all.log, layout: \"{severity} {device}: {text}\"}\n");
    write_messages(folder, 10);
    struct ind_ran ran = ind_run(folder, "collect", "--from", "in.log", NULL);
    assert_int_equal(ran.status, 0); /* every message is in a file */
    assert_non_null(strstr(ran.err, "nowhere cannot be started: No such file or directory"));
    assert_non_null(strstr(ran.out, "10  messages stored"));
    assert_int_equal(lines_of(folder, "log/all.log"), 10);
    assert_true(
        ind_file_holds(ind_path(folder, "log/all.log"), "warning harbour-fw: message 9 of the ferry line\n"));
    ind_ran_free(&ran);
    ind_folder_remove(folder);
}

static void too_long_a_call_of_a_program_is_a_mistake(void **state)
{
    (void)state;
    char *folder = folder_with("");
    FILE *file = fopen(ind_path(folder, "indagator.yaml"), "a");
    assert_non_null(file);
    fprintf(file, "  - {name: a, to: {program: [cat, %017000d]}}\n", 1);
    fclose(file);
    struct ind_ran ran = ind_run(folder, "check", NULL);
    assert_int_equal(ran.status, 1);
    assert_non_null(strstr(ran.err, "have 16384 bytes at most"));
    ind_ran_free(&ran);
    ind_folder_remove(folder);
}

/* The order in which rules act, and why a message is not taken. */
static void rules_are_told_in_the_order_in_which_they_act(void **state)
{
    (void)state;
    char *folder = folder_with("  - {name: rest, otherwise: yes, file: rest.log}\n"
                               "  - {name: piers, when: 'host starts with \"pier\"', to: output, last: yes}\n"
                               "  - {name: grave, when: severity at least alert, file: grave.log}\n");
    struct ind_ran ran = ind_run(folder, "check", "--order", NULL);
    assert_int_equal(ran.status, 0);
    const char *piers = strstr(ran.out, "route piers  indagator.yaml:8"),
               *grave = strstr(ran.out, "route grave"), *rest = strstr(ran.out, "route rest");
    assert_true(piers && grave && rest && piers < grave && grave < rest);
    assert_non_null(strstr(ran.out, "to standard output; goes no further"));
    ind_ran_free(&ran);
    ran = ind_run(folder, "explain", "<13>1 2026-11-23T04:45:00Z pier1-rtr a - - - up", NULL);
    assert_non_null(strstr(ran.out, "piers     yes  to standard output"));
    assert_non_null(strstr(ran.out, "grave     not asked: \"piers\" took it"));
    assert_non_null(strstr(ran.out, "rest      no   only for what no other route takes: \"piers\" took it"));
    assert_non_null(strstr(ran.out, "handed on, in no file"));
    ind_ran_free(&ran);
    ran = ind_run(folder, "explain", "<13>1 2026-11-23T04:45:00Z harbour-fw a - - - up", NULL);
    assert_non_null(strstr(ran.out, "rest      yes  into rest.log"));
    ind_ran_free(&ran);
    ind_folder_remove(folder);
}

static bool is_there(void *context)
{
    return access(context, F_OK) == 0;
}

static void wait_for_file(const char *folder, const char *name)
{
    char path[300];
    snprintf(path, sizeof path, "%s", ind_path(folder, name));
    ind_wait_until(is_there, path, name);
}

struct wanted {
    const char *folder, *text;
    struct ind_ran ran;
};

static bool status_says(void *context)
{
    struct wanted *wanted = context;
    ind_ran_free(&wanted->ran);
    wanted->ran = ind_run(wanted->folder, "status", "--json", NULL);
    return wanted->ran.status == 0 && strstr(wanted->ran.out, wanted->text);
}

static void wait_for_status(const char *folder, const char *text)
{
    struct wanted wanted = {folder, text, {0}};
    ind_wait_until(status_says, &wanted, text);
    ind_ran_free(&wanted.ran);
}

static void send_one(unsigned port, const char *text)
{
    char number[16];
    const char *reason;
    snprintf(number, sizeof number, "%u", port);
    int fd = ind_connect(IND_SEND_UDP, "127.0.0.1", number, NULL, &reason);
    assert_true(fd >= 0);
    assert_int_equal(send(fd, text, strlen(text), 0), strlen(text));
    close(fd);
}

static void end_collector(struct ind_running *running)
{
    assert_int_equal(ind_collect_stop(running, SIGTERM), 0);
    free(running->out);
    free(running->err);
}

/* It takes one line and ends: the next line starts it again, and none is lost. */
static void a_program_that_ends_is_started_again(void **state)
{
    (void)state;
    char *folder = folder_with("  - {name: a, when: not app is \"indagator\", to: {program: [./once]}}\n");
    write_script(folder, "once", "#!/bin/sh\nread line && echo \"$line\" >>taken.log\nexit 3\n");
    struct ind_running running = ind_collect_start(folder);
    unsigned port = ind_reported_port(&running, "udp 127.0.0.1:");
    send_one(port, "<164>first");
    wait_for_status(folder, "\"runs\":false,\"starts\":1,\"taken\":1");
    send_one(port, "<164>second");
    wait_for_status(folder, "\"starts\":2,\"taken\":2,\"lost\":0");
    end_collector(&running);
    assert_int_equal(lines_of(folder, "taken.log"), 2);
    ind_folder_remove(folder);
}

/* It reads nothing and ignores being told to end. The collector files on, loses what does not fit for the
 * program alone, and ends in time, the program too. */
static void a_program_that_hangs_holds_nobody_up(void **state)
{
    (void)state;
    char *folder = folder_with("  - {name: a, to: {program: [./hang]}}\n  - {name: b, file: all.log}\n");
    write_script(folder, "hang",
                 "#!/bin/sh\ntrap '' TERM\necho $$ >pid.new\nmv pid.new pid.txt\n"
                 "while :; do sleep 1; done\n");
    struct ind_running running = ind_collect_start(folder);
    unsigned port = ind_reported_port(&running, "udp 127.0.0.1:");
    static char text[9000] = "<164>";
    memset(text + 5, 'x', sizeof text - 6);
    send_one(port, text);
    wait_for_file(folder, "pid.txt");
    enum { COUNT = 700 }; /* more than the queue and the pipe hold */
    for (unsigned i = 0; i < COUNT; i++) {
        send_one(port, text);
        if (i % 20 == 19) { /* none is to be lost on the way to us */
            char stored[40];
            snprintf(stored, sizeof stored, "\"received\":%u,\"stored\":%u", i + 2, i + 2);
            wait_for_status(folder, stored);
        }
    }
    size_t length;
    char *digits = ind_read_file(ind_path(folder, "pid.txt"), &length);
    pid_t process = (pid_t)strtol(digits, NULL, 10);
    free(digits);
    assert_int_equal(kill(process, 0), 0);
    assert_int_equal(ind_collect_stop(&running, SIGTERM), 0);
    assert_true(lines_of(folder, "log/all.log") > COUNT); /* and what was told of the program */
    assert_true(ind_file_holds(running.err, "does not take what it is given"));
    assert_int_not_equal(kill(process, 0), 0);
    free(running.out);
    free(running.err);
    ind_folder_remove(folder);
}

/* What a reload takes away is given what is queued for it, and its input ends. */
static void programs_come_and_go_with_a_reload(void **state)
{
    (void)state;
    char *folder = folder_with("  - {name: a, file: all.log}\n");
    write_script(folder, "take", "#!/bin/sh\ncat >taken.log\ntouch ended\n");
    struct ind_running running = ind_collect_start(folder);
    unsigned port = ind_reported_port(&running, "udp 127.0.0.1:");
    char *with = folder_with(
        "  - {name: a, file: all.log}\n  - {name: b, when: facility is local4, to: {program: [./take]}}\n");
    size_t length;
    char *without = ind_read_file(ind_path(folder, "indagator.yaml"), &length);
    char *config = ind_read_file(ind_path(with, "indagator.yaml"), &length);
    ind_write_file(ind_path(folder, "indagator.yaml"), config);
    kill(running.process, SIGHUP);
    wait_for_status(folder, "{\"route\":\"b\"");
    send_one(port, "<164>one");
    wait_for_status(folder, "\"taken\":1,\"lost\":0,\"waiting\":0");
    ind_write_file(ind_path(folder, "indagator.yaml"), without);
    kill(running.process, SIGHUP);
    wait_for_file(folder, "ended");
    assert_int_equal(lines_of(folder, "taken.log"), 1);
    end_collector(&running);
    free(without);
    free(config);
    ind_folder_remove(with);
    ind_folder_remove(folder);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(standard_output_has_the_lines_and_nothing_else),
        cmocka_unit_test(a_slow_program_gets_every_line_of_files),
        cmocka_unit_test(a_program_that_is_not_there_costs_its_messages_only),
        cmocka_unit_test(too_long_a_call_of_a_program_is_a_mistake),
        cmocka_unit_test(rules_are_told_in_the_order_in_which_they_act),
        cmocka_unit_test(a_program_that_ends_is_started_again),
        cmocka_unit_test(a_program_that_hangs_holds_nobody_up),
        cmocka_unit_test(programs_come_and_go_with_a_reload),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
