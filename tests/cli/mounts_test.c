/* The built program on a store into which other file systems are mounted: one that takes nothing, or hangs,
 * holds up its own files only. Skipped with a word where none can be mounted. */
#define _GNU_SOURCE
#include "support/live.h"
#include "support/random.h"

#include <errno.h>
#include <fcntl.h>
#include <linux/fs.h>
#include <sys/ioctl.h>
#include <sys/mount.h>
#include <sys/stat.h>
#include <sys/wait.h>

/* What is said of disks is looked for. */
#define QUIET                                                                                                \
    "edits: [{name: quiet, when: 'msgid in (\"started\", \"stopped\", \"reloaded\", \"device-unknown\")', "  \
    "drop: "                                                                                                 \
    "yes}]\n"
#define RULES                                                                                                \
    "store: log\nstate: state\nzone: UTC\nburst buffer: 1 MiB\n"                                             \
    "listen:\n  - udp: 127.0.0.1:0\n  - tcp: 127.0.0.1:0\n" QUIET                                            \
    "routes:\n  - {name: own, when: 'app is \"indagator\"', file: own.log, last: yes}\n"                     \
    "  - {name: audit, when: facility is local4, file: \"audit/{app}.log\"}\n"                               \
    "  - {name: all, when: facility is user, file: \"{app}.log\"}\n"

enum { AUDIT = 164, USER = 14 }; /* the PRI of local4 and of user, severity warning and info */

static bool mounted;       /* at log/audit */
static const char *device; /* where one is mounted that can be made to hang; NULL: none is */
static pid_t sender;

static void shell(const char *command)
{
    struct ind_ran ran = ind_shell(folder, "%s", command);
    ind_ran_free(&ran);
}

static bool mount_small(const char *options)
{
    shell("mkdir -p log/audit");
    mounted = mount("small", ind_path(folder, "log/audit"), "tmpfs", 0, options) == 0;
    if (!mounted)
        print_message("not tried: no small file system can be mounted here (%s)\n", strerror(errno));
    return mounted;
}

