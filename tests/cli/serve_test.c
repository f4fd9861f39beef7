/* The built program asked over HTTP, by those who should and by others; listeners that are paused; a
 * balancer's round. */
#define _GNU_SOURCE
#include "support/live.h"

#include <arpa/inet.h>
#include <errno.h>
#include <netinet/in.h>
#include <poll.h>
#include <sys/stat.h>

#define RULES                                                                                                \
    "store: log\nstate: state\nzone: UTC\nserve: 127.0.0.1:0\nlisten:\n  - udp: 127.0.0.1:0\n"               \
    "  - tcp: 127.0.0.1:0\n" IND_QUIET "devices: [{name: pier1-rtr, address: 127.0.0.5}]\n"                  \
    "routes: [{name: all, when: 'app is not \"indagator\"', file: all.log}]\n"

static unsigned http_port(struct ind_running *of)
{
    return ind_reported_port(of, "serving at http://127.0.0.1:");
}

/* The answer to bytes, as far as it comes within two seconds; to be freed. */
static char *ask_with(unsigned port, const char *bytes, size_t length)
{
    char *answer = calloc(1, 1 << 20);
    size_t got = 0;
    struct sockaddr_in to = {.sin_family = AF_INET, .sin_port = htons((uint16_t)port)};
    to.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    int fd = socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
    assert_non_null(answer);
    if (connect(fd, (struct sockaddr *)&to, sizeof to) == 0) {
        (void)send(fd, bytes, length, MSG_NOSIGNAL);
        struct pollfd poller = {.fd = fd, .events = POLLIN};
        ssize_t part = 1;
        while (part > 0 && got < (1 << 20) - 1 && poll(&poller, 1, 2000) == 1)
            got += (size_t)((part = recv(fd, answer + got, (1 << 20) - 1 - got, 0)) > 0 ? part : 0);
    }
    close(fd);
    return answer;
}

static char *ask(unsigned port, const char *method, const char *path)
{
    char text[400];
    int length =
        snprintf(text, sizeof text, "%s %s HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n", method, path);
    return ask_with(port, text, (size_t)length);
}

/* 0: nobody answers. */
static int code_of(unsigned port, const char *method, const char *path)
{
    char *answer = ask(port, method, path);
    int code = strncmp(answer, "HTTP/1.1 ", 9) == 0 ? atoi(answer + 9) : 0;
    free(answer);
    return code;
}

static void expect_answer(unsigned port, const char *path, int code, const char *part)
{
    char *answer = ask(port, "GET", path);
    if (atoi(answer + 9) != code || !strstr(answer, part))
        fail_msg("GET %s: %s", path, answer);
    free(answer);
}

static void all_is_told(void **state)
{
    (void)state;
    begin(RULES);
    unsigned port = http_port(&running);
    int udp = open_to(IND_SEND_UDP, running.port, "127.0.0.5");
    SAY(udp, "<13>1 - - a - - - one");
    wait_lines("log/all.log", 1);
    close(udp);
    expect_answer(port, "/health", 200, "\r\n\r\nrunning\n");
    expect_answer(port, "/metrics", 200,
                  "\nindagator_device_messages_received_total{device=\"pier1-rtr\"} 1\n");
    expect_answer(port, "/metrics", 200, "\nindagator_healthy 1\n");
    expect_answer(port, "/metrics", 200, "text/plain");
    expect_answer(port, "/status", 200, "\"not_well\":[]");
    struct ind_ran ran = ind_shell(
        folder, "curl -s -H 'Accept: application/openmetrics-text' -D- http://127.0.0.1:%u/metrics", port);
    assert_non_null(strstr(ran.out, "application/openmetrics-text; version=1.0.0"));
    ind_ran_free(&ran);
    ran = ind_shell(folder, "curl -s -I http://127.0.0.1:%u/health", port);
    assert_non_null(strstr(ran.out, "200 OK"));
    ind_ran_free(&ran);
    end();
}

