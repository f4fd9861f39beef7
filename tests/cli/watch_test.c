/* The live view in a pseudo-terminal: it shows a collector that runs, follows keys and sizes, goes on when
 * that ends and comes back, shows what strangers name themselves as what it is, and leaves the terminal as it
 * was. */
#define _GNU_SOURCE
#include "support/live.h"
#include "support/screen.h"

#include <fcntl.h>
#include <pty.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <termios.h>
#include <utmp.h>

enum { SEEN = 1 << 20 };

static struct {
    pid_t process;
    int terminal;
    char bytes[SEEN];
    size_t length;
    struct termios before;
    struct ind_test_screen screen;
} view;

static void begin_collector(const char *rest)
{
    char config[2000];
    snprintf(config, sizeof config,
             "store: log\nstate: state\nzone: UTC\nlisten: [{tcp: 127.0.0.1:0}]\n" IND_QUIET
             "routes: [{name: all, file: all.log}]\n%s",
             rest);
    ind_write_file(ind_path(folder, "indagator.yaml"), config);
    running = ind_collect_start(folder);
}

static void begin_view(unsigned short columns, unsigned short rows, const char *terminal)
{
    const struct winsize size = {.ws_col = columns, .ws_row = rows};
    int other;
    view.length = 0;
    view.screen = (struct ind_test_screen){.width = columns, .height = rows};
    ind_screen_clear(&view.screen);
    assert_int_equal(openpty(&view.terminal, &other, NULL, NULL, &size), 0);
    assert_int_equal(tcgetattr(other, &view.before), 0);
    view.process = fork();
    if (view.process == 0) {
        setenv("TERM", terminal, 1);
        setenv("LC_ALL", "C.UTF-8", 1);
        if (getenv("IND_TEST_NO_COLOR"))
            setenv("NO_COLOR", "1", 1);
        else
            unsetenv("NO_COLOR");
        close(view.terminal);
        if (login_tty(other) != 0 || chdir(folder) != 0)
            _exit(126);
        execl(IND_PROGRAM, IND_PROGRAM, "watch", (char *)NULL);
        _exit(127);
    }
    close(other);
    assert_int_equal(fcntl(view.terminal, F_SETFL, O_NONBLOCK), 0);
}

static void read_view(void)
{
    ssize_t got;
    while (view.length + 1 < SEEN &&
           (got = read(view.terminal, view.bytes + view.length, SEEN - 1 - view.length)) > 0) {
        ind_screen_take(&view.screen, view.bytes + view.length, (size_t)got);
        view.length += (size_t)got;
    }
}

static bool has_seen(void *text)
{
    read_view();
    return ind_screen_shows(&view.screen, text);
}

static void print_view(const char *text)
{
    print_error("no \"%s\" in:\n", text);
    for (int row = 0; row < view.screen.height; row++)
        print_error("%.*s\n", view.screen.width, view.screen.rows[row]);
}

static void see(const char *text)
{
    for (int i = 0; i < 400 && !has_seen((void *)(uintptr_t)text); i++)
        nanosleep(&(struct timespec){0, 50000000L}, NULL);
    if (!has_seen((void *)(uintptr_t)text))
        print_view(text);
    assert_true(has_seen((void *)(uintptr_t)text));
}

static void resize(unsigned short columns, unsigned short rows)
{
    const struct winsize window = {.ws_col = columns, .ws_row = rows};
    assert_int_equal(ioctl(view.terminal, TIOCSWINSZ, &window), 0);
    view.screen.width = columns;
    view.screen.height = rows;
}

/* What comes from now on. */
static void forget(void)
{
    read_view();
    view.length = 0;
}

static void press(const char *keys)
{
    assert_int_equal(write(view.terminal, keys, strlen(keys)), strlen(keys));
}

static bool has_ended(void *status)
{
    read_view();
    return waitpid(view.process, status, WNOHANG) == view.process;
}

/* The last that comes puts the first screen back, and shows the cursor. */
static void expect_left(int code)
{
    int status = 0;
    ind_wait_until(has_ended, &status, "it ends");
    assert_true(WIFEXITED(status));
    assert_int_equal(WEXITSTATUS(status), code);
    assert_non_null(memmem(view.bytes, view.length, "\033[?1049l", 8));
    assert_false(view.screen.other);
    assert_false(view.screen.odd);
    struct termios after;
    assert_int_equal(tcgetattr(view.terminal, &after), 0);
    assert_int_equal(after.c_lflag, view.before.c_lflag);
    assert_int_equal(after.c_iflag, view.before.c_iflag);
    assert_int_equal(after.c_oflag, view.before.c_oflag);
    close(view.terminal);
}

