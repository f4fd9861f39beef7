/* The built program against senders, files and callers that mean harm: nothing stops it, hides, passes for
 * another's, or is answered wrongly. */
#define _GNU_SOURCE
#include "support/live.h"

#include "net/udp.h"

#include <sys/stat.h>
#include <sys/un.h>
#include <sys/wait.h>

static bool all_stored(void *context)
{
    const unsigned long *wanted = context;
    json_t *object = status();
    bool stored = number(json_object_get(object, "ledger"), "stored") >= *wanted;
    json_decref(object);
    return stored;
}

/* Messages of our own are among them. */
static void wait_stored(unsigned long wanted)
{
    ind_wait_until(all_stored, &wanted, "all is stored");
}

static void expect_lines(const char *file, const char *condition, int exit_code, const char *expected)
{
    struct ind_ran ran = condition ? ind_run(folder, "search", "--count", "--when", condition, file, NULL)
                                   : ind_run(folder, "search", "--count", file, NULL);
    char *to = ran.out; /* as plain numbers */
    for (const char *at = ran.out; *at; at++)
        if (*at != ',')
            *to++ = *at;
    *to = '\0';
    if (ran.status != exit_code || strcmp(ran.out, expected) != 0)
        print_error("%s: %d %s%s", condition ? condition : "everything", ran.status, ran.out, ran.err);
    assert_int_equal(ran.status, exit_code);
    assert_string_equal(ran.out, expected);
    ind_ran_free(&ran);
}

/* ---- It cannot be stopped ---- */

/* -1 where the kernel says at once that nobody listens. */
static int try_to_send(bool tcp, const char *target, unsigned port, const char *text)
{
    char number[16];
    const char *reason;
    snprintf(number, sizeof number, "%u", port);
    int fd = ind_connect(tcp ? IND_SEND_TCP : IND_SEND_UDP, target, number, NULL, &reason);
    if (fd >= 0)
        (void)send(fd, text, strlen(text), MSG_NOSIGNAL);
    return fd;
}

static void a_message_that_no_batch_has_room_for_is_cut_and_hangs_nothing(void **state)
{
    static char message[65000];
    (void)state;
    begin("store: log\nstate: state\nzone: UTC\nlisten:\n  - udp: 127.0.0.1:0\n"
          "edits:\n  - {name: q, when: 'msgid in (\"started\", \"stopped\", \"configuration-doubtful\")', "
          "drop: yes}\n  - "
          "{name: l, label: {l: "
          "\"{text}\"}}\nroutes:\n  - {name: j, file: j.log, layout: json}\n"
          "  - {name: t, file: t.log, layout: \"{text}{text}{text}{text}{text}\"}\n");
    int fd = open_to(IND_SEND_UDP, running.port, NULL);
    memset(message, 1, sizeof message);
    memcpy(message, "<34>", 4);
    for (int i = 0; i < 8; i++) {
        say(fd, message, sizeof message);
        SAY(fd, "<34>after");
    }
    wait_stored(16);
    json_t *object = status(), *route;
    size_t i;
    json_array_foreach(json_object_get(object, "routes"), i, route)
    {
        assert_int_equal(number(route, "messages"), 16);
        assert_int_equal(number(route, "cut"), 8);
    }
    json_decref(object);
    end();
    close(fd);
    /* Every line is one: none is glued to the next. What was cut is not answered for. */
    expect_lines("log/j.log", NULL, 0, "16\n");
    expect_lines("log/t.log", NULL, 0, "16\n");
    expect_lines("log/j.log", "severity is critical", 0, "16\n");
    expect_lines("log/j.log", "app is absent and severity is critical", 3, "16\n");
    struct ind_ran ran = ind_shell(folder, "wc -l < log/t.log; grep -c ' .x.cut.$' log/t.log; "
                                           "grep -c '\"line_cut\":true' log/j.log");
    assert_string_equal(ran.out, "16\n8\n8\n");
    ind_ran_free(&ran);
}

/* With 200 descriptors strangers take all that there are for connections; the collector files, turns over and
 * answers. */
static void strangers_cannot_take_the_descriptors_that_the_collector_needs(void **state)
{
    enum { CONNECTIONS = 300, FILES = 150, LIMIT = 200 };
    static int connections[CONNECTIONS];
    (void)state;
    ind_write_file(
        ind_path(folder, "indagator.yaml"),
        "store: log\nstate: state\nzone: UTC\nlisten:\n  - udp: 127.0.0.1:0\n  - tcp: 127.0.0.1:0\n"
        "routes:\n  - {name: all, file: \"{app}.log\"}\n");
    running = ind_collect_start_limited(folder, LIMIT);
    unsigned tcp = ind_reported_port(&running, "tcp 127.0.0.1:");
    for (int i = 0; i < CONNECTIONS; i++)
        connections[i] = try_to_send(true, i % 2 ? "127.0.0.1" : "127.0.0.2", tcp, "<13>half");
    int fd = open_to(IND_SEND_UDP, running.port, NULL);
    for (int i = 0; i < FILES; i++) {
        char text[40];
        snprintf(text, sizeof text, "<13>1 - - app%d - - - x", i);
        say(fd, text, strlen(text));
    }
    wait_stored(FILES);
    struct ind_ran ran = ind_run(folder, "rotate", NULL);
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
    for (int i = 0; i < CONNECTIONS; i++)
        if (connections[i] >= 0)
            close(connections[i]);
    close(fd);
    end_with(SIGTERM, 0);
}

