/* The built program: follow, with what is stored first, with several conditions, counting, and across a
 * restart of the collector. */
#include "support/archives.h"
#include "support/random.h"

#include <sys/wait.h>

static const char rules[] =
    IND_QUIET "store: log\nstate: state\nzone: UTC\nlisten: [{udp: \"127.0.0.1:PORT\"}]\n"
              "routes: [{name: a, file: a.log}]\n";

/* On a port that stays the same. */
static void begin_on(unsigned port)
{
    char text[600];
    const char *at = strstr(rules, "PORT");
    snprintf(text, sizeof text, "%.*s%u%s", (int)(at - rules), rules, port, at + 4);
    begin(text);
}

static void emit_to(unsigned port, const char *message)
{
    struct ind_ran ran =
        ind_shell(folder, "%s emit --to udp:127.0.0.1:%u %s >/dev/null", IND_PROGRAM, port, message);
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
}

struct awaited {
    const char *file, *text;
    unsigned port;
    const char *message; /* said until it is there; or NULL */
};

static bool is_there(void *context)
{
    const struct awaited *awaited = context;
    if (awaited->message)
        emit_to(awaited->port, awaited->message);
    return ind_file_holds(ind_path(folder, awaited->file), awaited->text);
}

static void wait_for(struct awaited awaited)
{
    ind_wait_until(is_there, &awaited, awaited.text);
}

static void follow(const char *arguments)
{
    struct ind_ran ran =
        ind_shell(folder, "%s follow %s >shown 2>told & echo $! >follower", IND_PROGRAM, arguments);
    ind_ran_free(&ran);
}

static void stop_following(void)
{
    run("kill -INT $(cat follower); while kill -0 $(cat follower) 2>/dev/null; do sleep 0.02; done");
}

static void what_is_stored_comes_first_and_once(void **state)
{
    (void)state;
    begin_on(0);
    for (const char *word = "abcdef"; *word; word++) {
        char message[40];
        snprintf(message, sizeof message, "--app %c old", *word);
        emit_to(running.port, message);
    }
    wait_for((struct awaited){"log/a.log", " f - - - old", 0, NULL});
    follow("--last 3 --layout '{app} {text}'");
    wait_for((struct awaited){"shown", "f old\n", 0, NULL});
    wait_for((struct awaited){"shown", "g new\n", running.port, "--app g new"});
    stop_following();
    char *shown = ind_read_file(ind_path(folder, "shown"), NULL);
    assert_ptr_equal(strstr(shown, "d old\ne old\nf old\ng new\n"), shown);
    assert_null(strstr(shown + sizeof "d old\ne old\nf old\n" - 1, "old"));
    free(shown);
    end();
}

static void several_conditions_are_followed_together(void **state)
{
    (void)state;
    begin_on(0);
    follow("--when 'app is \"x\"' --when 'severity at least error' --layout '{app} {severity}'");
    wait_for((struct awaited){"shown", "x info\n", running.port, "--app x --severity info text"});
    wait_for((struct awaited){"shown", "y error\n", running.port, "--app y --severity error text"});
    emit_to(running.port, "--app z --severity info text");
    wait_for((struct awaited){"shown", "y alert\n", running.port, "--app y --severity alert text"});
    stop_following();
    assert_false(ind_file_holds(ind_path(folder, "shown"), "z info"));
    end();
}

#define LISTENING "store: log\nstate: state\nzone: UTC\nlisten: [{udp: \"127.0.0.1:0\"}]\n"
#define ROUTED "routes: [{name: a, file: a.log}]\n"
static const char *const with_and_without_edits[] = {
    LISTENING ROUTED, LISTENING
    "edits:\n"
    "  - {name: calmer, when: 'facility is local2 and text contains \"7\"', set: {severity: debug}}\n"
    "  - {name: worse, when: 'text contains \"13\"', set: {severity: alert, facility: ntp}}\n" ROUTED};