static void send_line(const char *line)
{
    const int fd = open_to(IND_SEND_TCP, ind_reported_port(&running, "tcp 127.0.0.1:"), NULL);
    say(fd, line, strlen(line));
    close(fd);
}

/* What comes before the collector has been asked anew is not shown. */
static void send_until(const char *lines, const char *text)
{
    for (int i = 0; i < 200 && !has_seen((void *)(uintptr_t)text); i++) {
        send_line(lines);
        nanosleep(&(struct timespec){0, 100000000L}, NULL);
    }
    see(text);
}

static void it_shows_what_comes_and_follows_keys(void **state)
{
    (void)state;
    begin_collector("");
    send_line("<38>1 - harbour-fw app - - - text\n<38>1 - pier1-sw app - - - text\n");
    begin_view(80, 24, "xterm-256color");
    see("All is well");
    see("harbour-fw");
    see("Devices (3) by trouble");
    see("Messages: severity at least error");
    send_line("<35>1 - pier1-sw linkd - - - ge0/7 link down\n");
    see("linkd: ge0/7 link down");
    forget();
    press("s");
    see("rate");
    press("?");
    see("devices in order of trouble");
    press("x");
    press("d");
    see("Devices whose names hold:");
    press("pier\r");
    see("with pier");
    press("f");
    see("Messages for which:");
    press("text is\r");
    see("No condition:");
    press("f");
    press("text contains \"up\"\r");
    see("and text contains \"up\"");
    send_until("<35>1 - pier1-sw linkd - - - ge0/8 link down\n<35>1 - pier1-sw linkd - - - ge0/9 link up\n",
               "ge0/9 link up");
    assert_false(ind_screen_shows(&view.screen, "ge0/8"));
    press("v");
    see("warning");
    press(" ");
    see("paused");
    press(" q");
    expect_left(0);
    end();
}

static void it_goes_on_when_the_collector_comes_back(void **state)
{
    (void)state;
    begin_collector("");
    send_line("<38>1 - harbour-fw app - - - text\n");
    begin_view(100, 30, "xterm");
    see("harbour-fw");
    end();
    see("does not answer");
    forget();
    free(running.out);
    free(running.err);
    running = ind_collect_start(folder);
    see("All is well");
    forget();
    send_until("<35>1 - pier1-sw linkd - - - ge0/7 link down\n",
               "link down"); /* what was asked for is asked again */
    kill(view.process, SIGTERM);
    expect_left(0);
    end();
}

static void any_size_and_terminal_will_do(void **state)
{
    static const char *const terminals[] = {"xterm", "xterm-256color", "screen", "linux"};
    (void)state;
    begin_collector("");
    send_line("<38>1 - harbour-fw app - - - text\n");
    for (size_t i = 0; i < sizeof terminals / sizeof *terminals; i++) {
        begin_view(80, 24, terminals[i]);
        see("harbour-fw");
        for (unsigned short size = 1; size < 60; size = (unsigned short)(size * 2 + 3)) {
            resize(size, size);
            forget();
            press("s");
        }
        resize(200, 60);
        forget();
        see("Devices (2)");
        see("Messages: severity at least error");
        press("q");
        int status;
        ind_wait_until(has_ended, &status, "it ends");
        assert_int_equal(WEXITSTATUS(status), 0);
        close(view.terminal);
    }
    end();
}

static void strangers_drive_nothing(void **state)
{
    (void)state;
    begin_collector("");
    send_line("<35>1 - na\033]0;owned\007me app - - - \033[2J\033[31mred\xc2\x9b\x32J\xe2\x80\xae\xff "
              "\033]0;owned\007end\n");
    begin_view(120, 30, "xterm");
    see("Devices (2)");
    send_line(
        "<35>1 - other app - - - \033[2J\033[31mred\xc2\x9b\x32J\xe2\x80\xae\xff \033]0;owned\007end\n");
    see("owned");
    see("end");
    assert_null(memmem(view.bytes, view.length, "\033]0;", 4));
    assert_null(memmem(view.bytes, view.length, "\033[31mred", 8));
    assert_null(memmem(view.bytes, view.length, "\xe2\x80\xae", 3));
    assert_null(memmem(view.bytes, view.length, "\xc2\x9b", 2));
    press("q");
    expect_left(0);
    end();
}

