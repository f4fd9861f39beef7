/* The built program: follow, with what is stored first, with several conditions, counting, and across a
 * restart of the collector. */
#include "support/archives.h"

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
        cmocka_unit_test_setup_teardown(what_comes_is_counted, set_up, tear_down),
        cmocka_unit_test_setup_teardown(it_goes_on_when_the_collector_is_back, set_up, tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