/* The parser of others, on names that nobody would give. */
static void other_parsers_read_the_metrics(void **state)
{
    (void)state;
    struct ind_ran ran = ind_shell(folder, "/usr/bin/python3 -c 'import prometheus_client' 2>/dev/null");
    bool there = ran.status == 0;
    ind_ran_free(&ran);
    if (!there) {
        print_message("not tried: there is no python3-prometheus-client here\n");
        return;
    }
    begin("store: log\nstate: state\nserve: 127.0.0.1:0\nlisten: [{udp: 127.0.0.1:0}]\n");
    int udp = open_to(IND_SEND_UDP, running.port, "127.0.0.6");
    SAY(udp, "<13>1 - a\"b\\c{}= - - - - one");
    SAY(udp, "<13>1 - \xff\xfe\x1b[31m - - - - two");
    SAY(udp, "<13>1 - \"}\x0b{ - - - - three");
    close(udp);
    ind_write_file(ind_path(folder, "read.py"),
                   "import sys\nfrom prometheus_client.openmetrics.parser import "
                   "text_string_to_metric_families as read\n"
                   "names = {s.labels.get('device') for f in read(sys.stdin.read()) for s in f.samples}\n"
                   "print(len(names))\nprint('a\"b\\\\c{}=' in names)\n");
    ran = ind_shell(
        folder,
        "sleep 0.2; curl -s -H 'Accept: application/openmetrics-text' http://127.0.0.1:%u/metrics | "
        "/usr/bin/python3 read.py",
        http_port(&running));
    if (!strstr(ran.out, "True"))
        fail_msg("%s%s", ran.out, ran.err);
    ind_ran_free(&ran);
    end();
}

static void only_what_is_there_can_be_read(void **state)
{
    (void)state;
    begin(RULES);
    unsigned port = http_port(&running);
    static const char *const methods[] = {"POST", "PUT", "DELETE", "PATCH", "OPTIONS", "TRACE"};
    static const char *const paths[] = {"/health", "/metrics", "/status"};
    for (size_t m = 0; m < sizeof methods / sizeof *methods; m++)
        for (size_t p = 0; p < 3; p++)
            assert_int_equal(code_of(port, methods[m], paths[p]), 405);
    static const char *const others[] = {"/",       "/rotate", "/reload",  "/pause",
                                         "/resume", "/follow", "/health/", "/%2e%2e/etc/passwd"};
    for (size_t i = 0; i < sizeof others / sizeof *others; i++) {
        assert_int_equal(code_of(port, "GET", others[i]), 404);
        assert_int_equal(code_of(port, "POST", others[i]), 404);
    }
    assert_int_equal(code_of(port, "GET", "/health?x=1"), 400);
    assert_int_equal(code_of(port, "GET", "/status?"), 400);
    assert_int_equal(code_of(port, "GET", "/health"), 200);
    assert_false(ind_file_holds(running.err, "reloaded") || ind_file_holds(running.err, "paused"));
    end();
}

enum { CROWD = 200 };

/* Meanwhile messages are filed, and once the crowd has gone answers come again. */
static void hostile_requests_disturb_nobody(void **state)
{
    enum { MESSAGES = 300 };
    (void)state;
    begin(RULES);
    unsigned port = http_port(&running);
    int crowd[CROWD];
    static const char *const words[] = {"GET /health HTTP/1.1\r\n",
                                        "\xff\xfe\x00garbage",
                                        "GET",
                                        "POST /health HTTP/1.1\r\nContent-Length: 99999999\r\n\r\n",
                                        "GET /status HTTP/1.1\r\n\r\nGET /metrics HTTP/1.1\r\n\r\n",
                                        ""};
    for (int i = 0; i < CROWD; i++) {
        const char *word = words[i % 6];
        crowd[i] = open_to(IND_SEND_TCP, port, NULL);
        (void)send(crowd[i], word, strlen(word), MSG_NOSIGNAL);
    }
    int udp = open_to(IND_SEND_UDP, running.port, "127.0.0.5");
    for (int i = 0; i < MESSAGES; i++)
        SAY(udp, "<13>1 - - a - - - one");
    close(udp);
    wait_lines("log/all.log", MESSAGES);
    for (int i = 0; i < CROWD; i++)
        close(crowd[i]);
    char *large = calloc(1, 100001);
    assert_non_null(large);
    memset(large, 'x', 100000);
    memcpy(large, "GET /health HTTP/1.1\r\nA: ", 25);
    char *answer = ask_with(port, large, 100000);
    assert_null(strstr(answer, "200 OK"));
    free(answer);
    free(large);
    uint64_t random = 88172645;
    for (int round = 0; round < 200; round++) { /* bytes of a request, changed and cut */
        char bytes[] = "GET /metrics HTTP/1.1\r\nHost: x\r\nAccept: application/openmetrics-text\r\n\r\n";
        for (int n = 0; n < 3; n++) {
            random = random * 6364136223846793005u + 1442695040888963407u;
            bytes[(random >> 33) % (sizeof bytes - 1)] = (char)(random >> 20);
        }
        int fd = open_to(IND_SEND_TCP, port, NULL);
        (void)send(fd, bytes, (random >> 40) % sizeof bytes, MSG_NOSIGNAL);
        close(fd);
    }
    expect_answer(port, "/health", 200, "running");
    end();
}

