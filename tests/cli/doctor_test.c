/* Each cause that `doctor` knows is brought about, and must be named with what mends it. */
#define _GNU_SOURCE
#include "support/live.h"

#include <errno.h>
#include <netinet/in.h>
#include <pwd.h>
#include <sys/mount.h>
#include <sys/stat.h>
#include <sys/wait.h>

#define RULES(listen, more) "store: log\nstate: state\nzone: UTC\nlisten: [{" listen "}]\n" more

static bool mounted;
static pid_t sender;

static int leave(void **state)
{
    if (sender > 0) {
        (void)kill(sender, SIGKILL);
        (void)waitpid(sender, NULL, 0);
    }
    sender = 0;
    if (running.process > 0)
        (void)ind_collect_stop(&running, SIGKILL);
    running.process = 0;
    if (mounted)
        (void)umount2(ind_path(folder, "log"), MNT_DETACH);
    mounted = false;
    return tear_down(state);
}

static void write_rules(const char *rules)
{
    ind_write_file(ind_path(folder, "indagator.yaml"), rules);
}

/* Says something of `check` that holds `part`, and ends with that code. */
static void expect(const char *check, const char *kind, const char *part)
{
    char wanted[100];
    struct ind_ran ran = ind_run(folder, "doctor", "--json", NULL);
    snprintf(wanted, sizeof wanted, "\"check\":\"%s\",\"kind\":\"%s\"", check, kind);
    const char *at = strstr(ran.out, wanted);
    const char *end = at ? strchr(at, '\n') : NULL;
    const char *found = at ? strstr(at, part) : NULL;
    if (!found || found > end)
        fail_msg("no %s with \"%s\" in: %s%s", wanted, part, ran.out, ran.err);
    if (strcmp(kind, "bad") == 0)
        assert_int_equal(ran.status, 1);
    ind_ran_free(&ran);
}

static void expect_not(const char *check)
{
    char wanted[100];
    struct ind_ran ran = ind_run(folder, "doctor", "--json", NULL);
    snprintf(wanted, sizeof wanted, "\"check\":\"%s\"", check);
    if (strstr(ran.out, wanted))
        fail_msg("%s", ran.out);
    ind_ran_free(&ran);
}

/* A socket at a free port. */
static int bind_any(int type, unsigned *port)
{
    int fd = socket(AF_INET, type | SOCK_CLOEXEC, 0);
    struct sockaddr_in name = {.sin_family = AF_INET};
    socklen_t length = sizeof name;
    name.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    assert_int_equal(bind(fd, (struct sockaddr *)&name, sizeof name), 0);
    assert_int_equal(getsockname(fd, (struct sockaddr *)&name, &length), 0);
    *port = ntohs(name.sin_port);
    return fd;
}

static void without_a_collector(void **state)
{
    (void)state;
    write_rules(RULES("udp: 127.0.0.1:0", ""));
    expect("not-running", "bad", "nothing is received");
    expect_not("port-taken");
    write_rules(RULES("tcp: 192.0.2.1:5601", ""));
    expect("address", "bad", "tcp 192.0.2.1:5601: this machine has no such address");
    unsigned port;
    int taken = bind_any(SOCK_DGRAM, &port);
    char rules[300], part[60];
    snprintf(rules, sizeof rules, RULES("udp: 127.0.0.1:%u", ""), port);
    snprintf(part, sizeof part, "process %d, listens there already", (int)getpid());
    write_rules(rules);
    expect("port-taken", "bad", part);
    close(taken);
    write_rules("nonsense: 1\n");
    struct ind_ran ran = ind_run(folder, "doctor", NULL);
    assert_int_equal(ran.status, 2);
    assert_non_null(strstr(ran.err, "unknown key \"nonsense\""));
    ind_ran_free(&ran);
}

static void a_port_that_needs_a_right(void **state)
{
    (void)state;
    if (geteuid() != 0 || !getpwnam("nobody")) {
        print_message("not tried: this is not root, or there is no user nobody\n");
        return;
    }
    write_rules(RULES("udp: 127.0.0.1:514", ""));
    struct ind_ran ran = ind_shell(
        folder,
        "sysctl -n net.ipv4.ip_unprivileged_port_start; chmod 0755 . ; chmod 0644 indagator.yaml; setpriv "
        "--reuid=nobody --regid=nogroup --clear-groups %s doctor --json",
        IND_PROGRAM);
    if (strncmp(ran.out, "1024", 4) == 0)
        assert_non_null(strstr(ran.out, "this user may not open ports below 1024"));
    else
        print_message("not tried: here anybody may open low ports\n");
    ind_ran_free(&ran);
}

