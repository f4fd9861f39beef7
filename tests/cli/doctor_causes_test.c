/* Causes that `doctor` knows and that a collector cannot simply be brought to: told by a stand-in for one, by
 * the kernel, or by this machine. */
#define _GNU_SOURCE
#include "support/live.h"

#include <arpa/inet.h>
#include <fcntl.h>
#include <net/ethernet.h>
#include <net/if.h>
#include <netinet/in.h>
#include <netinet/ip.h>
#include <netinet/udp.h>
#include <netpacket/packet.h>
#include <pwd.h>
#include <sched.h>
#include <sys/ioctl.h>
#include <sys/resource.h>
#include <sys/timex.h>
#include <sys/un.h>
#include <sys/wait.h>

#define RULES "store: log\nstate: state\nzone: UTC\nlisten: [{udp: 127.0.0.1:0}]\n"

static pid_t helper;

static int leave(void **state)
{
    if (helper > 0) {
        (void)kill(helper, SIGKILL);
        (void)waitpid(helper, NULL, 0);
    }
    helper = 0;
    return tear_down(state);
}

static bool says(const char *check, const char *kind, const char *part)
{
    char wanted[100];
    struct ind_ran ran = ind_run(folder, "doctor", "--json", NULL);
    snprintf(wanted, sizeof wanted, "\"check\":\"%s\",\"kind\":\"%s\"", check, kind);
    const char *at = strstr(ran.out, wanted), *end = at ? strchr(at, '\n') : NULL,
               *found = at ? strstr(at, part) : NULL;
    const bool good = found && end && found < end && (strcmp(kind, "bad") != 0 || ran.status == 1);
    if (!good)
        print_error("no %s with \"%s\" in: %s%s", wanted, part, ran.out, ran.err);
    ind_ran_free(&ran);
    return good;
}

static void expect(const char *check, const char *kind, const char *part)
{
    assert_true(says(check, kind, part));
}

/* ---- A stand-in for a collector: it gives every question the same answer ---- */

static void stand_in(const char *code, const char *body)
{
    struct sockaddr_un name = {.sun_family = AF_UNIX};
    struct ind_ran ran = ind_shell(folder, "mkdir -p log state");
    ind_ran_free(&ran);
    snprintf(name.sun_path, sizeof name.sun_path, "%s", ind_path(folder, "state/control.sock"));
    (void)unlink(name.sun_path);
    int fd = socket(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0);
    assert_int_equal(bind(fd, (struct sockaddr *)&name, sizeof name), 0);
    assert_int_equal(listen(fd, 5), 0);
    helper = fork();
    assert_true(helper >= 0);
    if (helper == 0) {
        for (;;) {
            char bytes[4096];
            int connection = accept(fd, NULL, NULL);
            (void)!read(connection, bytes, sizeof bytes);
            dprintf(connection, "HTTP/1.1 %s\r\nContent-Length: %zu\r\nConnection: close\r\n\r\n%s", code,
                    strlen(body), body);
            close(connection);
        }
    }
    close(fd);
}

static void no_more_stand_in(void)
{
    (void)kill(helper, SIGKILL);
    (void)waitpid(helper, NULL, 0);
    helper = 0;
}

static void what_a_collector_may_say(void **state)
{
    (void)state;
    ind_write_file(ind_path(folder, "indagator.yaml"), RULES);
    stand_in("200 OK",
             "{\"now\":\"2026-11-23T04:45:00Z\",\"since\":\"2026-11-22T04:45:00Z\",\"ledger\":{\"lost_"
             "buffer\":7},\"silent_devices\":[{\"device\":\"pier3-sw2\",\"last\":\"2026-11-22T14:"
             "45:00Z\"}]}");
    expect("lost", "bad", "7");
    expect("silent", "advice", "pier3-sw2");
    no_more_stand_in();
    stand_in("503 Unavailable", "the collector ends\n");
    expect("no-answer", "bad", "the collector ends");
    no_more_stand_in();
}