/* With NO_COLOR no colour is set; bold and reverse stay. */
static void it_can_do_without_colours(void **state)
{
    (void)state;
    begin_collector("");
    send_line("<38>1 - harbour-fw app - - - text\n");
    setenv("IND_TEST_NO_COLOR", "1", 1);
    begin_view(80, 24, "xterm-256color");
    unsetenv("IND_TEST_NO_COLOR");
    see("harbour-fw");
    see("All is well");
    for (size_t i = 0; i + 3 < view.length; i++) {
        size_t end = i + 2;
        while (end < view.length && (isdigit((unsigned char)view.bytes[end]) || view.bytes[end] == ';'))
            end++;
        const bool looks =
            memcmp(view.bytes + i, "\033[", 2) == 0 && end < view.length && view.bytes[end] == 'm';
        for (size_t k = i + 2; looks && k + 1 < end; k++) /* 30 to 38, 40 to 48, 90 to 107 */
            if ((view.bytes[k - 1] == '[' || view.bytes[k - 1] == ';') && strchr("3491", view.bytes[k]) &&
                isdigit((unsigned char)view.bytes[k + 1]))
                assert_true(view.bytes[k + 1] == '9'); /* the default */
    }
    press("q");
    expect_left(0);
    end();
}

/* A second of it; the state of the collector changes all the time. */
static void a_slow_line_is_enough(void **state)
{
    char line[100];
    (void)state;
    begin_collector("");
    for (int i = 0; i < 40; i++) {
        snprintf(line, sizeof line, "<38>1 - device-%02d app - - - text\n", i);
        send_line(line);
    }
    begin_view(80, 24, "xterm");
    see("Devices (41)");
    forget();
    size_t most = 0;
    for (int second = 0; second < 4; second++) {
        for (int i = 0; i < 10; i++) {
            snprintf(line, sizeof line, "<35>1 - device-%02d app - - - text %d of %d\n", i * 3, i, second);
            send_line(line);
            nanosleep(&(struct timespec){0, 100000000L}, NULL);
        }
        read_view();
        most = view.length > most ? view.length : most;
        view.length = 0;
    }
    print_message("at most %zu bytes a second\n", most);
    assert_in_range(most, 100, 4096);
    press("q");
    expect_left(0);
    end();
}

/* ---- A simulated collector ---- */

static bool has_socket(void *context)
{
    struct stat facts;
    (void)context;
    return stat(ind_path(folder, "state/control.sock"), &facts) == 0;
}

static pid_t simulated;

static void end_simulated(void)
{
    if (simulated > 0) {
        (void)kill(simulated, SIGKILL);
        (void)waitpid(simulated, NULL, 0);
    }
    simulated = 0;
    struct ind_ran ran = ind_shell(folder, "rm -rf state");
    ind_ran_free(&ran);
}

static int leave(void **state)
{
    end_simulated();
    return tear_down(state);
}

static void simulate(const char *status, const char *line)
{
    ind_write_file(ind_path(folder, "status.json"), status);
    ind_write_file(ind_path(folder, "indagator.yaml"),
                   "store: log\nstate: state\nzone: UTC\nlisten: [{udp: 127.0.0.1:0}]\n");
    struct ind_ran ran = ind_shell(folder, "mkdir -m 700 -p state log");
    ind_ran_free(&ran);
    simulated = fork();
    if (simulated == 0) {
        if (chdir(folder) != 0)
            _exit(126);
        execlp("python3", "python3", IND_TESTS_FOLDER "/support/simulated.py", "state/control.sock",
               "status.json", line, (char *)NULL);
        _exit(127);
    }
    ind_wait_until(has_socket, NULL, "the simulated collector listens");
}

#define RATES                                                                                                \
    "\"rates\": [{\"minutes\": 1, \"seconds\": 60, \"messages\": 12.5}, {\"minutes\": 5, \"seconds\": 300, " \
    "\"messages\": 1234.5}]"
#define LISTENERS                                                                                            \
    "\"listeners\": [{\"listener\": \"internal\"}, {\"listener\": \"udp 0.0.0.0:514\", \"at\": \"udp "       \
    "0.0.0.0:514\"}, "                                                                                       \
    "{\"listener\": \"tcp 0.0.0.0:601\", \"at\": \"tcp 0.0.0.0:601\", \"paused\": true}]"