static void folders_and_file_systems(void **state)
{
    (void)state;
    write_rules(RULES("udp: 127.0.0.1:0", ""));
    ind_write_file(ind_path(folder, "log"), "");
    struct ind_ran ran = ind_shell(folder, "rm log; mkdir log state");
    ind_ran_free(&ran);
    expect_not("folder");
    if (geteuid() == 0 && getpwnam("nobody")) {
        write_rules("user: nobody\n" RULES("udp: 127.0.0.1:0", ""));
        ran = ind_shell(folder, "chmod 0755 . log; chmod 0700 state");
        ind_ran_free(&ran);
        expect("folder", "bad", "nobody may not write to the store ");
        write_rules("user: no-such-user\n" RULES("udp: 127.0.0.1:0", ""));
        expect("user", "bad", "no-such-user");
        write_rules(RULES("udp: 127.0.0.1:0", ""));
    }
    static const struct {
        const char *options, *fill, *check, *part;
        unsigned long flags;
    } kinds[] = {
        {"size=64k", "dd if=/dev/zero of=log/x bs=1k count=64 2>/dev/null", "full", "is full", 0},
        {"nr_inodes=2", "touch log/a log/b 2>/dev/null", "inodes", "inodes", 0},
        {"size=64k", "true", "read-only", "is read-only", MS_RDONLY},
        {"size=5m", "true", "full", "left", 0},
    };
    for (size_t i = 0; i < sizeof kinds / sizeof *kinds; i++) {
        mounted = mount("small", ind_path(folder, "log"), "tmpfs", kinds[i].flags, kinds[i].options) == 0;
        if (!mounted) {
            print_message("not tried: no small file system can be mounted here (%s)\n", strerror(errno));
            return;
        }
        ran = ind_shell(folder, "%s", kinds[i].fill);
        ind_ran_free(&ran);
        expect(kinds[i].check, i == 3 ? "advice" : "bad", kinds[i].part);
        (void)umount2(ind_path(folder, "log"), MNT_DETACH);
        mounted = false;
    }
}

static bool all_have_come(void *count)
{
    json_t *object = status();
    bool all = number(json_object_get(object, "ledger"), "received") >= *(unsigned long *)count;
    json_decref(object);
    return all;
}

static void what_a_collector_tells(void **state)
{
    static const char rules[] =
        "store: log\nstate: state\nzone: UTC\nallow: [127.0.0.0/29]\n"
        "listen:\n  - udp: 127.0.0.1:0\n  - tcp: 127.0.0.1:0\n"
        "devices: [{name: pier3-sw2, address: 127.0.0.6}, {name: pier1-rtr, address: 127.0.0.5}]\n"
        "edits: [{name: chatter, when: app is \"dhcpd\", drop: yes}]\n"
        "routes:\n  - {name: kernel, when: facility is kern, file: kern.log}\n"
        "  - {name: idle, when: facility is ftp, file: ftp.log}\n"
        "  - {name: own, when: app is \"indagator\", file: own.log}\n";
    unsigned long count = 9;
    (void)state;
    begin(rules);
    int known = open_to(IND_SEND_UDP, running.port, "127.0.0.5"),
        refused = open_to(IND_SEND_UDP, running.port, "127.0.0.9");
    time_t hours_ago = time(NULL) - 5 * 3600;
    char stamp[40], text[100];
    (void)strftime(stamp, sizeof stamp, "%Y-%m-%dT%H:%M:%SZ", gmtime(&hours_ago));
    int length = snprintf(text, sizeof text, "<0>1 %s pier1-rtr - - - - an old clock", stamp);
    for (int i = 0; i < 5; i++)
        say(known, text, (size_t)length);
    SAY(known, "<13>1 - pier1-rtr - - - - no route");
    SAY(known, "<13>1 - pier1-rtr dhcpd - - - dropped");
    SAY(refused, "<13>1 - - - - - - refused");
    close(known);
    close(refused);
    ind_wait_until(all_have_come, &count, "all has come, with that it has started");
    expect("refused", "bad", "are not under allow: 1, from 127.0.0.9");
    expect("unrouted", "bad", "that no route took, so that they are in no file: 1");
    expect("dropped-by-edit", "advice", "chatter");
    expect("idle-route", "advice", "idle");
    expect("idle-listener", "advice", "tcp 127.0.0.1:");
    expect("never-heard", "advice", "pier3-sw2");
    expect("device-clock", "advice", "pier1-rtr");
    expect_not("not-reloaded");
    expect_not("not-running");
    struct ind_ran ran = ind_shell(folder, "sleep 0.01; touch indagator.yaml");
    ind_ran_free(&ran);
    expect("not-reloaded", "advice", "was changed after the collector had read it");
    reload_and_expect("\"routes\":3");
    expect_not("not-reloaded");
    ran = ind_run(folder, "pause", "--after", "1h", "udp", NULL);
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
    expect("not-well", "bad", "is paused");
    end();
}