/* Whatever it answers: nothing but a sentence comes of it. */
static void nonsense_from_a_collector_is_survived(void **state)
{
    (void)state;
    static const char *const answers[] = {
        "",
        "[]",
        "null",
        "{",
        "7",
        "\"x\"",
        "{\"devices\":7,\"listeners\":{},\"ledger\":[],\"routes\":\"x\"}",
        "{\"listeners\":[7,null,{\"at\":[]}],\"silent_devices\":[{}],\"not_well\":[{}],\"files\":[]}",
        "{\"messages\":[7,{},{\"line\":7},{\"line\":\"\"},{\"line\":\"a b\",\"sender\":\"x\"}]}",
        "route\tx\n\t\t\t\n",
        "route\tx\tname\tx\n"};
    static const char *const commands[] = {"doctor",
                                           "status",
                                           "status pier1-rtr",
                                           "doctor --file x.log",
                                           "check --against-running",
                                           "doctor --listen 20ms"};
    ind_write_file(ind_path(folder, "indagator.yaml"), RULES "routes: [{name: all, file: x.log}]\n");
    for (size_t i = 0; i < sizeof answers / sizeof *answers; i++) {
        stand_in("200 OK", answers[i]);
        for (size_t c = 0; c < sizeof commands / sizeof *commands; c++) {
            struct ind_ran ran = ind_shell(folder, "%s %s 2>&1", IND_PROGRAM, commands[c]);
            if (ran.status < 0 || ran.status > 3)
                fail_msg("%s, to %s: %d, %s", commands[c], answers[i], ran.status, ran.out);
            ind_ran_free(&ran);
        }
        no_more_stand_in();
    }
}

/* ---- The kernel and this machine ---- */

/* Somebody's socket of which nothing is read. */
static void datagrams_that_the_kernel_drops(void **state)
{
    (void)state;
    ind_write_file(ind_path(folder, "indagator.yaml"), RULES);
    helper = fork();
    assert_true(helper >= 0);
    if (helper == 0) {
        int fd = socket(AF_INET, SOCK_DGRAM, 0), small = 1;
        struct sockaddr_in to = {.sin_family = AF_INET};
        socklen_t length = sizeof to;
        const struct timespec pause = {0, 2000000};
        char bytes[1000] = "";
        to.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
        (void)setsockopt(fd, SOL_SOCKET, SO_RCVBUF, &small, sizeof small);
        (void)bind(fd, (struct sockaddr *)&to, sizeof to);
        (void)getsockname(fd, (struct sockaddr *)&to, &length);
        for (;;) {
            (void)sendto(fd, bytes, sizeof bytes, 0, (struct sockaddr *)&to, sizeof to);
            (void)nanosleep(&pause, NULL);
        }
    }
    expect("dropped", "bad", "the kernel dropped");
}

static bool write_text(const char *path, const char *text)
{
    int fd = open(path, O_WRONLY | O_CLOEXEC);
    const bool good = fd >= 0 && write(fd, text, strlen(text)) > 0;
    if (fd >= 0)
        close(fd);
    return good;
}

/* A datagram from a network to which no route leads, over and over: out of one end of a cable, into the
 * other.
 */
static void send_from_nowhere(void)
{
    struct {
        struct iphdr ip;
        struct udphdr udp;
    } packet = {.ip = {.version = 4, .ihl = 5, .ttl = 64, .protocol = IPPROTO_UDP}};
    const struct timespec pause = {0, 2000000};
    struct ifreq other = {.ifr_name = "v1"};
    struct sockaddr_ll to = {.sll_family = AF_PACKET,
                             .sll_protocol = htons(ETH_P_IP),
                             .sll_ifindex = (int)if_nametoindex("v0"),
                             .sll_halen = ETH_ALEN};
    unsigned sum = 0;
    int fd = socket(AF_PACKET, SOCK_DGRAM, htons(ETH_P_IP));
    (void)ioctl(fd, SIOCGIFHWADDR, &other);
    memcpy(to.sll_addr, other.ifr_hwaddr.sa_data, ETH_ALEN);
    packet.ip.tot_len = htons(sizeof packet);
    packet.ip.saddr = inet_addr("203.0.113.7");
    packet.ip.daddr = inet_addr("192.0.2.1");
    packet.udp.dest = htons(514);
    packet.udp.len = htons(sizeof packet.udp);
    for (size_t i = 0; i < sizeof packet.ip / 2; i++) {
        uint16_t word;
        memcpy(&word, (const char *)&packet.ip + 2 * i, sizeof word);
        sum += word;
    }
    packet.ip.check = (uint16_t) ~((sum & 0xffff) + (sum >> 16));
    for (;;) {
        (void)sendto(fd, &packet, sizeof packet, 0, (struct sockaddr *)&to, sizeof to);
        (void)nanosleep(&pause, NULL);
    }
}