/* Half messages of many connections have a bound together; those that are ended are messages all the same. */
static void half_messages_have_a_bound_together(void **state)
{
    enum { CONNECTIONS = 60, HALF = 60000 };
    static char half[HALF];
    static int connections[CONNECTIONS];
    (void)state;
    begin("store: log\nstate: state\nzone: UTC\nburst buffer: 8 MiB\nlisten:\n  - tcp: 127.0.0.1:0\n"
          "routes:\n  - {name: all, file: all.log}\n");
    unsigned tcp = ind_reported_port(&running, "tcp 127.0.0.1:");
    memset(half, 'x', sizeof half);
    memcpy(half, "<13>", 4);
    for (int i = 0; i < CONNECTIONS; i++) {
        connections[i] = open_to(IND_SEND_TCP, tcp, NULL);
        say(connections[i], half, sizeof half);
    }
    /* 2 MiB hold 16 of them, each in 128 KiB; the others are ended, and filed. */
    unsigned long wanted = CONNECTIONS - 40;
    wait_stored(wanted);
    json_t *object = status();
    unsigned long ended =
        number(json_array_get(json_object_get(object, "receivers"), 0), "connections_too_slow");
    assert_true(ended >= wanted);
    json_decref(object);
    struct ind_ran ran = ind_run(folder, "status", NULL);
    assert_non_null(strstr(ran.out, " ended for want of room for half messages"));
    ind_ran_free(&ran);
    assert_true(ind_file_holds(running.err, "half messages of all connections fill the 2048 KiB"));
    for (int i = 0; i < CONNECTIONS; i++)
        close(connections[i]);
    wanted = CONNECTIONS;
    wait_stored(wanted);
    end();
    expect_lines("log/all.log", "text starts with \"xxx\"", 0, "60\n");
}

/* While an archive is packed as hard as can be, reloads go on, and each is answered for what was on disk when
 * it was asked for; so does the end. */
static void reloads_wait_for_no_archive_and_are_answered_each_for_itself(void **state)
{
#define RULES                                                                                                \
    "store: log\nstate: state\nzone: UTC\nlisten:\n  - udp: 127.0.0.1:0\nroutes:\n  - {name: all, file: "    \
    "all.log}\n"
    (void)state;
    ind_write_file(ind_path(folder, "indagator.yaml"),
                   RULES "archives: {default: {rotate: every day, compress: none}}\n");
    struct ind_ran ran =
        ind_shell(folder,
                  "awk 'BEGIN { srand(1); for (i = 0; i < 150000; i++) print \"<13>1 - - app - - - \" rand() "
                  "rand() rand() rand() }' "
                  "> in; %s collect --from in > out && %s rotate > out && ls log/*.log && du -k in | cut -f1",
                  IND_PROGRAM, IND_PROGRAM);
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
    const char *good = RULES "archives: {default: {rotate: every day, compress: zstd 19}}\n";
    begin(good);
    ind_write_file(ind_path(folder, "good.yaml"), good);
    ind_write_file(ind_path(folder, "broken.yaml"), RULES "archives: {default: {rotate: every dya}}\n");
    ran = ind_shell(
        folder, "ask() { curl -s -o answer.$1 --unix-socket state/control.sock -X POST -w '%%{http_code}\\n' "
                "http://x/reload; }\n"
                /* The two meet at different moments. */
                "for i in 1 2 3 4 5 6 7 8; do cp good.yaml indagator.yaml; ask 1 > first & "
                "sleep 0.0$i; cp broken.yaml indagator.yaml; ask 2; wait; done | sort | uniq -c; "
                "cp good.yaml indagator.yaml; ask 1; ls log");
    if (!strstr(ran.out, "      8 409\n200\n"))
        print_error("%s", ran.out);
    assert_non_null(strstr(ran.out, "      8 409\n200\n"));
    /* All that was before it was packed; otherwise nothing was tried here. */
    assert_null(strstr(ran.out, ".zst"));
    ind_ran_free(&ran);
    end();
    ran = ind_shell(folder, "ls -A log");
    assert_null(strstr(ran.out, ".tmp"));
    ind_ran_free(&ran);
}

static void expect_told(int exit_code, const char *told, const char *command)
{
    struct ind_ran ran = ind_shell(folder, "timeout 20 %s %s", IND_PROGRAM, command);
    if (ran.status != exit_code || !strstr(ran.err, told))
        print_error("%s: %d %s%s", command, ran.status, ran.out, ran.err);
    assert_int_equal(ran.status, exit_code);
    assert_non_null(strstr(ran.err, told));
    ind_ran_free(&ran);
}

