/* What the built program tells a service manager: that it is ready, reloads, ends, still lives, and how it
 * is. */
#define _GNU_SOURCE
#include "support/live.h"

#include <sys/time.h>
#include <sys/un.h>

#define RULES                                                                                                \
    "store: log\nstate: state\nzone: UTC\nlisten:\n  - udp: 127.0.0.1:0\n"                                   \
    "routes:\n  - {name: all, file: all.log}\n"                                                              \
    "  - {name: p, to: {program: [/bin/sh, -c, 'env > seen; cat > /dev/null']}}\n"

static int manager = -1;

static int set_up_manager(void **state)
{
    struct sockaddr_un name = {.sun_family = AF_UNIX};
    const struct timeval patience = {60, 0};
    char before[300];
    (void)set_up(state);
    snprintf(name.sun_path, sizeof name.sun_path, "%s", ind_path(folder, "notify"));
    manager = socket(AF_UNIX, SOCK_DGRAM | SOCK_CLOEXEC, 0);
    assert_true(manager >= 0 && bind(manager, (struct sockaddr *)&name, sizeof name) == 0);
    (void)setsockopt(manager, SOL_SOCKET, SO_RCVTIMEO, &patience, sizeof patience);
    ind_write_file(ind_path(folder, "indagator.yaml"), RULES);
    snprintf(before, sizeof before, "export NOTIFY_SOCKET=%s WATCHDOG_USEC=600000 WATCHDOG_PID=$$;",
             name.sun_path);
    running = ind_collect_start_after(folder, before);
    return 0;
}

static int tear_down_manager(void **state)
{
    close(manager);
    return tear_down(state);
}

/* The next datagram that begins so; others may come before it. */
static void expect_told(const char *beginning, char text[1024])
{
    do {
        ssize_t got = recv(manager, text, 1023, 0);
        if (got < 0)
            print_error("waited in vain for %s\n", beginning);
        assert_true(got >= 0);
        text[got > 0 ? got : 0] = '\0';
    } while (strncmp(text, beginning, strlen(beginning)) != 0);
}

static void the_service_manager_is_told_how_it_stands(void **state)
{
    char text[1024];
    (void)state;
    expect_told("READY=1", text);
    assert_string_equal(text, "READY=1");
    expect_told("WATCHDOG=1", text);
    expect_told("WATCHDOG=1", text);
    int udp = open_to(IND_SEND_UDP, running.port, NULL);
    for (int i = 0; i < 100; i++)
        SAY(udp, "<13>1 - - a - - - x");
    close(udp);
    expect_told("STATUS=", text);
    assert_non_null(strstr(text, " messages/s; all is well"));
    (void)kill(running.process, SIGHUP);
    expect_told("RELOADING=1\nMONOTONIC_USEC=", text);
    expect_told("READY=1", text);
    /* One that is refused is over, too. */
    ind_write_file(ind_path(folder, "indagator.yaml"), "routes: no\n");
    (void)kill(running.process, SIGHUP);
    expect_told("RELOADING=1\nMONOTONIC_USEC=", text);
    expect_told("READY=1", text);
    end();
    expect_told("STOPPING=1", text);
    /* Programs do not speak for us. */
    char *seen = ind_read_file(ind_path(folder, "seen"), NULL);
    assert_true(seen && !strstr(seen, "NOTIFY_SOCKET") && !strstr(seen, "WATCHDOG"));
    free(seen);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(the_service_manager_is_told_how_it_stands, set_up_manager,
                                        tear_down_manager),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
