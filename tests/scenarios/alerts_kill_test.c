/* Killed before each step of writing its file: a desk is killed there, another one goes on after it. What is
 * on the disk then is told, twice only where it was delivered and that was not noted yet; what was counted
 * goes on counting. The steps are the writes, syncs and removals of the database, as SQLite asks the system
 * for them. */
#include "collect/alert/desk.h"
#include "collect/queue/causes.h"
#include "store/alert/alert_file.h"
#include "support/support.h"

#include <signal.h>
#include <sqlite3.h>
#include <stdatomic.h>
#include <stdio.h>
#include <stdlib.h>
#include <sys/wait.h>
#include <unistd.h>

static char *folder, *state_folder;
static pid_t standin;
static struct ind_loaded loaded;

/* ---- Steps ---- */

static atomic_long steps, last_step; /* last_step: before it, the process is killed; 0: never */

static void step(void)
{
    if (atomic_fetch_add(&steps, 1) + 1 == atomic_load(&last_step))
        (void)kill(getpid(), SIGKILL);
}

/* A file of ours is that of the system behind our methods. */
struct stepping {
    sqlite3_file base;
    sqlite3_file *real;
};

static sqlite3_vfs *system_vfs, stepping_vfs;

#define REAL(file) ((struct stepping *)(void *)(file))->real

static int step_write(sqlite3_file *file, const void *bytes, int count, sqlite3_int64 at)
{
    step();
    return REAL(file)->pMethods->xWrite(REAL(file), bytes, count, at);
}

static int step_truncate(sqlite3_file *file, sqlite3_int64 size)
{
    step();
    return REAL(file)->pMethods->xTruncate(REAL(file), size);
}

static int step_sync(sqlite3_file *file, int flags)
{
    step();
    return REAL(file)->pMethods->xSync(REAL(file), flags);
}

static int pass_close(sqlite3_file *file)
{
    const int result = REAL(file)->pMethods->xClose(REAL(file));
    free(REAL(file));
    return result;
}
static int pass_read(sqlite3_file *file, void *bytes, int count, sqlite3_int64 at)
{
    return REAL(file)->pMethods->xRead(REAL(file), bytes, count, at);
}
static int pass_size(sqlite3_file *file, sqlite3_int64 *size)
{
    return REAL(file)->pMethods->xFileSize(REAL(file), size);
}
static int pass_lock(sqlite3_file *file, int level)
{
    return REAL(file)->pMethods->xLock(REAL(file), level);
}
static int pass_unlock(sqlite3_file *file, int level)
{
    return REAL(file)->pMethods->xUnlock(REAL(file), level);
}
static int pass_reserved(sqlite3_file *file, int *reserved)
{
    return REAL(file)->pMethods->xCheckReservedLock(REAL(file), reserved);
}
static int pass_control(sqlite3_file *file, int what, void *value)
{
    return REAL(file)->pMethods->xFileControl(REAL(file), what, value);
}
static int pass_sector(sqlite3_file *file)
{
    return REAL(file)->pMethods->xSectorSize(REAL(file));
}
static int pass_device(sqlite3_file *file)
{
    return REAL(file)->pMethods->xDeviceCharacteristics(REAL(file));
}
static int pass_shm_map(sqlite3_file *file, int page, int size, int extend, void volatile **at)
{
    return REAL(file)->pMethods->xShmMap(REAL(file), page, size, extend, at);
}
static int pass_shm_lock(sqlite3_file *file, int offset, int count, int flags)
{
    return REAL(file)->pMethods->xShmLock(REAL(file), offset, count, flags);
}
static void pass_shm_barrier(sqlite3_file *file)
{
    REAL(file)->pMethods->xShmBarrier(REAL(file));
}
static int pass_shm_unmap(sqlite3_file *file, int remove)
{
    return REAL(file)->pMethods->xShmUnmap(REAL(file), remove);
}

static const sqlite3_io_methods methods = {.iVersion = 2,
                                           .xClose = pass_close,
                                           .xRead = pass_read,
                                           .xWrite = step_write,
                                           .xTruncate = step_truncate,
                                           .xSync = step_sync,
                                           .xFileSize = pass_size,
                                           .xLock = pass_lock,
                                           .xUnlock = pass_unlock,
                                           .xCheckReservedLock = pass_reserved,
                                           .xFileControl = pass_control,
                                           .xSectorSize = pass_sector,
                                           .xDeviceCharacteristics = pass_device,
                                           .xShmMap = pass_shm_map,
                                           .xShmLock = pass_shm_lock,
                                           .xShmBarrier = pass_shm_barrier,
                                           .xShmUnmap = pass_shm_unmap};