/* One that no client's end is given meanwhile: below those that the kernel gives. */
static unsigned free_port(void)
{
    static unsigned next;
    struct sockaddr_in name = {.sin_family = AF_INET};
    name.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    next = next ? next : 10000 + (unsigned)getpid() % 10000;
    for (;; next++) {
        int udp = socket(AF_INET, SOCK_DGRAM, 0), tcp = socket(AF_INET, SOCK_STREAM, 0);
        name.sin_port = htons((uint16_t)next);
        bool free = bind(udp, (struct sockaddr *)&name, sizeof name) == 0 &&
                    bind(tcp, (struct sockaddr *)&name, sizeof name) == 0;
        close(udp);
        close(tcp);
        if (free)
            return next++;
        assert_true(next < 30000);
    }
}

/* Nobody listens at a port of ours: the kernel says so to whoever sends there. */
static bool is_closed(void *port)
{
    int fd = open_to(IND_SEND_UDP, *(unsigned *)port, "127.0.0.7");
    (void)send(fd, "<13>x", 5, 0);
    struct pollfd poller = {.fd = fd, .events = POLLIN};
    (void)poll(&poller, 1, 50);
    bool closed = send(fd, "<13>x", 5, 0) < 0 && errno == ECONNREFUSED;
    close(fd);
    return closed;
}

static bool is_listened(void *port)
{
    return !is_closed(port);
}

static void run_well(const char *arguments, const char *part)
{
    struct ind_ran ran = ind_shell(folder, "%s %s", IND_PROGRAM, arguments);
    if (ran.status != 0 || !strstr(ran.out, part))
        fail_msg("%s: %d: %s%s", arguments, ran.status, ran.out, ran.err);
    ind_ran_free(&ran);
}

static void a_pause_is_told_first_and_outlives_a_reload(void **state)
{
    char config[1000];
    unsigned port = free_port();
    (void)state;
    snprintf(
        config, sizeof config,
        "store: log\nstate: state\nserve: 127.0.0.1:0\nlisten:\n  - udp: 127.0.0.1:%u\n  - tcp: 127.0.0.1:0\n"
        "routes: [{name: all, when: 'app is not \"indagator\"', file: all.log}]\n",
        port);
    begin(config);
    unsigned http = http_port(&running);
    int udp = open_to(IND_SEND_UDP, port, NULL);
    SAY(udp, "<13>1 - - a - - - one");
    run_well("pause --after 300ms udp", "udp 127.0.0.1:");
    SAY(udp, "<13>1 - - a - - - two"); /* while /health says so already */
    expect_answer(http, "/health", 503, "\"reason\":\"paused\"");
    close(udp);
    ind_wait_until(is_closed, &port, "the listener is closed");
    char *text = ind_read_file(ind_path(folder, "log/all.log"), NULL);
    assert_non_null(text);
    assert_non_null(strstr(text, " one\n"));
    assert_non_null(strstr(text, " two\n"));
    free(text);
    reload_and_expect("\"listeners\":2");
    assert_true(is_closed(&port));
    expect_answer(http, "/health", 503, "is paused");
    expect_answer(http, "/metrics", 200, "indagator_problem{reason=\"paused\"} 1\n");
    run_well("resume", "no listener is paused");
    udp = open_to(IND_SEND_UDP, port, NULL);
    SAY(udp, "<13>1 - - a - - - three");
    close(udp);
    ind_wait_until(is_listened, &port, "it is listened on again");
    expect_answer(http, "/health", 200, "running");
    struct ind_ran ran = ind_run(folder, "pause", "nonsense", NULL);
    assert_int_equal(ran.status, 3);
    assert_non_null(strstr(ran.err, "\"nonsense\" is no listener here"));
    ind_ran_free(&ran);
    run_well("pause --after 0s", "tcp 127.0.0.1:0");
    end();
}

/* ---- A balancer's round ---- */

enum { NODES = 3, ROUNDS = 60, A_ROUND = 20 };

struct node {
    char folder[300], config[700];
    struct ind_running running;
    unsigned http;
    bool passed_to; /* the balancer believes that it is well */
    int socket;
    unsigned sent;
};

static void start_node(struct node *node, unsigned number, unsigned udp, unsigned http)
{
    snprintf(node->folder, sizeof node->folder, "%s/%u", folder, number);
    (void)mkdir(node->folder, 0755);
    snprintf(node->config, sizeof node->config,
             "store: log\nstate: state\nserve: 127.0.0.1:%u\nlisten: [{udp: 127.0.0.1:%u}]\n" IND_QUIET
             "routes: [{name: all, when: 'app is not \"indagator\"', file: all.log}]\n",
             http, udp);
    ind_write_file(ind_path(node->folder, "indagator.yaml"), node->config);
    node->running = ind_collect_start(node->folder);
    node->http = http_port(&node->running);
    node->socket = open_to(IND_SEND_UDP, udp, "127.0.0.5");
}