static void what_has_no_end_is_refused_with_its_place(void **state)
{
    static const char *const ends[] = {"fifo", "/dev/zero", "/dev/tty", "."};
    (void)state;
    assert_int_equal(mkfifo(ind_path(folder, "fifo"), 0600), 0);
    for (size_t i = 0; i < sizeof ends / sizeof *ends; i++) {
        char text[400];
        snprintf(text, sizeof text, "store: log\ninclude: [\"%s\"]\n", ends[i]);
        ind_write_file(ind_path(folder, "indagator.yaml"), text);
        expect_told(1, "indagator.yaml:2:11: cannot read", "check 1>&2");
        snprintf(text, sizeof text, "store: log\ndevices:\n  - from: \"%s\"\n", ends[i]);
        ind_write_file(ind_path(folder, "indagator.yaml"), text);
        expect_told(1, "indagator.yaml:3:11: cannot read", "check 1>&2");
    }
    expect_told(1, "it is not a file, but a pipe", "check -c fifo 1>&2");
}

/* It would append to what it reads. */
static void files_of_the_own_store_are_not_read_while_they_are_written(void **state)
{
    (void)state;
    ind_write_file(ind_path(folder, "indagator.yaml"),
                   "store: log\nstate: state\nzone: UTC\nroutes:\n  - {name: a, file: a.log}\n");
    ind_write_file(ind_path(folder, "in"), "<13>1 - - a - - - x\n<13>1 - - a - - - y\n");
    expect_told(0, "", "collect --from in");
    expect_told(2, "log/a.log lies in the store", "collect --as plain --from log/a.log");
    struct ind_ran ran =
        ind_shell(folder,
                  "ln -s log/a.log other; cat in >> grows; timeout 20 %s collect --from - "
                  "< in > out && timeout 20 %s rotate > out && timeout 20 %s collect --as plain "
                  "--from log/a-*.zst > out && cat log/a.log | wc -l",
                  IND_PROGRAM, IND_PROGRAM, IND_PROGRAM);
    assert_string_equal(ran.out, "4\n");
    ind_ran_free(&ran);
    expect_told(2, "other lies in the store",
                "collect --as plain --from other.log 2>&1 | sed s/other.log/other/ 1>&2; "
                "cp log/a.log b.log; ln -sf $PWD/log/a.log other.log; timeout 20 " IND_PROGRAM
                " collect --as plain --from other.log 2>err; code=$?; "
                "sed s/other.log/other/ err 1>&2; exit $code");
}

static bool is_told_removed(void *context)
{
    return ind_file_holds(((struct ind_running *)context)->err, "was removed by somebody; it is made again");
}

/* A store that somebody removes is made again, with a journal that knows the files. */
static void a_store_that_is_removed_is_made_again(void **state)
{
    (void)state;
    begin("store: log\nstate: state\nzone: UTC\nlisten:\n  - udp: 127.0.0.1:0\nroutes:\n"
          "  - {name: a, file: a.log}\n  - {name: r, file: \"deep/er/r.log\", layout: raw}\n");
    int fd = open_to(IND_SEND_UDP, running.port, NULL);
    SAY(fd, "<13>1 - - a - - - before");
    wait_stored(1);
    struct ind_ran ran = ind_shell(folder, "rm -rf log");
    ind_ran_free(&ran);
    SAY(fd, "<13>1 - - a - - - after");
    wait_stored(2);
    ind_wait_until(is_told_removed, &running, "the removal is told");
    SAY(fd, "<13>1 - - a - - - later");
    wait_stored(3);
    end();
    close(fd);
    ran = ind_run(folder, "search", "--layout", "{text}", "--when", "app is \"a\"", NULL);
    assert_non_null(strstr(ran.out, "later"));
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
    ran = ind_shell(folder, "ls log/.indagator; grep -c opened log/.indagator/journal.jsonl");
    assert_string_equal(ran.out, "journal.jsonl\nlock\n2\n");
    ind_ran_free(&ran);
}

/* What the collector writes it finds again: so no link may stand in the place of a folder or a file of its.
 */