static void freeze(unsigned long how)
{
    int file = open(ind_path(folder, device), O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    if (file >= 0) {
        (void)ioctl(file, how, 0);
        close(file);
    }
}

static int leave(void **state)
{
    if (sender > 0) {
        (void)kill(sender, SIGKILL);
        (void)waitpid(sender, NULL, 0);
    }
    sender = 0;
    if (device)
        freeze(FITHAW);
    if (running.process > 0)
        (void)ind_collect_stop(&running, SIGKILL);
    running.process = 0;
    if (mounted)
        (void)umount2(ind_path(folder, "log/audit"), MNT_DETACH);
    if (device)
        (void)umount2(ind_path(folder, device), MNT_DETACH);
    mounted = false;
    device = NULL;
    return tear_down(state);
}

static void send_one(int fd, int pri, const char *app, int number)
{
    char text[1400];
    int length =
        snprintf(text, sizeof text, "<%d>1 - - %s - - - number %d %0*d\n", pri, app, number, 1000, 7);
    say(fd, text, (size_t)length);
}

/* In a process of its own, from an address of its own: it may be held back. */
static void send_in_background(int pri, const char *app, const char *from, int count)
{
    unsigned port = ind_reported_port(&running, "tcp 127.0.0.1:");
    sender = fork();
    assert_true(sender >= 0);
    if (sender > 0)
        return;
    int fd = open_to(IND_SEND_TCP, port, from);
    for (int i = 0; i < count; i++)
        send_one(fd, pri, app, i);
    close(fd);
    _exit(0);
}

/* Both transports, for the file system that takes everything. */
static void others_are_filed(const char *app)
{
    enum { MANY = 200 };
    char path[60];
    int udp = open_to(IND_SEND_UDP, running.port, "127.0.0.5"),
        tcp = open_to(IND_SEND_TCP, ind_reported_port(&running, "tcp 127.0.0.1:"), "127.0.0.5");
    for (int i = 0; i < MANY; i++)
        send_one(i % 2 ? udp : tcp, USER, app, i);
    close(udp);
    close(tcp);
    snprintf(path, sizeof path, "log/%s.log", app);
    wait_lines(path, MANY);
}

static bool sender_has_ended(void *context)
{
    (void)context;
    if (sender > 0 && waitpid(sender, NULL, WNOHANG) == sender)
        sender = 0;
    return sender == 0;
}

static unsigned long in_ledger(const char *name)
{
    json_t *object = status();
    const json_t *ledger = json_object_get(object, "ledger");
    assert_true(json_is_true(json_object_get(ledger, "adds_up")));
    unsigned long count = number(ledger, name);
    json_decref(object);
    return count;
}

static bool some_are_lost(void *context)
{
    (void)context;
    return in_ledger("lost_disk") > 0;
}

/* More than memory takes: who can wait is held back, and nothing of it is lost; datagrams for the full file
 * system are lost and counted; everything for the other one is filed meanwhile. */
static void a_full_file_system_holds_up_its_own_files_only(void **state)
{
    enum { MANY = 70000, DATAGRAMS = 50 };
    (void)state;
    if (!mount_small("size=1m,mode=0755"))
        return;
    begin(RULES);
    send_in_background(AUDIT, "held", "127.0.0.9", MANY);
    wait_trouble("the file system at audit takes nothing (No space left on device)");
    others_are_filed("first");
    int udp = open_to(IND_SEND_UDP, running.port, "127.0.0.6");
    unsigned long sent = 0;
    do { /* until half of its queue is full */
        for (int i = 0; i < DATAGRAMS; i++, sent++)
            send_one(udp, AUDIT, "lost", i);
        ind_wait_until_read(running.port);
    } while (!some_are_lost(NULL) && sent < 200000);
    close(udp);
    assert_false(sender_has_ended(NULL));
    others_are_filed("second");
    assert_int_equal(in_ledger("lost_buffer"), 0);
    shell("mount -o remount,size=400m log/audit");
    ind_wait_until(sender_has_ended, NULL, "the held sender has sent everything");
    wait_lines("log/audit/held.log", MANY);
    wait_trouble(NULL);
    unsigned long lost = in_ledger("lost_disk");
    wait_lines("log/audit/lost.log", (int)(sent - lost));
    others_are_filed("third");
    end_with(SIGTERM, 3); /* some were lost */
}

/* A rotation, a reload and the end with files on both. */
static void all_orders_reach_each_file_system(void **state)
{
    (void)state;
    if (!mount_small("size=20m,mode=0755"))
        return;
    begin(RULES);
    int tcp = open_to(IND_SEND_TCP, ind_reported_port(&running, "tcp 127.0.0.1:"), NULL);
    send_one(tcp, AUDIT, "one", 1);
    send_one(tcp, USER, "two", 1);
    wait_lines("log/audit/one.log", 1);
    wait_lines("log/two.log", 1);
    struct ind_ran ran = ind_run(folder, "rotate", NULL);
    assert_int_equal(ran.status, 0);
    if (!strstr(ran.out, "      2       0\n"))
        fail_msg("%s", ran.out);
    ind_ran_free(&ran);
    reload_and_expect("\"routes\":3");
    send_one(tcp, AUDIT, "one", 2);
    send_one(tcp, USER, "two", 2);
    close(tcp);
    wait_lines("log/audit/one.log", 1);
    wait_lines("log/two.log", 1);
    assert_int_equal(in_ledger("stored"), 4);
    end();
    begin(RULES); /* each part takes up its own files */
    tcp = open_to(IND_SEND_TCP, ind_reported_port(&running, "tcp 127.0.0.1:"), NULL);
    send_one(tcp, AUDIT, "one", 3);
    send_one(tcp, USER, "two", 3);
    close(tcp);
    wait_lines("log/audit/one.log", 2);
    wait_lines("log/two.log", 2);
    end();
    ran = ind_shell(folder, "ls log/audit log | grep -c -- -000001.log; cat log/.indagator/journal* | "
                            "grep -c opened");
    assert_string_equal(ran.out, "2\n4\n");
    ind_ran_free(&ran);
}

static bool tells_that_some_went(void *context)
{
    (void)context;
    return ind_file_holds(running.err, "the oldest, are removed early");
}

/* Not those of the program's own messages: a busy disk makes it speak. */
static int count_archives(const char *where)
{
    struct ind_ran ran = ind_shell(folder, "ls %s | grep -c -- '^one-.*-00000[0-9].log'", where);
    const int count = atoi(ran.out);
    ind_ran_free(&ran);
    return count;
}

static void expect_archives(const char *where, int least, int most)
{
    assert_in_range(count_archives(where), least, most);
}

/* It is told first. */
static bool are_fewer(void *count)
{
    return count_archives("log/audit") < *(const int *)count;
}

/* The oldest archives of all are on the file system that has room: they stay. */
static void each_file_system_has_its_own_reserve(void **state)
{
    enum { ROUNDS = 5 };
    (void)state;
    if (!mount_small("size=3m,mode=0755"))
        return;
    begin("reserve: 1 MiB\n" RULES
          "archives: {default: {compress: none, rotate: every day, keep: 1 year}}\n");
    int tcp = open_to(IND_SEND_TCP, ind_reported_port(&running, "tcp 127.0.0.1:"), NULL);
    for (int pri = USER; pri <= AUDIT; pri += AUDIT - USER)
        for (int round = 1; round <= ROUNDS; round++) {
            for (int i = 0; i < 100; i++)
                send_one(tcp, pri, "one", i);
            wait_lines(pri == USER ? "log/one.log" : "log/audit/one.log", 100);
            struct ind_ran ran = ind_run(folder, "rotate", NULL);
            assert_int_equal(ran.status, 0);
            ind_ran_free(&ran);
        }
    close(tcp);
    expect_archives("log/audit", ROUNDS, ROUNDS);
    shell("dd if=/dev/zero of=log/audit/ballast bs=1k count=1800 2>/dev/null");
    ind_wait_until(tells_that_some_went, NULL, "it is told that archives go");
    ind_wait_until(are_fewer, &(int){ROUNDS}, "some archives have gone");
    expect_archives("log/audit", 1, ROUNDS - 1);
    expect_archives("log", ROUNDS, ROUNDS);
    struct ind_ran ran = ind_run(folder, "status", NULL);
    assert_non_null(strstr(ran.out, "the file system at audit has 3.0 MiB"));
    ind_ran_free(&ran);
    end();
}

/* A device that does not answer: the kernel makes whoever writes to it wait. */
static bool mount_device(const char *where)
{
    struct ind_ran ran = ind_shell(folder,
                                   "mkdir -p %s && dd if=/dev/zero of=image bs=1M count=16 2>/dev/null && "
                                   "mkfs.ext4 -q image && mount -o loop image %s && chmod 755 %s",
                                   where, where, where);
    device = ran.status == 0 ? where : NULL;
    if (!device)
        print_message("not tried: no device can be made and mounted here (%s)\n", ran.err);
    ind_ran_free(&ran);
    return device;
}

static void a_device_that_hangs_holds_up_its_own_files_only(void **state)
{
    (void)state;
    if (!mount_device("log/audit"))
        return;
    begin(RULES);
    int tcp = open_to(IND_SEND_TCP, ind_reported_port(&running, "tcp 127.0.0.1:"), NULL);
    send_one(tcp, AUDIT, "one", 1);
    wait_lines("log/audit/one.log", 1);
    freeze(FIFREEZE);
    send_one(tcp, AUDIT, "one", 2);
    wait_trouble("the file system at audit has not answered for ");
    others_are_filed("first");
    wait_lines("log/own.log", 1); /* that it hangs: the status may know it first */
    assert_int_equal(in_ledger("stored"), 202);
    assert_int_equal(in_ledger("waiting"), 1);
    send_one(tcp, AUDIT, "one", 3);
    close(tcp);
    freeze(FITHAW);
    wait_trouble(NULL);
    wait_lines("log/audit/one.log", 3);
    others_are_filed("second");
    assert_int_equal(in_ledger("lost_disk"), 0);
    wait_lines("log/own.log", 2); /* that it hangs, and that it answers */
    end();
}

/* What is open elsewhere goes on; what begins waits for the journal, which is the store's. */
static void the_stores_own_device_that_hangs_holds_up_no_other(void **state)
{
    (void)state;
    if (!mount_device("log") || !mount_small("size=4m,mode=0755"))
        return;
    begin(RULES);
    int tcp = open_to(IND_SEND_TCP, ind_reported_port(&running, "tcp 127.0.0.1:"), NULL);
    send_one(tcp, AUDIT, "one", 1);
    send_one(tcp, USER, "two", 1);
    wait_lines("log/audit/one.log", 1);
    wait_lines("log/two.log", 1);
    freeze(FIFREEZE);
    send_one(tcp, USER, "two", 2);
    wait_trouble("the store's own file system has not answered for ");
    send_one(tcp, AUDIT, "one", 2);
    wait_lines("log/audit/one.log", 2);
    send_one(tcp, AUDIT, "new", 1);
    freeze(FITHAW);
    wait_trouble(NULL);
    wait_lines("log/two.log", 2);
    wait_lines("log/audit/new.log", 1);
    close(tcp);
    assert_int_equal(in_ledger("lost_disk"), 0);
    end();
}

/* ---- The same as on one file system ---- */

enum { TRIALS = 3, MESSAGES = 20000 };

#define COPIES                                                                                               \
    "store: log\nstate: state\nzone: UTC\nlisten:\n  - tcp: 127.0.0.1:0\n" QUIET                             \
    "archives: {default: {rotate: {size: 200 KiB}, keep: 1 year, compress: none}}\n"                         \
    "routes:\n  - {name: own, when: 'app is \"indagator\"', file: own.log, last: yes}\n"                     \
    "  - {name: by-app, when: severity at most notice, file: \"audit/{app}.log\", layout: raw}\n"            \
    "  - {name: by-pri, when: app is not \"a3\", file: \"{facility}/{severity}.log\", layout: raw}\n"        \
    "  - {name: again, when: severity at least warning, file: \"audit/deep/again.log\", layout: raw}\n"      \
    "  - {name: some, when: app is \"a1\", file: some.log, layout: raw}\n"

static void write_random_messages(uint64_t *random)
{
    FILE *file = fopen(ind_path(folder, "messages"), "w");
    assert_non_null(file);
    for (int i = 0; i < MESSAGES; i++) {
        fprintf(file, "<%u>1 - - a%u - - - number %d %.*s\n", ind_random(random, 192), ind_random(random, 6),
                i, (int)ind_random(random, 200),
                "all of this is the same in each of them, and only so long as some number that looks random "
                "says that it is to be; so that lines end anywhere in the pages in which they wait to be "
                "written");
    }
    assert_int_equal(fclose(file), 0);
}

/* All lines of all files but our own, file by file with its archives; to be freed. */
static char *run_messages(void)
{
    begin(COPIES);
    struct ind_ran ran = ind_shell(folder, "%s emit --from messages --framing lines --to tcp:127.0.0.1:%u",
                                   IND_PROGRAM, ind_reported_port(&running, "tcp 127.0.0.1:"));
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
    reload_and_expect("\"routes\":5");
    ran = ind_shell(
        folder, "%s rotate; head -n 500 messages | %s emit --from - --framing lines --to tcp:127.0.0.1:%u",
        IND_PROGRAM, IND_PROGRAM, ind_reported_port(&running, "tcp 127.0.0.1:"));
    ind_ran_free(&ran);
    end();
    ran = ind_shell(folder,
                    "cd log; find . -name '*.log' ! -name 'own*' | sed 's/-2[0-9TZ]*-[0-9]*[.]log$/.log/' | "
                    "sort -u | while read file; do echo \"== $file\"; "
                    "cat ${file%%.log}-2*.log $file 2>/dev/null | sort; done; "
                    "rm -rf ../state .indagator; find . -type f -delete");
    char *text = ran.out;
    free(ran.err);
    return text;
}

static void each_file_is_as_on_one_file_system(void **state)
{
    (void)state;
    uint64_t random = IND_RANDOM_START;
    for (int trial = 0; trial < TRIALS; trial++) {
        write_random_messages(&random);
        if (!mount_small("size=60m,mode=0755"))
            return;
        char *divided = run_messages();
        assert_int_equal(umount2(ind_path(folder, "log/audit"), MNT_DETACH), 0);
        mounted = false;
        char *whole = run_messages();
        assert_true(strlen(whole) > (size_t)MESSAGES * 30);
        assert_true(strcmp(divided, whole) == 0);
        free(divided);
        free(whole);
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(a_full_file_system_holds_up_its_own_files_only, set_up, leave),
        cmocka_unit_test_setup_teardown(all_orders_reach_each_file_system, set_up, leave),
        cmocka_unit_test_setup_teardown(each_file_is_as_on_one_file_system, set_up, leave),
        cmocka_unit_test_setup_teardown(each_file_system_has_its_own_reserve, set_up, leave),
        cmocka_unit_test_setup_teardown(a_device_that_hangs_holds_up_its_own_files_only, set_up, leave),
        cmocka_unit_test_setup_teardown(the_stores_own_device_that_hangs_holds_up_no_other, set_up, leave),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