static int stop_node(struct node *node, int signal)
{
    int code = ind_collect_stop(&node->running, signal);
    free(node->running.out);
    free(node->running.err);
    return code;
}

static void look_at_nodes(struct node nodes[NODES])
{
    for (int i = 0; i < NODES; i++)
        nodes[i].passed_to = code_of(nodes[i].http, "GET", "/health") == 200;
}

/* Some messages, in turn. */
static void pass_on(struct node nodes[NODES], unsigned *number)
{
    for (int i = 0, n = 0, tries = 0; i < A_ROUND && tries < 10 * A_ROUND; tries++, n = (n + 1) % NODES) {
        char text[60];
        if (!nodes[n].passed_to)
            continue;
        int length = snprintf(text, sizeof text, "<13>1 - - a - - - number %u", (*number)++);
        nodes[n].sent += send(nodes[n].socket, text, (size_t)length, 0) == length;
        i++;
    }
}

static size_t lines_of(const struct node *node)
{
    char *text = ind_read_file(ind_path(node->folder, "log/all.log"), NULL);
    size_t lines = 0;
    for (const char *at = text; at && (at = strchr(at, '\n')); at++)
        lines++;
    free(text);
    return lines;
}

static bool node_has_filed_all(void *node)
{
    return lines_of(node) == ((struct node *)node)->sent;
}

static bool node_is_well(void *node)
{
    return code_of(((struct node *)node)->http, "GET", "/health") == 200;
}

/* One is paused, one is killed, and both come back. Nothing is lost but what was under way to the killed one.
 */
static void a_balancer_passes_by_who_is_not_well(void **state)
{
    static struct node nodes[NODES];
    unsigned number = 0, ports[2 * NODES];
    (void)state;
    memset(nodes, 0, sizeof nodes);
    for (int i = 0; i < 2 * NODES; i++)
        ports[i] = free_port();
    for (unsigned i = 0; i < NODES; i++)
        start_node(&nodes[i], i, ports[i], ports[NODES + i]);
    unsigned at_kill = 0, lost = 0;
    for (int round = 0; round < ROUNDS; round++) {
        if (round == 20)
            ind_wait_until(node_has_filed_all, &nodes[1], "what it has got is filed");
        look_at_nodes(nodes);
        if (round == 10) {
            struct ind_ran ran = ind_run(nodes[0].folder, "pause", "--after", "300ms", NULL);
            assert_int_equal(ran.status, 0);
            ind_ran_free(&ran);
        } else if (round == 20) { /* which the balancer learns when it looks again */
            at_kill = nodes[1].sent;
            (void)stop_node(&nodes[1], SIGKILL);
        } else if (round == 35) {
            struct ind_ran ran = ind_run(nodes[0].folder, "resume", NULL);
            assert_int_equal(ran.status, 0);
            ind_ran_free(&ran);
            ind_wait_until(node_is_well, &nodes[0], "the paused one is well again");
        } else if (round == 45) {
            lost = nodes[1].sent - at_kill;
            close(nodes[1].socket);
            start_node(&nodes[1], 1, ports[1], ports[NODES + 1]);
            ind_wait_until(node_is_well, &nodes[1], "the killed one is there again");
        }
        pass_on(nodes, &number);
    }
    for (int i = 0; i < NODES; i++) {
        close(nodes[i].socket);
        assert_true(nodes[i].sent > 0);
        assert_int_equal(stop_node(&nodes[i], SIGTERM), 0);
    }
    assert_int_equal(lines_of(&nodes[0]), nodes[0].sent);
    assert_int_equal(lines_of(&nodes[1]), nodes[1].sent - lost);
    assert_int_equal(lines_of(&nodes[2]), nodes[2].sent);
    assert_true(lost <= A_ROUND);
    assert_true(nodes[0].sent + nodes[1].sent + nodes[2].sent + A_ROUND >= number);
}

int main(void)
{
#define WITH_FOLDER(test) cmocka_unit_test_setup_teardown(test, set_up, tear_down)
    const struct CMUnitTest tests[] = {
        WITH_FOLDER(all_is_told),
        WITH_FOLDER(other_parsers_read_the_metrics),
        WITH_FOLDER(only_what_is_there_can_be_read),
        WITH_FOLDER(hostile_requests_disturb_nobody),
        WITH_FOLDER(a_pause_is_told_first_and_outlives_a_reload),
        WITH_FOLDER(a_balancer_passes_by_who_is_not_well),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