static void symbolic_links_in_the_store_are_refused(void **state)
{
    (void)state;
    ind_write_file(ind_path(folder, "indagator.yaml"),
                   "store: log\nstate: state\nzone: UTC\nroutes:\n  - {name: a, file: \"x/{app}.log\"}\n");
    ind_write_file(ind_path(folder, "in"), "<13>1 - - a - - - x\n");
    struct ind_ran ran =
        ind_shell(folder, "mkdir -p log elsewhere && ln -s ../elsewhere log/x && ln -s nowhere log/note");
    ind_ran_free(&ran);
    expect_told(3, "log/x is a symbolic link", "collect --from in");
    ran = ind_shell(folder, "rm log/x && mkdir log/x && ln -s ../../elsewhere/a log/x/a.log");
    ind_ran_free(&ran);
    expect_told(3, "log/x/a.log is a symbolic link", "collect --from in");
    ran = ind_shell(
        folder,
        "rm log/x/a.log && mkdir -p log/.indagator && ln -sf ../../elsewhere/j log/.indagator/journal.jsonl");
    ind_ran_free(&ran);
    expect_told(3, "cannot write the journal", "collect --from in");
    ran = ind_shell(folder, "rm -r log/.indagator && ln -s ../elsewhere log/.indagator");
    ind_ran_free(&ran);
    expect_told(3, ".indagator is not a folder", "collect --from in");
    ran = ind_shell(folder, "rm log/.indagator; ln -sf ../elsewhere/run state/retention-last-run.new");
    ind_ran_free(&ran);
    expect_told(0, "", "collect --from in");
    ran = ind_shell(folder, "ls elsewhere | wc -l");
    assert_string_equal(ran.out, "0\n");
    ind_ran_free(&ran);
    /* One that comes later holds nothing up, and nothing goes through it. */
    ran = ind_shell(folder, "rm -r log/x && ln -s ../elsewhere log/x");
    ind_ran_free(&ran);
    begin("store: log2\nstate: state2\nzone: UTC\nlisten:\n  - udp: 127.0.0.1:0\nroutes:\n"
          "  - {name: a, file: \"x/{app}.log\"}\n  - {name: b, file: b.log}\n");
    ran = ind_shell(folder, "ln -s ../elsewhere log2/x");
    ind_ran_free(&ran);
    int fd = open_to(IND_SEND_UDP, running.port, NULL);
    SAY(fd, "<13>1 - - a - - - x");
    wait_stored(1);
    close(fd);
    end();
    ran = ind_shell(folder, "ls elsewhere | wc -l; wc -l < log2/b.log");
    assert_memory_equal(ran.out, "0\n", 2);
    ind_ran_free(&ran);
}

/* ---- Nobody passes for another ---- */

static void a_stranger_that_bears_a_configured_name_is_filed_as_itself(void **state)
{
    (void)state;
    begin("store: log\nstate: state\nzone: UTC\nlisten:\n  - udp: 127.0.0.1:0\n"
          "devices:\n  - {name: core-fw, address: 127.0.0.9, labels: {site: harbour}}\n"
          "  - {name: hq-relay, address: 127.0.0.200, relay: yes}\nroutes:\n"
          "  - {name: fw, when: 'device is \"core-fw\" or label site is \"harbour\"', file: fw.log}\n"
          "  - {name: all, file: \"by/{device}.log\"}\n");
    static const char *const from[] = {"127.0.0.9", "127.0.0.77", "127.0.0.77", "127.0.0.200"};
    static const char *const texts[] = {
        "<34>Nov 23 04:45:00 core-fw su: own", "<34>Nov 23 04:45:00 CORE-FW su: forged",
        "<34>Nov 23 04:45:00 other su: unknown", "<34>Nov 23 04:45:00 core-fw su: relayed"};
    for (int i = 0; i < 4; i++) {
        int fd = open_to(IND_SEND_UDP, running.port, from[i]);
        say(fd, texts[i], strlen(texts[i]));
        close(fd);
    }
    wait_stored(4);
    json_t *object = status(), *stranger = json_array_get(json_object_get(object, "unknown_senders"), 0);
    json_t *claim = json_array_get(json_object_get(stranger, "claims"), 0);
    assert_string_equal(json_string_value(json_object_get(stranger, "sender")), "127.0.0.77");
    assert_string_equal(json_string_value(json_object_get(claim, "device")), "core-fw");
    assert_string_equal(json_string_value(json_object_get(claim, "configured_at")), "127.0.0.9");
    assert_int_equal(json_array_size(json_object_get(stranger, "hosts")), 1);
    json_t *row;
    size_t i;
    json_array_foreach(json_object_get(object, "devices"), i,
                       row) if (strcmp(json_string_value(json_object_get(row, "device")), "core-fw") == 0)
        assert_int_equal(number(row, "received"), 2);
    json_decref(object);
    struct ind_ran ran = ind_run(folder, "status", NULL);
    assert_non_null(strstr(ran.out, "calls itself core-fw, which is configured at 127.0.0.9"));
    ind_ran_free(&ran);
    assert_true(
        ind_file_holds(running.err, "127.0.0.77 calls itself core-fw, which is configured at 127.0.0.9"));
    end();
    expect_lines("log/fw.log", NULL, 0, "2\n");
    expect_lines("log/by/127.0.0.77.log", "host is \"core-fw\" and text is \"forged\"", 0, "1\n");
    expect_lines("log/by/other.log", NULL, 0, "1\n");
    /* Searched by label it is as it was filed by label, in all files together, though two routes took each.
     */
    ran = ind_run(folder, "search", "--count", "--when", "label site is \"harbour\"", NULL);
    assert_string_equal(ran.out, "2\n");
    ind_ran_free(&ran);
}

/* A local sender has no address, whoever stood in its place of the batch before; what it passes along is not
 * taken. */