/* Nothing has come between two answers: what is shown is the same each time. */
static const char calm[] =
    "{\"now\": \"2026-11-23T04:45:00.000000Z\", \"since\": \"2026-11-20T00:00:00.000000Z\", \"process\": "
    "4022, "
    "\"not_well\": [], " RATES ", \"ledger\": {\"received\": 4022, \"stored\": 4022}, " LISTENERS
    ", \"routes\": [{\"route\": \"all\"}], \"files\": {\"disk_bytes\": 107374182400, \"disk_bytes_free\": "
    "53687091200, "
    "\"full_in_days\": 31.4}, \"devices\": [{\"device\": \"harbour-fw\", \"received\": 4000, \"last\": "
    "\"2026-11-23T04:44:58.000000Z\"}, {\"device\": \"pier1-rtr\", \"received\": 22, \"last\": "
    "\"2026-11-23T04:40:00.000000Z\"}]}";

static const char trouble[] =
    "{\"now\": \"2026-11-23T04:45:00.000000Z\", \"since\": \"2026-11-20T00:00:00.000000Z\", \"process\": "
    "4022, "
    "\"not_well\": [{\"reason\": \"disk\", \"text\": \"the disk takes nothing\"}], " RATES
    ", \"ledger\": {\"received\": 4022, \"stored\": 4000, \"lost_disk\": 22}, " LISTENERS
    ", \"routes\": [{\"route\": \"all\"}, {\"route\": \"pages\"}], \"handed_on\": [{\"to\": \"page\", "
    "\"runs\": false}], "
    "\"relays\": [{\"relay\": \"head-office\", \"targets\": [{\"target\": \"tcp:192.0.2.1:601\", \"state\": "
    "\"up\"}]}], "
    "\"alerts\": {\"open\": 2}, \"files\": {\"disk_bytes\": 107374182400, \"disk_bytes_free\": 0}, "
    "\"silent_devices\": "
    "[{\"device\": \"pier3-sw2\", \"last\": \"2026-11-23T01:00:00.000000Z\"}], \"devices\": [{\"device\": "
    "\"harbour-fw\", "
    "\"received\": 4000, \"last\": \"2026-11-23T04:44:58.000000Z\"}, {\"device\": \"pier1-rtr\", "
    "\"received\": 22, "
    "\"lost_disk\": 22, \"last\": \"2026-11-23T04:40:00.000000Z\"}, {\"device\": \"mv-tern-rtr\", "
    "\"received\": 1, \"clock\": "
    "\"5 h behind\", \"last\": \"2026-11-23T04:45:00.000000Z\"}]}";

/* The first row that is not so; the height where all are. */
static int other_row(const char *const *rows)
{
    for (int row = 0; row < view.screen.height; row++) {
        char text[IND_SCREEN_WIDTH + 1];
        size_t length = (size_t)view.screen.width;
        memcpy(text, view.screen.rows[row], length);
        while (length > 0 && text[length - 1] == ' ')
            length--;
        text[length] = '\0';
        if (strcmp(text, rows[row]) != 0)
            return row;
    }
    return view.screen.height;
}

static void wait_for_screen(const char *const *rows)
{
    for (int i = 0; i < 400 && other_row(rows) < view.screen.height; i++) {
        nanosleep(&(struct timespec){0, 50000000L}, NULL);
        read_view();
    }
    const int row = other_row(rows);
    if (row < view.screen.height)
        print_view(rows[row]);
    assert_int_equal(row, view.screen.height);
}