/* Two senders, one of them in two forms, while somebody listens. */
static void what_arrives_is_shown(void **state)
{
    (void)state;
    begin(RULES("udp: 127.0.0.1:0", "devices: [{name: pier1-rtr, address: 127.0.0.5}]\n"));
    sender = fork();
    assert_true(sender >= 0);
    if (sender == 0) {
        int one = open_to(IND_SEND_UDP, running.port, "127.0.0.5"),
            other = open_to(IND_SEND_UDP, running.port, "127.0.0.6");
        const struct timespec pause = {0, 5000000};
        for (;;) {
            (void)send(one, "<13>1 - - - - - - x", 19, 0);
            (void)send(one, "<13>Nov 29 22:00:00 pier1-rtr a: x", 34, 0);
            (void)send(other, "<13>1 - b - - - - x", 19, 0);
            (void)nanosleep(&pause, NULL);
        }
    }
    struct ind_ran ran = ind_run(folder, "doctor", "--listen", "500ms", "--json", NULL);
    assert_int_equal(ran.status, 0);
    static const char *const parts[] = {"\"sender\":\"127.0.0.5\",\"device\":\"pier1-rtr\"",
                                        "\"form\":\"rfc3164\"", "\"form\":\"rfc5424\"",
                                        "\"sender\":\"127.0.0.6\",\"device\":\"b\""};
    for (size_t i = 0; i < sizeof parts / sizeof *parts; i++)
        if (!strstr(ran.out, parts[i]))
            fail_msg("no %s in %s", parts[i], ran.out);
    ind_ran_free(&ran);
    end();
    ran = ind_run(folder, "doctor", "--listen", "soon", NULL);
    assert_int_equal(ran.status, 2);
    ind_ran_free(&ran);
}

static void a_second_collector(void **state)
{
    (void)state;
    begin(RULES("udp: 127.0.0.1:0", ""));
    write_rules("store: log\nstate: other\nlisten: [{udp: 127.0.0.1:0}]\n");
    char part[80];
    snprintf(part, sizeof part, "another collector, process %d, writes to ", (int)running.process);
    expect("second", "bad", part);
    end();
}

/* While it looks somebody sends to where nobody listens. */
static void datagrams_for_nobody(void **state)
{
    (void)state;
    write_rules(RULES("udp: 127.0.0.1:0", ""));
    sender = fork();
    assert_true(sender >= 0);
    if (sender == 0) {
        int fd = socket(AF_INET, SOCK_DGRAM, 0);
        struct sockaddr_in to = {.sin_family = AF_INET, .sin_port = htons(9)};
        to.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
        const struct timespec pause = {0, 5000000};
        for (;;) {
            (void)sendto(fd, "x", 1, 0, (struct sockaddr *)&to, sizeof to);
            (void)nanosleep(&pause, NULL);
        }
    }
    expect("no-port", "bad", "to ports at which nobody listens");
}

