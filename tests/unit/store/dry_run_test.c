/* What a dry run shows is what is then done: random stores, rotated twice, once dry. */
#include "support/support.h"

#include "store/archive/keeper.h"
#include "store/disk/walk.h"
#include "store/write/store.h"
#include "support/random.h"
#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#define NOW (INT64_C(1795409100) * IND_SECOND)

enum { ROOM = 1 << 16, FILES = 5, ROUNDS = 120 };

static char *folder;
static struct ind_loaded loaded;
static uint64_t seed = IND_RANDOM_START;

static unsigned below(unsigned most)
{
    return ind_random(&seed, most);
}

static struct ind_clocks at(int64_t seconds)
{
    return (struct ind_clocks){NOW + seconds * IND_SECOND, {(1 + seconds) * IND_SECOND}};
}

/* The actions, a line each. */
static void note(void *context, const struct ind_action *action)
{
    struct ind_buffer *list = context;
    char line[1500];
    int length = snprintf(line, sizeof line, "%d %s %llu %s %s\n", action->kind, action->path,
                          (unsigned long long)action->size, action->rule ? action->rule : "-",
                          action->policy ? action->policy : "-");
    ind_buffer_add(list, line, (size_t)length);
}

static struct ind_store *open_store(bool dry_run, int64_t seconds, struct ind_buffer *list)
{
    char reason[1400];
    struct ind_store *store;
    struct ind_store_settings settings = {.config = loaded.config,
                                          .fs = &ind_fs_posix,
                                          .now = at(seconds).wall,
                                          .dry_run = dry_run,
                                          .no_catalog = true, /* it has no part in this */
                                          .act = list ? note : NULL,
                                          .context = list};
    if (ind_store_open(&settings, &store, reason, sizeof reason) != IND_STORE_OK)
        fail_msg("%s", reason);
    return store;
}

/* What "rotate" does. */
static void rotate(bool dry_run, bool only_due, bool clock_is_right, int64_t seconds, struct ind_buffer *list)
{
    struct ind_store *store = open_store(dry_run, seconds, list);
    size_t failed = 0;
    (void)ind_store_rotate(store, only_due, at(seconds), &failed);
    if (clock_is_right)
        ind_keeper_retain(ind_store_keeper(store), at(seconds), true);
    assert_true(ind_keeper_run(ind_store_keeper(store), at(seconds), NULL));
    assert_int_equal(failed, 0);
    ind_store_close(store);
}

static void configure(void)
{
    static const char *const rotations[] = {"{every: hour}", "{size: 4 KiB}", "{messages: 7}",
                                            "{every: day, size: 4 KiB}"};
    static const char *const keeps[] = {
        "{for: 1 hour}", "{number: 2}", "{space: 3 KiB}", "1 year", "{for: 1 day, number: 4, space: 8 KiB}",
        "{space: 10 %}"};
    static const char *const packs[] = {"zstd, recompress: {after: 1 h, with: zstd 5}", "gzip", "none"};
    char text[1024];
    snprintf(text, sizeof text,
             "store: log\nstate: state\nzone: UTC\nroutes:\n"
             "  - {name: a, file: \"a/{app}.log\", archive: one}\n"
             "  - {name: b, file: \"b/{app}.log\", archive: two}\n"
             "archives:\n"
             "  one: {rotate: %s, keep: %s, compress: %s}\n"
             "  two: {rotate: %s, keep: %s, compress: %s}\n",
             rotations[below(4)], keeps[below(6)], packs[below(3)], rotations[below(4)], keeps[below(6)],
             packs[below(3)]);
    ind_write_file(ind_path(folder, "indagator.yaml"), text);
    ind_loaded_free(&loaded);
    ind_config_load(ind_path(folder, "indagator.yaml"), &loaded);
    if (!loaded.config)
        fail_msg("%s", text);
}

static void append(struct ind_store *store, int64_t seconds)
{
    char path[64], line[1300];
    uint32_t route = below(2);
    snprintf(path, sizeof path, "%c/%u.log", route ? 'b' : 'a', below(FILES));
    int length = snprintf(line, sizeof line, "%0*u\n", (int)(1 + below(1200)), below(1000));
    struct ind_target target = {ind_slice_of(path), ind_slice_of(path), ind_path_hash(ind_slice_of(path)),
                                route, false};
    struct ind_live *live = ind_store_file(store, &target, at(seconds));
    assert_non_null(live);
    assert_int_equal(ind_store_append(store, live, (struct ind_slice){line, (size_t)length}, at(seconds).wall,
                                      0, at(seconds)),
                     IND_APPENDED);
}

/* Some days of a store's life, with what stops leave behind. */
static int64_t live_for_a_while(void)
{
    int64_t seconds = 0;
    for (unsigned run = 1 + below(3); run > 0; run--) {
        struct ind_store *store = open_store(false, seconds, NULL);
        for (unsigned i = below(60); i > 0; i--) {
            append(store, seconds);
            seconds += below(3000);
            (void)ind_store_tick(store, at(seconds), 0);
            if (below(8) == 0)
                (void)ind_keeper_run(ind_store_keeper(store), at(seconds), NULL);
        }
        (void)ind_store_flush(store, at(seconds));
        ind_store_close(store);
        (void)mkdir(ind_path(folder, "log/a"), 0700);
        (void)mkdir(ind_path(folder, "log/b"), 0700);
        if (below(3) == 0)
            ind_write_file(ind_path(folder, "log/a/.0-20261123T044500Z-000001.log.zst.tmp"), "half");
        if (below(3) == 0)
            ind_write_file(ind_path(folder, "log/b/unknown.log"), "whole\ntorn");
    }
    return seconds + below(100000);
}