static void local_senders_are_nobody_else(void **state)
{
    static char large[100000];
    (void)state;
    begin("store: log\nstate: state\nzone: UTC\nthreads: 1\nallow: [\"127.0.0.1\"]\nlisten:\n  - udp: "
          "127.0.0.1:0\n"
          "  - unix: local.sock\ndevices:\n  - {name: peer, address: 127.0.0.1}\n"
          "routes:\n  - {name: all, file: all.log, layout: json}\n");
    int udp = open_to(IND_SEND_UDP, running.port, "127.0.0.1"),
        refused = open_to(IND_SEND_UDP, running.port, "127.0.0.9");
    int local = socket(AF_UNIX, SOCK_DGRAM, 0);
    struct sockaddr_un name = {.sun_family = AF_UNIX};
    snprintf(name.sun_path, sizeof name.sun_path, "%s", ind_path(folder, "local.sock"));
    assert_int_equal(connect(local, (struct sockaddr *)&name, sizeof name), 0);
    unsigned long sent = 0;
    for (int round = 0; round < 20; round++) {
        SAY(udp, "<13>from a peer");
        SAY(refused, "<13>from a stranger");
        sent += 2;
        for (int i = 0; i < 3; i++) {
            /* With descriptors of its own beside the bytes. */
            char text[] = "<13>from here";
            int passed[4] = {0, 1, 2, local};
            union {
                struct cmsghdr align;
                char room[CMSG_SPACE(sizeof passed)];
            } control;
            memset(&control, 0, sizeof control);
            struct iovec part = {text, sizeof text - 1};
            struct msghdr message = {
                .msg_iov = &part, .msg_iovlen = 1, .msg_control = &control, .msg_controllen = sizeof control};
            struct cmsghdr *head = CMSG_FIRSTHDR(&message);
            *head = (struct cmsghdr){
                .cmsg_level = SOL_SOCKET, .cmsg_type = SCM_RIGHTS, .cmsg_len = CMSG_LEN(sizeof passed)};
            memcpy(CMSG_DATA(head), passed, sizeof passed);
            assert_int_equal(sendmsg(local, &message, 0), sizeof text - 1);
            sent++;
        }
        sent -= 1; /* the refused */
        wait_stored(sent);
    }
    char files[64];
    snprintf(files, sizeof files, "ls /proc/%ld/fd | wc -l", (long)running.process);
    struct ind_ran ran = ind_shell(folder, "%s", files);
    assert_true(atoi(ran.out) < 60);
    ind_ran_free(&ran);
    memset(large, 'x', sizeof large);
    memcpy(large, "<13>", 4);
    say(local, large, sizeof large);
    sent++;
    wait_stored(sent);
    json_t *object = status();
    assert_int_equal(number(json_object_get(object, "ledger"), "cut"), 1);
    assert_int_equal(number(json_object_get(object, "ledger"), "refused_sender"), 20);
    json_decref(object);
    end();
    close(udp);
    close(refused);
    close(local);
    expect_lines("log/all.log", "text is \"from here\" and sender is absent and transport is \"unix\"", 0,
                 "60\n");
    expect_lines("log/all.log", "device is \"peer\"", 0, "20\n");
}

/* ---- Listeners ---- */

static const char *const address_lists[][2] = {
    {NULL, NULL},        {"[::]", NULL},         {"0.0.0.0", NULL},
    {"127.0.0.1", NULL}, {"[::1]", NULL},        {"[::]", "127.0.0.1"},
    {"[::]", "0.0.0.0"}, {"127.0.0.1", "[::1]"}, {"0.0.0.0", "127.0.0.1"},
    {"[::1]", "[::]"},
};
enum { ADDRESS_LISTS = 10, LISTENER_LISTS = 40 };
static const char *const targets[] = {"127.0.0.1", "127.0.0.2", "::1"};

static bool covers(const char *const list[2], const char *target)
{
    bool v6 = strchr(target, ':') != NULL, v4_listed = false, any = false;
    for (int i = 0; i < 2; i++)
        v4_listed |= list[i] && !strchr(list[i], ':');
    for (int i = 0; i < 2; i++) {
        if (!list[i])
            continue;
        bool exact = strncmp(list[i] + (list[i][0] == '['), target, strlen(target)) == 0;
        any |= exact || (strcmp(list[i], "[::]") == 0 && (v6 || !v4_listed)) ||
               (strcmp(list[i], "0.0.0.0") == 0 && !v6);
    }
    return any;
}

/* The i-th of the lists: some for UDP, some for TCP. */
static const char *const *udp_list(int i)
{
    return address_lists[i % ADDRESS_LISTS];
}

static const char *const *tcp_list(int i)
{
    return address_lists[(i / ADDRESS_LISTS * 3 + i + 1) % ADDRESS_LISTS];
}

static void write_listeners(int i, unsigned port)
{
    char text[1200] = "store: log\nstate: state\nzone: UTC\nlisten:\n  - unix: local.sock\n";
    for (int tcp = 0; tcp < 2; tcp++)
        for (int n = 0; n < 2; n++) {
            const char *address = (tcp ? tcp_list(i) : udp_list(i))[n];
            if (address)
                snprintf(text + strlen(text), sizeof text - strlen(text), "  - %s: \"%s:%u\"\n",
                         tcp ? "tcp" : "udp", address, port);
        }
    strcat(text, "routes:\n  - {name: all, file: all.log}\n");
    ind_write_file(ind_path(folder, "indagator.yaml"), text);
}

