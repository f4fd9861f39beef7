/* The built program on a disk that gets full, is made read-only, or is taken away, on a real small file
 * system where one can be mounted, and skipped with a word where none can. */
#define _GNU_SOURCE
#include "support/live.h"

#include <errno.h>
#include <pwd.h>
#include <sys/mount.h>
#include <sys/stat.h>

#define RULES                                                                                                \
    "store: disk/log\nstate: state\nzone: UTC\nlisten:\n  - udp: 127.0.0.1:0\n  - tcp: 127.0.0.1:0\n"
#define ROUTES                                                                                               \
    "routes:\n  - {name: all, when: 'app is not \"indagator\"', file: \"{app}.log\"}\n"                      \
    "  - {name: own, file: own.log}\n"

static bool mounted;

static bool mount_small(void)
{
    struct ind_ran ran = ind_shell(folder, "mkdir disk");
    ind_ran_free(&ran);
    mounted = mount("small", ind_path(folder, "disk"), "tmpfs", 0, "size=2m,mode=0755") == 0;
    if (!mounted)
        print_message("not tried: no small file system can be mounted here (%s)\n", strerror(errno));
    return mounted;
}

static int leave(void **state)
{
    if (running.process > 0)
        (void)ind_collect_stop(&running, SIGKILL);
    running.process = 0;
    if (mounted)
        (void)umount2(ind_path(folder, "disk"), MNT_DETACH);
    mounted = false;
    return tear_down(state);
}

static void send_some(const char *app, int count)
{
    char text[400];
    int udp = open_to(IND_SEND_UDP, running.port, NULL),
        tcp = open_to(IND_SEND_TCP, ind_reported_port(&running, "tcp 127.0.0.1:"), NULL);
    for (int i = 0; i < count; i++) {
        int length =
            snprintf(text, sizeof text,
                     "<13>1 - - %s - - - number %d of those that are to be there, %0200d\n", app, i, i);
        say(i % 2 ? udp : tcp, text, (size_t)length);
    }
    close(udp);
    close(tcp);
}

static void expect_whole(const char *app, int count)
{
    struct ind_ran ran =
        ind_shell(folder,
                  "cat disk/log/%s.log | wc -l; grep -cv 'number [0-9]* of those that are to be there, "
                  "[0-9]\\{200\\}$' disk/log/%s.log",
                  app, app);
    char expected[40];
    snprintf(expected, sizeof expected, "%d\n0\n", count);
    assert_string_equal(ran.out, expected);
    ind_ran_free(&ran);
}

static void expect_nothing_lost(void)
{
    json_t *object = status();
    const json_t *ledger = json_object_get(object, "ledger");
    assert_int_equal(number(ledger, "lost_disk") + number(ledger, "lost_buffer"), 0);
    assert_true(json_is_true(json_object_get(ledger, "adds_up")));
    json_decref(object);
}

static void a_full_disk_is_told_and_all_goes_on_by_itself_once_there_is_room(void **state)
{
    enum { MANY = 2000 };
    (void)state;
    if (!mount_small())
        return;
    begin(RULES ROUTES);
    send_some("before", 10);
    struct ind_ran ran = ind_shell(folder, "dd if=/dev/zero of=disk/ballast bs=64k count=1000 2>/dev/null");
    ind_ran_free(&ran);
    send_some("meanwhile", MANY);
    wait_trouble("the disk takes nothing (No space left on device): messages wait in memory");
    assert_true(
        ind_file_holds(running.err, "No space left on device; messages wait in memory until there is room"));
    ran = ind_run(folder, "status", NULL);
    assert_non_null(strstr(ran.out, "Not well: the disk takes nothing (No space left on device)"));
    ind_ran_free(&ran);
    ran = ind_shell(folder, "rm disk/ballast");
    ind_ran_free(&ran);
    wait_trouble(NULL);
    expect_nothing_lost();
    end();
    expect_whole("before", 10);
    expect_whole("meanwhile", MANY);
    assert_true(ind_file_holds(ind_path(folder, "disk/log/own.log"), "the disk takes messages again"));
}

static unsigned long archives(void)
{
    json_t *object = status();
    unsigned long count = number(json_object_get(object, "files"), "archives");
    json_decref(object);
    return count;
}

static bool at_most_archives(void *most)
{
    return archives() <= *(unsigned long *)most;
}

static bool at_least_archives(void *least)
{
    return archives() >= *(unsigned long *)least;
}

static bool tells_that_none_may_go(void *context)
{
    (void)context;
    return ind_file_holds(running.err, "no archive may be removed any more");
}

