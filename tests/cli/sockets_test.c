/* The built program on sockets of other kinds: local ones, with datagrams and connections, and those that a
 * service manager has opened. */
#define _GNU_SOURCE
#include "support/live.h"

#include "support/certificates.h"
#include <arpa/inet.h>
#include <fcntl.h>
#include <sys/stat.h>
#include <sys/un.h>

#define RULES "store: log\nstate: state\nzone: UTC\n"
#define ROUTE "routes:\n  - {name: all, when: 'app is not \"indagator\"', file: all.log, layout: json}\n"

static int open_local(const char *name)
{
    const char *reason;
    int fd = ind_connect(IND_SEND_UNIX, ind_path(folder, name), NULL, NULL, &reason);
    if (fd < 0)
        print_error("%s: %s\n", name, reason);
    assert_true(fd >= 0);
    return fd;
}

static unsigned mode_of(const char *name)
{
    struct stat facts;
    assert_int_equal(stat(ind_path(folder, name), &facts), 0);
    return facts.st_mode & 07777;
}

static void reload(const char *config, const char *expected)
{
    ind_write_file(ind_path(folder, "indagator.yaml"), config);
    reload_and_expect(expected);
}

static void expect_stored(const char *const *parts, size_t count)
{
    size_t length, lines = 0;
    char *all = ind_read_file(ind_path(folder, "log/all.log"), &length);
    assert_non_null(all);
    for (size_t i = 0; i < count; i++) {
        if (!strstr(all, parts[i]))
            print_error("no %s in\n%s", parts[i], all);
        assert_non_null(strstr(all, parts[i]));
    }
    for (const char *at = all; (at = strchr(at, '\n')); at++)
        lines++;
    assert_int_equal(lines, count);
    free(all);
}

static void local_programs_send_datagrams_or_connect(void **state)
{
    static const char *const expected[] = {
        "\"transport\":\"unix\",\"listener\":\"unix ",
        "\"text\":\"by datagram\"",
        "\"text\":\"counted\"",
        "\"text\":\"a line\"",
    };
    (void)state;
    begin(RULES
          "listen:\n  - unix: one\n    mode: \"0600\"\n  - {unix: two, stream: yes, mode: \"0660\"}\n" ROUTE);
    assert_int_equal(mode_of("one"), 0600);
    assert_int_equal(mode_of("two"), 0660);
    int datagrams = open_local("one"), counted = open_local("two"), lines = open_local("two");
    SAY(datagrams, "<13>1 - - a - - - by datagram");
    SAY(counted, "25 <13>1 - - a - - - counted");
    SAY(lines, "<13>1 - - a - - - a line\n");
    SAY(lines, "<13>1 - - a - - - without its end");
    /* Permissions change with a reload, without a new socket; connections stay. */
    reload(RULES "listen:\n  - unix: one\n  - {unix: two, stream: yes, mode: \"0600\"}\n" ROUTE,
           "\"listeners\":2");
    assert_int_equal(mode_of("one"), 0666);
    assert_int_equal(mode_of("two"), 0600);
    close(datagrams);
    close(counted);
    close(lines);
    end();
    struct stat facts;
    assert_int_not_equal(stat(ind_path(folder, "two"), &facts), 0); /* they are removed at the end */
    struct ind_ran ran =
        ind_shell(folder, "grep -c . log/all.log; grep -o '\"text\":\"without its end\".*' log/all.log");
    assert_string_equal(ran.out, "4\n\"text\":\"without its end\",\"format\":\"rfc5424\"}\n");
    ind_ran_free(&ran);
    expect_stored(expected, 4);
}

/* ---- Sockets of a service manager ---- */

static int bind_one(int type, unsigned *port)
{
    struct sockaddr_in name = {.sin_family = AF_INET, .sin_addr.s_addr = htonl(INADDR_LOOPBACK)};
    socklen_t size = sizeof name;
    int fd = socket(AF_INET, type, 0);
    assert_true(fd >= 0 && bind(fd, (struct sockaddr *)&name, sizeof name) == 0 &&
                getsockname(fd, (struct sockaddr *)&name, &size) == 0);
    if (type == SOCK_STREAM)
        assert_int_equal(listen(fd, 10), 0);
    *port = ntohs(name.sin_port);
    return fd;
}