/* In a network of its own; 77: none can be made. */
static int look_in_own_network(void)
{
    if (unshare(CLONE_NEWNET) != 0)
        return 77;
    struct ind_ran ran =
        ind_shell(folder, "PATH=$PATH:/usr/sbin:/sbin; ip link set lo up && ip link add v0 type "
                          "veth peer name v1 && ip addr add 192.0.2.1/24 dev v1 && ip link set "
                          "v0 up && ip link set v1 up");
    const bool made = ran.status == 0;
    ind_ran_free(&ran);
    if (!made || !write_text("/proc/sys/net/ipv4/conf/all/rp_filter", "1") ||
        !write_text("/proc/sys/net/ipv4/conf/v1/rp_filter", "1"))
        return 77;
    const pid_t sender = fork();
    if (sender == 0)
        send_from_nowhere();
    const bool good = sender > 0 && says("no-way-back", "advice", "no route leads back");
    if (sender > 0) {
        (void)kill(sender, SIGKILL);
        (void)waitpid(sender, NULL, 0);
    }
    return good ? 0 : 1;
}

static void packets_without_a_way_back(void **state)
{
    int status;
    (void)state;
    ind_write_file(ind_path(folder, "indagator.yaml"), RULES);
    helper = fork();
    assert_true(helper >= 0);
    if (helper == 0)
        _exit(look_in_own_network());
    assert_int_equal(waitpid(helper, &status, 0), helper);
    helper = 0;
    assert_true(WIFEXITED(status));
    if (WEXITSTATUS(status) == 77)
        print_message("not tried: no network of its own can be made here\n");
    else
        assert_int_equal(WEXITSTATUS(status), 0);
}

static void the_clock_of_this_machine(void **state)
{
    (void)state;
    struct timex facts = {0};
    ind_write_file(ind_path(folder, "indagator.yaml"), RULES);
    if (adjtimex(&facts) == TIME_ERROR)
        expect("clock", "advice", "nothing keeps the clock of this machine right");
    else
        print_message("not tried: the clock of this machine is in step\n");
}

static void too_few_open_files(void **state)
{
    (void)state;
    struct rlimit limit;
    if (getrlimit(RLIMIT_NOFILE, &limit) != 0 || limit.rlim_cur >= 2000000) {
        print_message("not tried: here a process may have two million files open\n");
        return;
    }
    begin(RULES "open files: 1000000\nlimits: {connections: 1000000}\n");
    expect("open-files", "advice", "");
    end();
}

static void a_small_receive_buffer(void **state)
{
    (void)state;
    char *most = ind_read_file("/proc/sys/net/core/rmem_max", NULL);
    const bool can = most && atol(most) < 1 << 20 && geteuid() == 0 && getpwnam("nobody");
    free(most);
    if (!can) {
        print_message("not tried: not root, no user nobody, or the kernel gives large buffers\n");
        return;
    }
    ind_write_file(ind_path(folder, "indagator.yaml"), RULES);
    struct ind_ran ran = ind_shell(folder,
                                   "chmod 0755 .; chmod 0644 indagator.yaml; setpriv --reuid=nobody "
                                   "--regid=nogroup --clear-groups %s doctor --json",
                                   IND_PROGRAM);
    if (!strstr(ran.out, "\"check\":\"buffer\"") || !strstr(ran.out, "sysctl -w net.core.rmem_max="))
        fail_msg("%s%s", ran.out, ran.err);
    ind_ran_free(&ran);
}

int main(void)
{
#define WITH_FOLDER(test) cmocka_unit_test_setup_teardown(test, set_up, leave)
    const struct CMUnitTest tests[] = {
        WITH_FOLDER(what_a_collector_may_say),        WITH_FOLDER(nonsense_from_a_collector_is_survived),
        WITH_FOLDER(datagrams_that_the_kernel_drops), WITH_FOLDER(packets_without_a_way_back),
        WITH_FOLDER(the_clock_of_this_machine),       WITH_FOLDER(too_few_open_files),
        WITH_FOLDER(a_small_receive_buffer),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