/* Everything that should answer does, and nothing else. *sent counts what must come in. */
static void send_to_all(int i, unsigned port, unsigned long *sent)
{
    for (int tcp = 0; tcp < 2; tcp++)
        for (int t = 0; t < 3; t++) {
            bool covered = covers(tcp ? tcp_list(i) : udp_list(i), targets[t]);
            int fd = try_to_send(tcp, targets[t], port, "<13>x\n");
            if (tcp && (fd >= 0) != covered)
                fail_msg("list %d: tcp %s %s", i, targets[t], covered ? "is refused" : "answers");
            *sent += covered;
            if (fd >= 0)
                close(fd);
        }
}

/* Free of everybody, on IPv4 and IPv6; and none of those that the system gives to clients: another test's
 * connection may take such a one between two reloads. */
static unsigned free_port(void)
{
    enum { FIRST = 16000, MANY = 16000 }; /* clients get theirs from 32768 on */
    static unsigned next;
    for (unsigned i = 0; i < MANY; i++) {
        unsigned port = FIRST + ((unsigned)getpid() * 97 + next++) % MANY;
        int probes[] = {
            ind_tcp_listen("0.0.0.0", (uint16_t)port, false), ind_tcp_listen("::", (uint16_t)port, false),
            ind_udp_listen("0.0.0.0", (uint16_t)port, false), ind_udp_listen("::", (uint16_t)port, false)};
        bool good = true;
        for (size_t p = 0; p < sizeof probes / sizeof *probes; p++) {
            good &= probes[p] >= 0;
            if (probes[p] >= 0)
                close(probes[p]);
        }
        if (good)
            return port;
    }
    fail_msg("no port is free");
    return 0;
}

static bool listener_received(void *context)
{
    const unsigned long *wanted = context;
    json_t *object = status(), *listener;
    unsigned long received = 0;
    size_t i;
    json_array_foreach(json_object_get(object, "listeners"), i,
                       listener) if (strcmp(json_string_value(json_object_get(listener, "listener")),
                                            "internal") != 0) received += number(listener, "received");
    json_decref(object);
    return received >= *wanted;
}

static void reload_by_control(void)
{
    struct ind_ran ran =
        ind_shell(folder, "curl -s --unix-socket state/control.sock -X POST -w '%%{http_code}' "
                          "-H 'Host: x' http://x/reload");
    if (!strstr(ran.out, "200"))
        print_error("%s\n", ran.out);
    assert_non_null(strstr(ran.out, "200"));
    ind_ran_free(&ran);
}

static void visit(int list, unsigned port, unsigned long *sent)
{
    write_listeners(list, port);
    reload_by_control();
    send_to_all(list, port, sent);
}

/* Each list is reloaded into each other one with IND_ALL, into some without: there and back again. */
static void every_list_of_listeners_is_reloaded_into_others(void **state)
{
    unsigned port = free_port();
    unsigned long sent = 0;
    (void)state;
    const bool all = getenv("IND_ALL") != NULL;
    write_listeners(0, port);
    running = ind_collect_start(folder);
    for (int i = 0; i < LISTENER_LISTS; i += all ? 1 : 6)
        for (int j = i + 1; j < LISTENER_LISTS; j += all ? 1 : 11) {
            visit(i, port, &sent);
            visit(j, port, &sent);
        }
    ind_wait_until(listener_received, &sent, "all that should answer has");
    json_t *object = status();
    assert_true(json_is_true(json_object_get(json_object_get(object, "ledger"), "adds_up")));
    json_decref(object);
    end();
    char expected[32];
    snprintf(expected, sizeof expected, "%lu\n", sent);
    expect_lines("log/all.log", "text is \"x\"", 0, expected);
}

static pid_t connecting; /* 0: none */

static void end_connecting(void)
{
    if (connecting <= 0)
        return;
    kill(connecting, SIGKILL);
    waitpid(connecting, NULL, 0);
    connecting = 0;
}

static int tear_down_connecting(void **state)
{
    end_connecting();
    return tear_down(state);
}

/* Connects again and again, and keeps some open, until it is ended. */
static void keep_connecting(unsigned port)
{
    enum { KEPT = 20 };
    int kept[KEPT];
    connecting = fork();
    if (connecting != 0)
        return;
    for (int i = 0; i < KEPT; i++)
        kept[i] = -1;
    for (unsigned i = 0;; i = (i + 1) % KEPT) {
        if (kept[i] >= 0)
            close(kept[i]);
        kept[i] = try_to_send(true, "127.0.0.1", port, "<13>x\n<13>ha");
    }
}