/* Archives go early for the reserve, and it is told; but none that "never less than" spares. */
static void the_reserve_is_kept_by_removing_the_oldest_archives(void **state)
{
    char text[60];
    (void)state;
    for (int spared = 0; spared < 2; spared++) {
        if (!spared ? !mount_small() : !mounted)
            return;
        snprintf(text, sizeof text, "%s",
                 spared ? "keep: {number: 1000, never less than: 1 day}" : "keep: 1 year");
        char config[2000];
        snprintf(config, sizeof config, "%s%sarchives: {default: {compress: none, rotate: every day, %s}}\n",
                 "reserve: 1400 KiB\n" RULES, ROUTES, text);
        begin(config);
        for (int i = 0; i < 6; i++) {
            send_some("a", 100); /* some 25 KiB */
            wait_lines("disk/log/a.log", 100);
            struct ind_ran ran = ind_run(folder, "rotate", NULL);
            assert_int_equal(ran.status, 0);
            ind_ran_free(&ran);
        }
        unsigned long least = 6;
        ind_wait_until(at_least_archives, &least, "the archives are counted");
        unsigned long before = archives(), fewer = before - 1;
        struct ind_ran ran =
            ind_shell(folder, "dd if=/dev/zero of=disk/ballast bs=1k count=%d 2>/dev/null", 500);
        ind_ran_free(&ran);
        if (spared) {
            ind_wait_until(tells_that_none_may_go, NULL, "it is told that no archive may go");
            assert_true(archives() >= before);
        } else {
            ind_wait_until(at_most_archives, &fewer, "some archives have gone");
            assert_true(ind_file_holds(running.err, "the oldest, are removed early"));
        }
        end();
        ran = ind_shell(folder, "rm -rf disk/* state");
        ind_ran_free(&ran);
    }
}

/* A device whose errors have it made read-only, as the kernel does it, under files that are open. What it has
 * taken stays whole; what waits is lost at the end only, and that is told. */
static void a_disk_that_becomes_read_only_is_told(void **state)
{
    (void)state;
    struct ind_ran ran = ind_shell(
        folder, "mkdir disk && truncate -s 16M image && mkfs.ext4 -q image && mount -o loop image disk");
    mounted = ran.status == 0;
    if (!mounted)
        print_message("not tried: no device can be made and mounted here (%s)\n", ran.err);
    ind_ran_free(&ran);
    if (!mounted)
        return;
    begin(RULES ROUTES);
    send_some("before", 10);
    wait_lines("disk/log/before.log", 10);
    ran = ind_shell(folder, "mount -o remount,abort disk");
    bool aborted = ran.status == 0;
    if (!aborted)
        print_message("not tried: this kernel makes no device read-only for us (%s)\n", ran.err);
    ind_ran_free(&ran);
    if (aborted) {
        send_some("meanwhile", 100);
        wait_trouble("the disk takes nothing (Read-only file system): messages wait in memory");
        json_t *object = status();
        const json_t *ledger = json_object_get(object, "ledger");
        assert_true(number(ledger, "waiting") >= 100);
        assert_true(json_is_true(json_object_get(ledger, "adds_up")));
        json_decref(object);
        end_with(SIGTERM, 3);
        expect_whole("before", 10);
    }
}

static void the_right_to_write_that_is_taken_away_is_waited_for(void **state)
{
    const struct passwd *user = getpwnam("nobody");
    (void)state;
    if (geteuid() != 0 || !user) {
        print_message("not tried: this is not root, or there is no user nobody\n");
        return;
    }
    struct ind_ran ran = ind_shell(folder, "chmod 0777 .; mkdir disk; chmod 0777 disk");
    ind_ran_free(&ran);
    begin("user: nobody\n" RULES ROUTES);
    send_some("before", 10);
    ran = ind_shell(folder, "chown root: disk/log; chmod 0755 disk/log");
    ind_ran_free(&ran);
    send_some("meanwhile", 100);
    wait_trouble("the disk takes nothing (Permission denied)");
    ran = ind_shell(folder, "chown nobody: disk/log");
    ind_ran_free(&ran);
    wait_trouble(NULL);
    expect_nothing_lost();
    end();
    expect_whole("before", 10);
    expect_whole("meanwhile", 100);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(a_full_disk_is_told_and_all_goes_on_by_itself_once_there_is_room,
                                        set_up, leave),
        cmocka_unit_test_setup_teardown(the_reserve_is_kept_by_removing_the_oldest_archives, set_up, leave),
        cmocka_unit_test_setup_teardown(a_disk_that_becomes_read_only_is_told, set_up, leave),
        cmocka_unit_test_setup_teardown(the_right_to_write_that_is_taken_away_is_waited_for, set_up, leave),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