static int open_stepping(sqlite3_vfs *vfs, const char *name, sqlite3_file *file, int flags, int *out)
{
    struct stepping *stepping = (struct stepping *)(void *)file;
    (void)vfs;
    stepping->base.pMethods = NULL;
    stepping->real = calloc(1, (size_t)system_vfs->szOsFile);
    const int result = system_vfs->xOpen(system_vfs, name, stepping->real, flags, out);
    if (result == SQLITE_OK)
        stepping->base.pMethods = &methods;
    else
        free(stepping->real);
    return result;
}

static int remove_stepping(sqlite3_vfs *vfs, const char *name, int sync)
{
    (void)vfs;
    step();
    return system_vfs->xDelete(system_vfs, name, sync);
}

static void count_steps_from_now(long kill_at)
{
    system_vfs = sqlite3_vfs_find(NULL);
    stepping_vfs = *system_vfs;
    stepping_vfs.zName = "stepping";
    stepping_vfs.szOsFile = (int)sizeof(struct stepping);
    stepping_vfs.xOpen = open_stepping;
    stepping_vfs.xDelete = remove_stepping;
    atomic_store(&steps, 0);
    atomic_store(&last_step, kill_at);
    assert_int_equal(sqlite3_vfs_register(&stepping_vfs, 1), SQLITE_OK);
}

/* ---- A desk, in a process of its own ---- */

static struct ind_clocks read_clock(void *context)
{
    struct timespec wall, steady;
    (void)context;
    clock_gettime(CLOCK_REALTIME, &wall);
    clock_gettime(CLOCK_MONOTONIC, &steady);
    return (struct ind_clocks){wall.tv_sec * IND_SECOND + wall.tv_nsec,
                               {steady.tv_sec * IND_SECOND + steady.tv_nsec}};
}

static void pass_over(void *context, const char *text)
{
    (void)context;
    (void)text;
}

static void hear(struct ind_causes *causes, const char *alert, uint64_t count)
{
    const ind_time now = read_clock(NULL).wall;
    const struct ind_alert_cause cause = {
        .alert = ind_slice_of(alert), .key = ind_slice_of("ge0"), .count = count, .time = now, .last = now};
    if (ind_causes_add(causes, &cause))
        ind_causes_add_line(causes, ind_slice_of("it is down"));
}

struct telling {
    struct ind_desk *desk;
    unsigned count;
};

static bool is_told(void *context)
{
    const struct telling *telling = context;
    struct ind_desk_count count;
    ind_desk_read_count(telling->desk, &count);
    return count.way_count > 0 && count.ways[0].waiting == 0 && count.ways[0].delivered >= telling->count;
}

static void go_as_a_desk(long kill_at, bool first, unsigned expect)
{
    static const struct ind_clock clock = {read_clock, NULL};
    struct ind_reporter reporter;
    struct ind_causes *causes = ind_causes_new();
    if (first)
        count_steps_from_now(kill_at);
    ind_reporter_begin(&reporter, pass_over, NULL);
    const struct ind_desk_settings settings = {.state = state_folder,
                                               .store = state_folder,
                                               .host = "harbour-log",
                                               .causes = &causes,
                                               .cause_count = 1,
                                               .reporter = &reporter,
                                               .clock = &clock};
    struct ind_desk *desk = ind_desk_new(&settings);
    if (!desk || !ind_desk_adopt(desk, loaded.config) || !ind_desk_start(desk))
        _exit(3);
    if (first) {
        hear(causes, "down", 1);
        hear(causes, "guessing", 3);
    } else {
        hear(causes, "guessing", 2);
    }
    struct telling telling = {desk, expect};
    ind_wait_until(is_told, &telling, "it is told");
    ind_desk_free(desk);
    if (!first)
        _exit(0);
    char text[40];
    snprintf(text, sizeof text, "%ld\n", atomic_load(&steps));
    ind_write_file(ind_path(folder, "steps"), text);
    _exit(0);
}

/* Returns whether it was killed. */
static bool run_a_desk(long kill_at, bool first, unsigned expect)
{
    int status;
    const pid_t child = fork();
    if (child == 0)
        go_as_a_desk(kill_at, first, expect);
    assert_int_equal(waitpid(child, &status, 0), child);
    if (WIFSIGNALED(status) && WTERMSIG(status) == SIGKILL)
        return true;
    assert_true(WIFEXITED(status));
    assert_int_equal(WEXITSTATUS(status), 0);
    return false;
}

/* ---- What is there ---- */

struct seen {
    unsigned open, notices;
    bool guessing;
    uint64_t counted;
};

static void see_alert(void *context, const struct ind_saved_alert *saved)
{
    struct seen *seen = context;
    seen->open += strcmp(saved->name, "down") == 0;
    seen->guessing |= strcmp(saved->name, "guessing") == 0;
}

static void see_notice(void *context, const char *way, const struct ind_notice *notice)
{
    (void)way;
    (void)notice;
    ((struct seen *)context)->notices++;
}

static void see_counted(void *context, const struct ind_saved_alert *saved, const char *by,
                        const struct ind_alert_counted *counted)
{
    (void)saved;
    assert_string_equal(by, "app");
    for (size_t i = 0; i < IND_ALERT_PARTS; i++)
        ((struct seen *)context)->counted += counted->parts[i];
}