static void frames_are_what_they_were(void **state)
{
    static const char *const rows_of_calm[20] = {
        "All is well                                                             04:45:00",
        "0.0 messages/s, in 5 min 1,235",
        "Listens: udp 0.0.0.0:514, tcp 0.0.0.0:601 (paused)",
        "Stores: 1 route",
        "Disk: 50.0 GiB free of 100.0 GiB, full in 31.4 days",
        "Devices (2) by trouble      a second     messages       heard",
        "harbour-fw                       0.0        4,000         2 s",
        "pier1-rtr                        0.0           22  5 min 00 s",
        "",
        "",
        "",
        "",
        "Messages: severity at least error",
        "",
        "",
        "",
        "",
        "",
        "04:44:00 error     pier1-rtr         linkd: ge0/7 link down",
        "s order  d device  f filter  v severity  space pause  ? help  q end"};
    static const char *const rows_of_trouble[20] = {
        "Not well: the disk takes nothing                                        04:45:00",
        "Look at: 2 alerts are open: indagator alerts list",
        "Look at: 22 messages have been lost since the start",
        "0.0 messages/s, in 5 min 1,235, lost 22",
        "Listens: udp 0.0.0.0:514, tcp 0.0.0.0:601 (paused)",
        "Stores: 2 routes, 0 of 1 programs run, 1 of 1 relays up, open alerts: 2",
        "Disk: 0 B free of 100.0 GiB",
        "Devices (4) by trouble      a second     messages       heard",
        "pier1-rtr                        0.0           22  5 min 00 s  22 lost",
        "mv-tern-rtr                      0.0            1         0 s  clock 5 h behind",
        "pier3-sw2                        0.0            0           -  silent",
        "harbour-fw                       0.0        4,000         2 s",
        "",
        "Messages: severity at least error",
        "",
        "",
        "",
        "",
        "04:44:00 error     pier1-rtr         linkd: ge0/7 link down",
        "s order  d device  f filter  v severity  space pause  ? help  q end"};
    static const struct {
        const char *status;
        const char *const *rows;
    } scenes[] = {{calm, rows_of_calm}, {trouble, rows_of_trouble}};
    (void)state;
    for (size_t i = 0; i < 2; i++) {
        simulate(scenes[i].status, "2026-11-23T04:44:00.000000Z\terror\tpier1-rtr\tlinkd: ge0/7 link down");
        begin_view(80, 20, "xterm");
        see("by trouble");
        wait_for_screen(scenes[i].rows);
        for (int again = 0; again < 10; again++) { /* sizes that come in turn, and keys while they do */
            resize(60, 12);
            press("s");
            if (again % 3 == 0)
                see("by rate");
            resize(80, 20);
            press("sss");
            wait_for_screen(scenes[i].rows);
        }
        press("q");
        expect_left(0);
        end_simulated();
    }
}

static void once_is_text_and_without_a_terminal_it_says_so(void **state)
{
    (void)state;
    begin_collector("devices: [{name: pier9-sw, address: 192.0.2.9}]\n");
    send_line("<38>1 - harbour-fw app - - - text\n");
    struct ind_ran ran = ind_shell(folder, "%s watch --once", IND_PROGRAM);
    assert_int_equal(ran.status, 0);
    assert_non_null(strstr(ran.out, "All is well"));
    assert_non_null(strstr(ran.out, "\nharbour-fw "));
    assert_non_null(strstr(ran.out, "Listens: tcp 127.0.0.1:"));
    assert_null(strchr(ran.out, '\033'));
    ind_ran_free(&ran);
    ran = ind_shell(folder, "%s watch </dev/null", IND_PROGRAM);
    assert_int_equal(ran.status, 2);
    assert_non_null(strstr(ran.err, "--once"));
    ind_ran_free(&ran);
    end();
    ran = ind_shell(folder, "%s watch --once", IND_PROGRAM);
    assert_int_equal(ran.status, 1);
    assert_non_null(strstr(ran.out, "No collector is running"));
    ind_ran_free(&ran);
}

static void a_terminal_that_goes_ends_it(void **state)
{
    int status = 0;
    (void)state;
    begin_collector("");
    begin_view(80, 24, "xterm");
    see("All is well");
    close(view.terminal);
    view.terminal = -1;
    for (int i = 0; i < 200 && waitpid(view.process, &status, WNOHANG) == 0; i++)
        nanosleep(&(struct timespec){0, 50000000L}, NULL);
    assert_int_equal(kill(view.process, 0), -1); /* it is no more */
    end();
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(it_shows_what_comes_and_follows_keys, set_up, tear_down),
        cmocka_unit_test_setup_teardown(it_goes_on_when_the_collector_comes_back, set_up, tear_down),
        cmocka_unit_test_setup_teardown(any_size_and_terminal_will_do, set_up, tear_down),
        cmocka_unit_test_setup_teardown(strangers_drive_nothing, set_up, tear_down),
        cmocka_unit_test_setup_teardown(it_can_do_without_colours, set_up, tear_down),
        cmocka_unit_test_setup_teardown(a_slow_line_is_enough, set_up, tear_down),
        cmocka_unit_test_setup_teardown(frames_are_what_they_were, set_up, leave),
        cmocka_unit_test_setup_teardown(once_is_text_and_without_a_terminal_it_says_so, set_up, tear_down),
        cmocka_unit_test_setup_teardown(a_terminal_that_goes_ends_it, set_up, tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