/* In a network of its own, where a filter can be made. */
static void a_packet_filter(void **state)
{
    (void)state;
    struct ind_ran ran = ind_shell(
        folder,
        "PATH=$PATH:/usr/sbin:/sbin; unshare -n sh -c 'ip link set lo up && nft add table inet f && nft "
        "add chain inet f in \"{ type filter hook input priority 0; }\" && nft add rule inet f in udp "
        "dport 5514 drop'");
    const bool can = ran.status == 0;
    ind_ran_free(&ran);
    if (!can) {
        print_message("not tried: no packet filter can be made in a network of its own here\n");
        return;
    }
    write_rules(RULES("udp: 127.0.0.1:5514", ""));
    ind_write_file(
        ind_path(folder, "filtered.sh"),
        "start() {\n"
        "  rm -f err; $PROGRAM collect 2>err & collector=$!\n" /* that of the one before says so, too */
        "  until grep -qs 'listening on' err; do sleep 0.05; done\n"
        "  $PROGRAM emit --to udp:127.0.0.1:5514 --rate 200 --count 1000000 x >/dev/null & sender=$!\n"
        "}\n"
        "ip link set lo up\n"
        "nft add table inet f\nnft add chain inet f in '{ type filter hook input priority 0; }'\n"
        "start; $PROGRAM doctor --json >before\n"
        "kill $sender $collector; wait $collector\n"
        "nft add rule inet f in udp dport 5514 drop\n"
        "start; $PROGRAM doctor --json >after\n"
        "kill $sender $collector; wait $collector\n"
        "cat before; echo ---; cat after\n");
    ran = ind_shell(folder, "PATH=$PATH:/usr/sbin:/sbin PROGRAM=%s unshare -n sh filtered.sh 2>&1",
                    IND_PROGRAM);
    const char *after = strstr(ran.out, "---"), *first = strstr(ran.out, "\"check\":\"filtered\"");
    if (!after || !first || first < after || !strstr(first, "\"kind\":\"bad\"") ||
        !strstr(first, "a packet filter drops them"))
        fail_msg("%s", ran.out);
    ind_ran_free(&ran);
}

/* The ports are opened for a while, and given back. */
static void ports_that_nobody_holds(void **state)
{
    (void)state;
    unsigned port;
    close(bind_any(SOCK_STREAM, &port));
    char rules[600], script[2000];
    snprintf(rules, sizeof rules,
             "store: log\nstate: state\nzone: UTC\nallow: [127.0.0.0/16]\n"
             "listen: [{udp: 127.0.0.1:%u}, {tcp: 127.0.0.1:%u}, {unix: here.sock}]\n"
             "devices: [{name: pier1-rtr, address: 127.0.0.5}]\n",
             port, port);
    write_rules(rules);
    /* What arrives is said again and again: the doctor may be late. */
    snprintf(script, sizeof script,
             "%s doctor --listen 2s --json >heard 2>err & doctor=$!\n"
             "until grep -q instead err; do sleep 0.05; done\n"
             "%s emit --to udp:127.0.0.1:%u --form rfc3164 --count 3 one\n"
             "%s emit --to tcp:127.0.0.1:%u --framing count --count 4 two\n"
             "%s emit --to tcp:127.0.0.1:%u --framing lines --form rfc3164 --count 5 three\n"
             "%s emit --to unix:here.sock --count 6 four\n"
             "wait $doctor; echo $?; cat heard\n",
             IND_PROGRAM, IND_PROGRAM, port, IND_PROGRAM, port, IND_PROGRAM, port, IND_PROGRAM);
    ind_write_file(ind_path(folder, "listen.sh"), script);
    struct ind_ran ran = ind_shell(folder, "sh listen.sh 2>&1");
    static const char *const parts[] = {
        "\"form\":\"rfc3164\",\"messages\":3}", "\"form\":\"rfc5424\",\"messages\":4}",
        "\"form\":\"rfc3164\",\"messages\":5}", "\"form\":\"rfc5424\",\"messages\":6}"};
    for (size_t i = 0; i < sizeof parts / sizeof *parts; i++)
        if (!strstr(ran.out, parts[i]))
            fail_msg("no %s in %s", parts[i], ran.out);
    ind_ran_free(&ran);
    ran = ind_run(folder, "doctor", "--listen", "1 s", NULL);
    assert_int_equal(ran.status, 1); /* nothing comes */
    ind_ran_free(&ran);
    ran = ind_run(folder, "doctor", "--listen", "1s", "--file", "x.log", NULL);
    assert_int_equal(ran.status, 2);
    ind_ran_free(&ran);
}

int main(void)
{
#define WITH_FOLDER(test) cmocka_unit_test_setup_teardown(test, set_up, leave)
    const struct CMUnitTest tests[] = {
        WITH_FOLDER(without_a_collector),      WITH_FOLDER(a_port_that_needs_a_right),
        WITH_FOLDER(folders_and_file_systems), WITH_FOLDER(what_a_collector_tells),
        WITH_FOLDER(what_arrives_is_shown),    WITH_FOLDER(a_second_collector),
        WITH_FOLDER(datagrams_for_nobody),     WITH_FOLDER(a_packet_filter),
        WITH_FOLDER(ports_that_nobody_holds),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