/* One that was let in by a listener of the rules before may be handed to a thread that has the new ones. */
static void connections_that_come_while_their_listener_goes_belong_to_somebody(void **state)
{
    static const char *const addresses[] = {"127.0.0.1", "0.0.0.0"};
    enum { RELOADS = 40 };
    unsigned port = free_port();
    (void)state;
    for (int i = 0; i < RELOADS; i++) {
        char text[300];
        snprintf(text, sizeof text,
                 "store: log\nstate: state\nzone: UTC\nthreads: 4\nlisten:\n  - udp: 127.0.0.1:%u\n"
                 "  - tcp: %s:%u\nroutes:\n  - {name: all, file: all.log}\n",
                 port, addresses[i % 2], port);
        if (i == 0)
            begin(text);
        else
            ind_write_file(ind_path(folder, "indagator.yaml"), text);
        reload_by_control();
        if (i == 0)
            keep_connecting(port);
    }
    end_connecting();
    json_t *object = status();
    assert_true(json_is_true(json_object_get(json_object_get(object, "ledger"), "adds_up")));
    json_decref(object);
    end();
}

/* ---- Answers ---- */

#define ONE_ROUTE "store: log\nstate: state\nzone: UTC\nroutes:\n  - {name: a, file: a.log}\n"

static void what_is_found_goes_over_no_file_that_counts(void **state)
{
    (void)state;
    ind_write_file(ind_path(folder, "indagator.yaml"), ONE_ROUTE);
    ind_write_file(ind_path(folder, "in"), "<13>1 - - a - - - x\n");
    expect_told(0, "", "collect --from in");
    expect_told(2, "lies in the store folder", "search --to log/a.log");
    expect_told(2, "lies in the store folder", "search --force --to log/new.log");
    expect_told(2, "lies in the state folder", "search --to state/x");
    expect_told(2, "is there already", "search --to in");
    expect_told(2, "is no file", "search --force --to /dev/null");
    struct ind_ran ran = ind_shell(folder, "ln -s $PWD/log/a.log link; ln -s log away");
    ind_ran_free(&ran);
    expect_told(2, "lies in the store folder", "search --force --to link");
    expect_told(2, "lies in the store folder", "search --to away/b");
    expect_told(3, "cannot write nowhere/x", "search --to nowhere/x");
    expect_told(0, "", "search --to found");
    expect_told(2, "is there already", "search --to found");
    expect_told(0, "", "search --force --to in");
    ran = ind_shell(folder, "cmp found in && wc -l < log/a.log && ls | tr '\\n' ' '");
    assert_string_equal(ran.out, "1\naway found in indagator.yaml link log state ");
    ind_ran_free(&ran);
}

static void what_a_layout_does_not_hold_is_said(void **state)
{
    (void)state;
    ind_write_file(ind_path(folder, "indagator.yaml"),
                   "store: log\nstate: state\nzone: UTC\nroutes:\n  - {name: j, file: j.log, layout: json}\n"
                   "  - {name: t, file: t.log, layout: \"{text}\"}\n");
    ind_write_file(ind_path(folder, "in"), "\xEF\xBB\xBF<34>1 - h a - - - {\"text\":\"x\"}\n");
    expect_told(0, "", "collect --from in");
    expect_told(3, "the field \"original\"",
                "search --count --when 'original contains \"transport\"' log/j.log");
    expect_told(3, "the field \"severity\"", "search --when 'severity is critical' log/t.log");
    expect_told(0, "", "search --count --when 'severity is critical and app is \"a\"' log/j.log");
    /* A line that looks like a stored one is believed nowhere but in a store, or where that is said. */
    struct ind_ran ran = ind_shell(folder, "cp log/j.log copy");
    ind_ran_free(&ran);
    expect_told(1, "--as json reads them as such", "search --count --when 'severity is critical' copy");
    expect_told(0, "", "search --count --as json --when 'severity is critical' copy");
    /* Eight long values are a key. */
    expect_told(0, "", "search --by text,text,text,text,text,text,text,text log/j.log");
}

static void emit_refuses_what_cannot_be_meant(void **state)
{
    static const char *const calls[][2] = {{"--to udp:127.0.0.1:99999 x", "is not a target"},
                                           {"--to udp:127.0.0.1:0 x", "is not a target"},
                                           {"--to unix: x", "is not a target"},
                                           {"--to udp:127.0.0.1:9 --count 0 x", "--count: a number"},
                                           {"--to udp:127.0.0.1:9 --rate nan x", "--rate"},
                                           {"--to udp:127.0.0.1:9 --rate -1 x", "--rate"},
                                           {"--to udp:127.0.0.1:9 --rate inf x", "--rate"}};
    char command[200];
    (void)state;
    for (size_t i = 0; i < sizeof calls / sizeof *calls; i++) {
        snprintf(command, sizeof command, "emit %s", calls[i][0]);
        expect_told(2, calls[i][1], command);
    }
    ind_write_file(ind_path(folder, "indagator.yaml"), ONE_ROUTE);
    expect_told(2, "--by: unknown field \"time\"\n", "search --by time");
    struct ind_ran ran = ind_shell(folder,
                                   "awk 'BEGIN { while (i++ < 70000) printf \"x\" }' > long; "
                                   "%s emit --json --to udp:127.0.0.1:9 --from long",
                                   IND_PROGRAM);
    assert_string_equal(ran.out, "{\"sent\":1,\"bytes\":65507}\n");
    ind_ran_free(&ran);
}

