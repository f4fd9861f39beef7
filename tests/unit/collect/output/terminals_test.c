/* Text on terminals: of those who are logged in, or of some; nothing else is written to, whatever the file of
 * logins says. */
#define _GNU_SOURCE
#include "collect/output/terminals.h"
#include "support/support.h"

#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <termios.h>
#include <unistd.h>
#include <utmpx.h>

enum { PEOPLE = 2 };
static int masters[PEOPLE], slaves[PEOPLE];
static char *folder;

static const char *logins(void)
{
    return ind_path(folder, "logins");
}

static void add_login(const char *user, const char *line, short type)
{
    struct utmpx login = {.ut_type = type};
    FILE *file = fopen(logins(), "a");
    memcpy(login.ut_user, user, strlen(user));
    memcpy(login.ut_line, line, strlen(line));
    assert_int_equal(fwrite(&login, sizeof login, 1, file), 1);
    assert_int_equal(fclose(file), 0);
}

static int set_up(void **state)
{
    static const char *const users[] = {"tern", "gull"};
    (void)state;
    folder = ind_folder_new();
    for (int i = 0; i < PEOPLE; i++) {
        masters[i] = posix_openpt(O_RDWR | O_NOCTTY);
        if (masters[i] < 0 || grantpt(masters[i]) != 0 || unlockpt(masters[i]) != 0)
            return -1;
        (void)fcntl(masters[i], F_SETFL, O_NONBLOCK);
        const char *name = ptsname(masters[i]);
        slaves[i] = open(name, O_RDWR | O_NOCTTY);
        add_login(users[i], name + strlen("/dev/"), USER_PROCESS);
    }
    return 0;
}

static int tear_down(void **state)
{
    (void)state;
    for (int i = 0; i < PEOPLE; i++) {
        close(masters[i]);
        close(slaves[i]);
    }
    ind_folder_remove(folder);
    return 0;
}

static const char *on_terminal(int i)
{
    static char text[20000];
    const ssize_t got = read(masters[i], text, sizeof text - 1);
    text[got > 0 ? got : 0] = '\0';
    return text;
}

static bool tell(const char *users, const char *text)
{
    char reason[200] = "";
    return ind_terminals_write(logins(), users, ind_slice_of(text), reason, sizeof reason);
}

static void all_or_some_are_told(void **state)
{
    (void)state;
    assert_true(tell(NULL, "one\ntwo"));
    assert_string_equal(on_terminal(0), "\r\r\none\r\r\ntwo\r\r\n");
    assert_non_null(strstr(on_terminal(1), "one"));
    assert_true(tell("noc,gull", "three"));
    assert_string_equal(on_terminal(0), "");
    assert_non_null(strstr(on_terminal(1), "three"));
    assert_true(tell("gul", "four")); /* nobody */
    assert_string_equal(on_terminal(1), "");
}

static void one_that_reads_nothing_holds_nobody_up(void **state)
{
    char line[1000];
    (void)state;
    memset(line, 'x', sizeof line - 1);
    line[sizeof line - 1] = '\0';
    for (int i = 0; i < 2000; i++)
        (void)tell("tern", line);
    assert_true(tell("gull", "still here"));
    assert_non_null(strstr(on_terminal(1), "still here"));
}

static void what_is_no_terminal_is_left_alone(void **state)
{
    char path[300];
    (void)state;
    snprintf(path, sizeof path, "../%s", ind_path(folder, "target") + 1);
    ind_write_file(ind_path(folder, "target"), "as it was");
    (void)unlink(logins());
    if (strlen(path) < sizeof((struct utmpx *)0)->ut_line)
        add_login("tern", path, USER_PROCESS);
    add_login("tern", "nothing/there", USER_PROCESS);
    add_login("tern", "null", USER_PROCESS);
    add_login("tern", "pts/0", DEAD_PROCESS);
    assert_true(tell(NULL, "overwritten"));
    assert_true(ind_file_holds(ind_path(folder, "target"), "as it was"));
    assert_true(ind_terminals_write(ind_path(folder, "none"), NULL, IND_SLICE("x"), NULL, 0));
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(all_or_some_are_told, set_up, tear_down),
        cmocka_unit_test_setup_teardown(one_that_reads_nothing_holds_nobody_up, set_up, tear_down),
        cmocka_unit_test_setup_teardown(what_is_no_terminal_is_left_alone, set_up, tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