static struct seen look(void)
{
    struct seen seen = {0};
    struct ind_alert_file *file;
    char reason[300];
    if (ind_alert_file_open(state_folder, false, &file, reason, sizeof reason) != IND_ALERT_FILE_GOOD)
        fail_msg("%s", reason);
    assert_true(ind_alert_file_list(file, false, NULL, NULL, 100, see_alert, &seen));
    assert_true(ind_alert_file_notices(file, see_notice, &seen));
    assert_true(ind_alert_file_counted(file, 0, see_counted, &seen));
    ind_alert_file_close(file);
    return seen;
}

/* How many objects came; with nobody on the way. */
static unsigned posted(void)
{
    char *text = ind_read_file(ind_path(folder, "posted"), NULL);
    unsigned count = 0;
    for (const char *at = text; at && (at = strstr(at, "\"event\"")); at++)
        count++;
    free(text);
    return count;
}

/* ---- The trial ---- */

static bool has_port(void *context)
{
    char *text = ind_read_file(ind_path(folder, "port"), NULL);
    *(unsigned *)context = text ? (unsigned)strtoul(text, NULL, 10) : 0;
    free(text);
    return *(unsigned *)context > 0;
}

static int set_up(void **state)
{
    char config[1200];
    unsigned port = 0;
    (void)state;
    folder = ind_folder_new();
    standin = fork();
    if (standin == 0) {
        execlp("python3", "python3", IND_TESTS_FOLDER "/support/standin.py", "http", folder, (char *)NULL);
        _exit(127);
    }
    ind_wait_until(has_port, &port, "the server listens");
    snprintf(
        config, sizeof config,
        "store: %s/log\nstate: %s/state\nzone: UTC\n"
        "alerts:\n"
        "  - {name: down, when: 'text contains \"down\"', by: app, tell: {post: "
        "\"http://127.0.0.1:%u/hook\"}}\n"
        "  - {name: guessing, when: 'text contains \"guess\"', by: app, more than: 4 in 1 h, tell: {post: "
        "\"http://127.0.0.1:%u/hook\"}}\n",
        folder, folder, port, port);
    ind_write_file(ind_path(folder, "indagator.yaml"), config);
    ind_config_load(ind_path(folder, "indagator.yaml"), &loaded);
    state_folder = strdup(ind_path(folder, "state"));
    return loaded.config && state_folder ? 0 : -1;
}

static int tear_down(void **state)
{
    (void)state;
    (void)kill(standin, SIGKILL);
    (void)waitpid(standin, NULL, 0);
    ind_loaded_free(&loaded);
    free(state_folder);
    ind_folder_remove(folder);
    return 0;
}

static void begin_anew(void)
{
    struct ind_ran ran = ind_shell(folder, "rm -rf state posted; mkdir state");
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
}

static long count_all_steps(void)
{
    begin_anew();
    assert_false(run_a_desk(0, true, 1));
    assert_int_equal(posted(), 1);
    char *text = ind_read_file(ind_path(folder, "steps"), NULL);
    const long count = strtol(text, NULL, 10);
    free(text);
    return count;
}

static void what_is_on_the_disk_is_told_whatever_step_is_the_last(void **state)
{
    const long all = count_all_steps();
    unsigned recorded = 0, twice = 0, went_on = 0;
    (void)state;
    assert_in_range(all, 10, 1000);
    const long stride = getenv("IND_ALL") || all < 60 ? 1 : all / 40;
    for (long last = 1; last <= all; last += stride) {
        begin_anew();
        if (!run_a_desk(last, true, 1))
            continue; /* it took fewer steps this time */
        const struct seen before = look();
        const unsigned told = posted();
        assert_true(told <= 1 && before.open <= 1 && before.notices <= 1);
        assert_true(told == 0 || before.open == 1); /* it is saved before it is told */
        assert_true(before.open == 1 ? told + before.notices >= 1 : before.notices == 0);
        assert_false(run_a_desk(0, false, before.notices + (before.counted == 3)));
        const struct seen after = look();
        assert_int_equal(after.notices, 0);
        assert_int_equal(after.open, before.open);
        /* Three that were saved and two that came make five. */
        assert_true(before.counted == 0 || before.counted == 3);
        assert_true(after.guessing == (before.counted == 3));
        assert_int_equal(posted(), told + before.notices + after.guessing);
        recorded += before.open;
        twice += told + before.notices == 2;
        went_on += after.guessing;
    }
    print_message("%ld steps: %u times it was on the disk, %u times told twice, %u times counted on\n", all,
                  recorded, twice, went_on);
    assert_true(recorded > 0 && twice > 0 && went_on > 0);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(what_is_on_the_disk_is_told_whatever_step_is_the_last, set_up,
                                        tear_down),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