/* A trace over TCP is one message; the last one is filed though nothing follows and the connection stays
 * open. */
static void indented_lines_belong_to_the_message_before(void **state)
{
    (void)state;
    begin("store: log\nstate: state\nzone: UTC\nlisten: [{tcp: \"127.0.0.1:0\", join indented: yes}]\n"
          "routes:\n  - {name: all, when: app is \"shop\", file: a.log, layout: \"{text}\"}\n");
    int fd = open_to(IND_SEND_TCP, ind_reported_port(&running, "tcp 127.0.0.1:"), NULL);
    SAY(fd, "<14>Nov 23 04:45:00 h shop[1]: failed\n  at one\n\tat two\n<14>Nov 23 04:45:00 h shop[1]: "
            "next\n  at ");
    wait_stored(1);
    SAY(fd, "three\n");
    wait_stored(2);
    SAY(fd, "  too late\n<14>Nov 23 04:45:00 h shop[1]: last\n");
    wait_stored(3);
    close(fd);
    end();
    char *stored = ind_read_file(ind_path(folder, "log/a.log"), NULL);
    assert_string_equal(stored, "failed\\n  at one\\n\\tat two\nnext\\n  at three\nlast\n");
    free(stored);
}

/* Configured devices of which nothing has come are named; relays, and those that are heard, are not. */
static void devices_that_are_silent_are_named(void **state)
{
    (void)state;
    begin("store: log\nstate: state\nlisten: [{udp: \"127.0.0.1:0\"}]\n"
          "devices:\n  - {name: pier1-rtr, address: 127.0.0.1}\n  - {name: pier2-rtr, address: 127.0.0.2}\n"
          "  - {name: hq-relay, address: 127.0.0.3, relay: yes}\n  - {name: pier3-rtr}\n");
    int udp = open_to(IND_SEND_UDP, running.port, NULL);
    SAY(udp, "<14>Nov 23 04:45:00 x app: text");
    wait_stored(1);
    close(udp);
    json_t *object = status(), *silent = json_object_get(object, "silent_devices");
    assert_int_equal(json_array_size(silent), 2);
    assert_string_equal(json_string_value(json_object_get(json_array_get(silent, 0), "device")), "pier2-rtr");
    assert_string_equal(json_string_value(json_object_get(json_array_get(silent, 1), "device")), "pier3-rtr");
    assert_null(json_object_get(json_array_get(silent, 0), "last"));
    const json_t *listener = json_array_get(json_object_get(object, "listeners"), 0);
    char at[64];
    snprintf(at, sizeof at, "udp 127.0.0.1:%u", running.port);
    for (size_t i = 0;
         strcmp(json_string_value(json_object_get(listener, "listener")), "udp 127.0.0.1:0") != 0; i++)
        listener = json_array_get(json_object_get(object, "listeners"), i);
    assert_string_equal(json_string_value(json_object_get(listener, "at")), at);
    json_decref(object);
    struct ind_ran ran = ind_run(folder, "status", NULL);
    const char *row = strstr(ran.out, "\npier2-rtr "),
               *silent_row = row ? strstr(row, "silent since the start\n") : NULL;
    assert_true(silent_row && silent_row < strchr(row + 1, '\n'));
    assert_null(strstr(ran.out, "\nhq-relay "));
    assert_non_null(strstr(ran.out, at));
    ind_ran_free(&ran);
    end();
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(devices_that_are_silent_are_named, set_up, tear_down),
        cmocka_unit_test_setup_teardown(indented_lines_belong_to_the_message_before, set_up, tear_down),
#define in_a_folder(test) cmocka_unit_test_setup_teardown(test, set_up, tear_down)
        in_a_folder(a_message_that_no_batch_has_room_for_is_cut_and_hangs_nothing),
        in_a_folder(strangers_cannot_take_the_descriptors_that_the_collector_needs),
        in_a_folder(half_messages_have_a_bound_together),
        in_a_folder(reloads_wait_for_no_archive_and_are_answered_each_for_itself),
        in_a_folder(what_has_no_end_is_refused_with_its_place),
        in_a_folder(files_of_the_own_store_are_not_read_while_they_are_written),
        in_a_folder(a_store_that_is_removed_is_made_again),
        in_a_folder(symbolic_links_in_the_store_are_refused),
        in_a_folder(a_stranger_that_bears_a_configured_name_is_filed_as_itself),
        in_a_folder(local_senders_are_nobody_else),
        in_a_folder(every_list_of_listeners_is_reloaded_into_others),
        cmocka_unit_test_setup_teardown(connections_that_come_while_their_listener_goes_belong_to_somebody,
                                        set_up, tear_down_connecting),
        in_a_folder(what_is_found_goes_over_no_file_that_counts),
        in_a_folder(what_a_layout_does_not_hold_is_said),
        in_a_folder(emit_refuses_what_cannot_be_meant),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