/* With every PRI, with none, and with what is none. */
static void write_messages(unsigned count)
{
    uint64_t random = IND_RANDOM_START;
    FILE *lines = fopen(ind_path(folder, "lines"), "w");
    assert_non_null(lines);
    for (unsigned i = 0; i < count; i++) {
        const unsigned kind = ind_random(&random, 8), pri = ind_random(&random, kind ? 192 : 1000);
        if (kind != 1)
            fprintf(lines, "<%u>", pri);
        fprintf(lines, "number %u\n", i);
    }
    fprintf(lines, "<0>the end\n");
    fclose(lines);
}

/* Though receivers leave out what nobody who follows can want. */
static void each_is_shown_what_a_search_finds(void **state)
{
    static const char *const whens[] = {
        "severity at least error", "facility is local2 or severity is emergency",
        "facility is not local2 and severity is not info", "facility is ntp or severity is emergency"};
    enum { WHENS = 4 };
    (void)state;
    for (int with_edits = 0; with_edits < 2; with_edits++) {
        char command[600], shown[20];
        begin(with_and_without_edits[with_edits]);
        write_messages(600);
        run("rm -f shown?");
        for (int i = 0; i < WHENS; i++) {
            snprintf(command, sizeof command,
                     "%s follow --when '%s' --layout '{text}' >shown%d 2>told%d & echo $! >>follower",
                     IND_PROGRAM, whens[i], i, i);
            run(command);
            snprintf(shown, sizeof shown, "shown%d", i);
            wait_for((struct awaited){shown, "ready\n", running.port, "--severity emergency ready"});
        }
        snprintf(command, sizeof command, "%s emit --to udp:127.0.0.1:%u --from lines >/dev/null",
                 IND_PROGRAM, running.port);
        run(command);
        wait_for((struct awaited){"log/a.log", "the end\n", 0, NULL});
        for (int i = 0; i < WHENS; i++) {
            snprintf(shown, sizeof shown, "shown%d", i);
            wait_for((struct awaited){shown, "the end\n", 0, NULL});
            snprintf(command, sizeof command,
                     "%s search --when '%s' --layout '{text}' >found && grep number found >was && "
                     "grep number shown%d >is && cmp was is && [ $(wc -l <is) -gt 10 ]",
                     IND_PROGRAM, whens[i], i);
            run(command);
        }
        run("for f in $(cat follower); do kill -INT $f; done; rm follower");
        end();
        run("rm -r log state");
    }
}

static void what_comes_is_counted(void **state)
{
    (void)state;
    begin_on(0);
    follow("--by app,severity --count 20");
    wait_for((struct awaited){"told", "listening", 0, NULL});
    for (int i = 0; i < 40 && !ind_file_holds(ind_path(folder, "shown"), "messages"); i++)
        emit_to(running.port, "--app x --severity info --count 5 text");
    wait_for((struct awaited){"shown", "messages  app  severity\n", 0, NULL});
    char *shown = ind_read_file(ind_path(folder, "shown"), NULL);
    assert_non_null(strstr(shown, "  x    info\n"));
    assert_true(atoi(strchr(shown, '\n')) >= 20);
    free(shown);
    end();
}

static void it_goes_on_when_the_collector_is_back(void **state)
{
    (void)state;
    begin_on(0);
    const unsigned port = running.port;
    follow("--layout '{app}'");
    wait_for((struct awaited){"shown", "before\n", port, "--app before x"});
    end();
    wait_for((struct awaited){"told", "the collector has ended; following goes on", 0, NULL});
    begin_on(port);
    wait_for((struct awaited){"shown", "after\n", port, "--app after x"});
    assert_true(ind_file_holds(ind_path(folder, "told"),
                               "what came meanwhile is not shown: indagator search --since 20"));
    stop_following();
    end();
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(what_is_stored_comes_first_and_once, set_up, tear_down),
        cmocka_unit_test_setup_teardown(several_conditions_are_followed_together, set_up, tear_down),
        cmocka_unit_test_setup_teardown(each_is_shown_what_a_search_finds, set_up, tear_down),
        cmocka_unit_test_setup_teardown(what_comes_is_counted, set_up, tear_down),
        cmocka_unit_test_setup_teardown(it_goes_on_when_the_collector_is_back, set_up, tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