/* From descriptor 3 on, and out of their way. */
static void begin_inheriting(const char *config, const int *sockets, int count, const char *names)
{
    enum { FIRST = 3, AWAY = 50, MOST = 8 };
    char before[200];
    int away[MOST], saved[MOST];
    snprintf(before, sizeof before, "export LISTEN_PID=$$ LISTEN_FDS=%d LISTEN_FDNAMES=%s;", count, names);
    ind_write_file(ind_path(folder, "indagator.yaml"), config);
    for (int i = 0; i < count; i++) {
        away[i] = fcntl(sockets[i], F_DUPFD_CLOEXEC, AWAY);
        saved[i] = fcntl(FIRST + i, F_DUPFD_CLOEXEC, AWAY);
    }
    for (int i = 0; i < count; i++)
        assert_int_equal(dup2(away[i], FIRST + i), FIRST + i);
    running = ind_collect_start_after(folder, before);
    for (int i = 0; i < count; i++) {
        close(FIRST + i);
        if (saved[i] >= 0) {
            assert_int_equal(dup2(saved[i], FIRST + i), FIRST + i);
            close(saved[i]);
        }
        close(away[i]);
    }
}

#define INHERITED                                                                                            \
    "listen:\n  - inherited: syslog-udp\n  - inherited: syslog-tcp\n  - inherited: syslog-tls\n"             \
    "    certificate: collector.pem\n    key: collector.key\n"

static void sockets_of_the_service_manager_are_taken_by_their_names(void **state)
{
    static const char *const expected[] = {"\"transport\":\"udp\",\"listener\":\"inherited syslog-udp\"",
                                           "\"text\":\"before the start\"", "\"text\":\"over the other\"",
                                           "\"transport\":\"tls\",\"listener\":\"inherited syslog-tls\""};
    unsigned ports[5];
    int sockets[5];
    (void)state;
    ind_make_certificates(folder);
    for (int i = 0; i < 5; i++)
        sockets[i] = bind_one(i < 1 ? SOCK_DGRAM : SOCK_STREAM, &ports[i]);
    /* What comes before there is a collector waits. */
    int udp = open_to(IND_SEND_UDP, ports[0], NULL), early = open_to(IND_SEND_TCP, ports[1], NULL);
    SAY(udp, "<13>1 - - a - - - a datagram");
    SAY(early, "<13>1 - - a - - - before the start\n");
    begin_inheriting(RULES INHERITED ROUTE, sockets, 5, "syslog-udp:syslog-tcp:syslog-tls:syslog-tcp:unused");
    int other = open_to(IND_SEND_TCP, ports[3], NULL);
    SAY(other, "<13>1 - - a - - - over the other\n");
    struct ind_ran ran = ind_shell(folder, "%s emit --to tls:127.0.0.1:%u --trust authority.pem --app a x",
                                   IND_PROGRAM, ports[2]);
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
    /* One may go at a reload, and come again. */
    reload(
        RULES
        "listen:\n  - inherited: syslog-tls\n    certificate: collector.pem\n    key: collector.key\n" ROUTE,
        "\"listeners\":1");
    reload(RULES INHERITED ROUTE, "\"listeners\":3");
    assert_true(ind_file_holds(running.err, "a socket named \"unused\", which nothing under listen: takes"));
    reload(RULES "listen:\n  - inherited: nobody\n" ROUTE, "has handed over no socket of that name");
    reload(RULES
           "listen:\n  - {inherited: syslog-udp, certificate: collector.pem, key: collector.key}\n" ROUTE,
           "tls is asked of datagrams");
    close(udp);
    close(early);
    close(other);
    for (int i = 0; i < 5; i++)
        close(sockets[i]);
    end();
    expect_stored(expected, 4);
}

/* Those that are meant for another process are left alone. */
static void sockets_for_somebody_else_are_not_taken(void **state)
{
    (void)state;
    ind_write_file(ind_path(folder, "indagator.yaml"), RULES "listen:\n  - inherited: a\n" ROUTE);
    struct ind_ran ran =
        ind_shell(folder, "LISTEN_PID=1 LISTEN_FDS=1 LISTEN_FDNAMES=a %s collect 3</dev/null", IND_PROGRAM);
    assert_int_equal(ran.status, 2);
    assert_non_null(strstr(ran.err, "cannot listen on inherited a: "));
    ind_ran_free(&ran);
    ran = ind_shell(folder, "export LISTEN_PID=$$ LISTEN_FDS=1 LISTEN_FDNAMES=a; exec %s collect 3</dev/null",
                    IND_PROGRAM);
    assert_int_equal(ran.status, 2);
    assert_non_null(strstr(ran.err, "it is not a socket to which datagrams or connections come"));
    ind_ran_free(&ran);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(local_programs_send_datagrams_or_connect, set_up, tear_down),
        cmocka_unit_test_setup_teardown(sockets_of_the_service_manager_are_taken_by_their_names, set_up,
                                        tear_down),
        cmocka_unit_test_setup_teardown(sockets_for_somebody_else_are_not_taken, set_up, tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