static bool add_file(void *context, const char *path)
{
    char line[1400];
    struct stat facts;
    char whole[1300];
    snprintf(whole, sizeof whole, "log/%s", path);
    if (stat(ind_path(folder, whole), &facts) != 0)
        return true;
    int length = snprintf(line, sizeof line, "%s %lld\n", path, (long long)facts.st_size);
    ind_buffer_add(context, line, (size_t)length);
    return true;
}

static void list_files(struct ind_buffer *list)
{
    int store = open(ind_path(folder, "log"), O_RDONLY | O_DIRECTORY);
    assert_true(store >= 0);
    assert_true(ind_walk(store, add_file, list, NULL));
    close(store);
}

static bool exists(const char *path)
{
    char whole[1300];
    snprintf(whole, sizeof whole, "log/%s", path);
    return access(ind_path(folder, whole), F_OK) == 0;
}

/* What was removed, rotated or packed is no more there under its name. */
static void check_done(const char *list)
{
    unsigned kind;
    int used;
    char path[1200], rule[32], policy[32];
    unsigned long long size;
    for (; sscanf(list, "%u %1199s %llu %31s %31s\n%n", &kind, path, &size, rule, policy, &used) == 5;
         list += used)
        if (kind != IND_ACTION_REPAIR && strcmp(rule, "recompress") != 0 && exists(path))
            fail_msg("%s is still there after action %u", path, kind);
}

static void what_a_dry_run_shows_is_what_is_done(void **state)
{
    static char shown[ROOM], done[ROOM], before[ROOM], after[ROOM];
    size_t actions[5] = {0};
    (void)state;
    for (unsigned round = 0; round < ROUNDS; round++) {
        folder = ind_folder_new();
        configure();
        int64_t seconds = live_for_a_while();
        configure(); /* other policies, as after a reload */
        bool only_due = below(2), clock_is_right = below(2);
        struct ind_buffer lists[4] = {ind_buffer_on(shown, ROOM - 1), ind_buffer_on(done, ROOM - 1),
                                      ind_buffer_on(before, ROOM - 1), ind_buffer_on(after, ROOM - 1)};
        list_files(&lists[2]);
        rotate(true, only_due, clock_is_right, seconds, &lists[0]);
        list_files(&lists[3]);
        before[lists[2].length] = after[lists[3].length] = '\0';
        assert_string_equal(before, after); /* nothing was changed */
        rotate(false, only_due, clock_is_right, seconds, &lists[1]);
        shown[lists[0].length] = done[lists[1].length] = '\0';
        assert_string_equal(shown, done);
        check_done(done);
        for (const char *line = done; *line; line = strchr(line, '\n') + 1)
            actions[*line - '0']++;
        ind_folder_remove(folder);
    }
    ind_loaded_free(&loaded);
    for (int i = 0; i < 4; i++) /* the trial tries all of them */
        assert_true(actions[i] > 20);
}

static bool make_large(void *context, const char *path)
{
    char whole[1300];
    snprintf(whole, sizeof whole, "log/%s", path);
    if (strncmp(path, "a/", 2) != 0)
        return true;
    int file = open(ind_path(folder, whole), O_WRONLY);
    bool good = file >= 0 && pwrite(file, "\n", 1, *(off_t *)context - 1) == 1;
    close(file);
    return good;
}

/* Three archives (with holes, so that they take no room; a whole line ends them) of 6 % of the file system
 * each, where 10 % may be kept. */
static void a_part_of_the_file_system_is_known_to_a_dry_run(void **state)
{
    static char shown[ROOM], done[ROOM];
    struct ind_buffer lists[2] = {ind_buffer_on(shown, ROOM - 1), ind_buffer_on(done, ROOM - 1)};
    uint64_t size, room;
    (void)state;
    folder = ind_folder_new();
    ind_write_file(
        ind_path(folder, "indagator.yaml"),
        "store: log\nstate: state\nroutes: [{name: a, file: \"a/{app}.log\"}, {name: b, file: b.log}]\n"
        "archives: {default: {keep: {space: 10 %}, compress: none}}\n");
    ind_config_load(ind_path(folder, "indagator.yaml"), &loaded);
    struct ind_store *store = open_store(false, 0, NULL);
    for (int i = 0; i < 3; i++) {
        size_t failed = 0;
        struct ind_target target = {IND_SLICE("a/x.log"), IND_SLICE("a/x.log"),
                                    ind_path_hash(IND_SLICE("a/x.log")), 0, false};
        struct ind_live *live = ind_store_file(store, &target, at(i));
        (void)ind_store_append(store, live, IND_SLICE("one\n"), at(i).wall, 0, at(i));
        assert_int_equal(ind_store_rotate(store, false, at(i), &failed), 1);
    }
    ind_disk_space(ind_store_disk(store), 0, &size, &room);
    ind_store_close(store);
    off_t large = (off_t)(size / 100 * 6);
    int log = open(ind_path(folder, "log"), O_RDONLY | O_DIRECTORY);
    assert_true(ind_walk(log, make_large, &large, NULL));
    close(log);
    rotate(true, false, false, 10, &lists[0]);
    rotate(false, false, false, 10, &lists[1]);
    shown[lists[0].length] = done[lists[1].length] = '\0';
    assert_string_equal(shown, done);
    const char *second = strstr(shown, "space default\n");
    assert_non_null(second);
    assert_non_null(strstr(second + 1, "space default\n")); /* two go */
    check_done(done);
    ind_folder_remove(folder);
    ind_loaded_free(&loaded);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(what_a_dry_run_shows_is_what_is_done),
        cmocka_unit_test(a_part_of_the_file_system_is_known_to_a_dry_run),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
