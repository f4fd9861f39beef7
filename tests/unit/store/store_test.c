/* The store, step by step: what a start mends, and what a snapshot sees while a collector goes on. */
#include "support/random.h"
#include "support/support.h"

#include "store/archive/keeper.h"
#include "store/disk/reader.h"
#include "store/read/snapshot.h"
#include "store/write/store.h"
#include <errno.h>
#include <fcntl.h>
#include <unistd.h>

#define NOW (INT64_C(1795409100) * IND_SECOND)

/* Both clocks, so much later. */
static struct ind_clocks later(int64_t span)
{
    return (struct ind_clocks){NOW + span, {IND_SECOND + span}};
}

static char *folder;
static struct ind_loaded loaded;
static struct ind_store *store;
static char told[4096];

static void tell(void *context, enum ind_own own, const char *path, const char *text)
{
    (void)own;
    (void)path;
    (void)context;
    snprintf(told + strlen(told), sizeof told - strlen(told), "%s\n", text);
}

static void open_store(void)
{
    char reason[1024];
    struct ind_store_settings settings = {
        .config = loaded.config, .fs = &ind_fs_posix, .now = NOW, .report = tell};
    told[0] = '\0';
    if (ind_store_open(&settings, &store, reason, sizeof reason) != IND_STORE_OK)
        print_error("%s\n", reason);
    assert_non_null(store);
}

static int set_up(void **state)
{
    (void)state;
    folder = ind_folder_new();
    ind_write_file(ind_path(folder, "indagator.yaml"),
                   "store: log\nstate: state\nroutes: [{name: a, file: \"{app}.log\"}]\n"
                   "archives: {default: {compress: zstd, keep: 1 year}}\n");
    ind_config_load(ind_path(folder, "indagator.yaml"), &loaded);
    assert_non_null(loaded.config);
    open_store();
    return 0;
}

static int tear_down(void **state)
{
    (void)state;
    ind_store_close(store);
    store = NULL;
    ind_loaded_free(&loaded);
    ind_folder_remove(folder);
    return 0;
}

static void append(const char *path, const char *line)
{
    struct ind_target target = {ind_slice_of(path), ind_slice_of(path), ind_path_hash(ind_slice_of(path)), 0,
                                false};
    struct ind_live *live = ind_store_file(store, &target, later(0));
    assert_non_null(live);
    assert_int_equal(ind_store_append(store, live, ind_slice_of(line), NOW, 0, later(0)), IND_APPENDED);
    assert_true(ind_store_flush(store, later(0)));
}

static void rotate_all(void)
{
    size_t failed = 0;
    (void)ind_store_rotate(store, false, later(0), &failed);
    assert_int_equal(failed, 0);
}

static void expect_file(const char *name, const char *text)
{
    char *found = ind_read_file(ind_path(folder, name), NULL);
    assert_non_null(found);
    assert_string_equal(found, text);
    free(found);
}

static void add_text(const char *name, const char *text)
{
    FILE *file = fopen(ind_path(folder, name), "a");
    assert_non_null(file);
    assert_true(fputs(text, file) >= 0);
    assert_int_equal(fclose(file), 0);
}

static void a_start_cuts_off_a_torn_line(void **state)
{
    (void)state;
    append("a.log", "one\n");
    append("b.log", "one\n");
    ind_store_close(store);
    add_text("log/a.log", "to");
    add_text("log/unknown.log", "whole\ntorn");
    open_store();
    expect_file("log/a.log", "one\n");
    expect_file("log/b.log", "one\n");
    expect_file("log/unknown.log", "whole\n");
    assert_non_null(strstr(told, "a.log: cut off an unfinished line of 2 bytes"));
    append("a.log", "two\n");
    expect_file("log/a.log", "one\ntwo\n");
}

static void a_start_removes_what_was_left_unfinished(void **state)
{
    (void)state;
    append("a.log", "one\n");
    ind_store_close(store);
    ind_write_file(ind_path(folder, "log/.a-20261123T044500Z-000001.log.zst.tmp"), "half");
    ind_write_file(ind_path(folder, "log/.not-ours"), "stays");
    open_store();
    assert_int_equal(access(ind_path(folder, "log/.a-20261123T044500Z-000001.log.zst.tmp"), F_OK), -1);
    assert_int_equal(access(ind_path(folder, "log/.not-ours"), F_OK), 0);
}

static void numbers_go_on_where_they_were(void **state)
{
    (void)state;
    append("a.log", "one\n");
    rotate_all();
    append("a.log", "two\n");
    ind_store_close(store);
    open_store();
    rotate_all();
    expect_file("log/a-20261123T044500Z-000001.log", "one\n");
    expect_file("log/a-20261123T044500Z-000002.log", "two\n");
}

static void a_file_removed_by_somebody_is_begun_anew(void **state)
{
    (void)state;
    append("a.log", "one\n");
    assert_int_equal(unlink(ind_path(folder, "log/a.log")), 0);
    append("a.log", "two\n");
    expect_file("log/a.log", "two\n");
    assert_non_null(strstr(told, "a.log was removed by somebody"));
}

/* What the collector does between two steps of a snapshot. */
struct meanwhile {
    int step;
    bool compress, more;
};

static void go_on(void *context, int step)
{
    const struct meanwhile *meanwhile = context;
    if (step != meanwhile->step)
        return;
    rotate_all();
    if (meanwhile->more)
        append("a.log", "later\n");
    if (meanwhile->compress)
        (void)ind_keeper_run(ind_store_keeper(store), later(0), NULL);
}

static size_t times_found(const struct ind_snapshot *snapshot, const char *line)
{
    size_t times = 0;
    for (size_t i = 0; i < snapshot->count; i++) {
        enum ind_compression compression;
        struct ind_slice block;
        uint64_t at;
        const struct ind_snapshot_file *file = &snapshot->files[i];
        if (file->twice)
            continue;
        int opened = ind_snapshot_open(snapshot, file, &compression);
        assert_true(opened >= 0);
        struct ind_reader *reader =
            ind_reader_open(opened, compression, 0, file->file >= 0 ? file->size : UINT64_MAX);
        while (ind_reader_next(reader, &block, &at) == IND_READ_BLOCK)
            for (; block.length; block = ind_slice_from(block, 1))
                times += ind_slice_starts(block, ind_slice_of(line));
        ind_reader_close(reader);
    }
    return times;
}

/* Every message stored before it began is in a snapshot once, wherever a rotation and a compression fall. */
static void a_snapshot_holds_everything_once_while_files_move(void **state)
{
    (void)state;
    append("a.log", "oldest\n");
    rotate_all();
    (void)ind_keeper_run(ind_store_keeper(store), later(0), NULL);
    append("a.log", "archived\n");
    rotate_all();
    for (int round = 0; round < 4 * IND_SNAPSHOT_STEPS; round++) {
        struct meanwhile meanwhile = {round / 4, round & 1, round & 2};
        struct ind_snapshot snapshot;
        char line[32];
        snprintf(line, sizeof line, "live %d\n", round);
        append("a.log", line);
        assert_true(ind_snapshot_take(ind_path(folder, "log"), go_on, &meanwhile, &snapshot));
        assert_int_equal(times_found(&snapshot, line), 1);
        assert_int_equal(times_found(&snapshot, "archived\n"), 1);
        assert_int_equal(times_found(&snapshot, "oldest\n"), 1);
        /* And an archive that changes its name only when it is to be read. */
        (void)ind_keeper_run(ind_store_keeper(store), later(0), NULL);
        assert_int_equal(times_found(&snapshot, line), 1);
        assert_int_equal(times_found(&snapshot, "archived\n"), 1);
        ind_snapshot_free(&snapshot);
    }
}

/* A disk with room for so many bytes. */
static uint64_t disk_room;

static ssize_t write_within_room(void *context, int file, const struct iovec *pieces, int count)
{
    (void)context;
    uint64_t total = 0;
    for (int i = 0; i < count; i++)
        total += pieces[i].iov_len;
    if (total <= disk_room) {
        ssize_t written = ind_fs_posix.write(NULL, file, pieces, count);
        disk_room -= written > 0 ? (uint64_t)written : 0;
        return written;
    }
    struct iovec part = {pieces[0].iov_base, disk_room < pieces[0].iov_len ? disk_room : pieces[0].iov_len};
    disk_room = 0;
    errno = ENOSPC;
    return part.iov_len ? ind_fs_posix.write(NULL, file, &part, 1) : -1;
}

struct settled {
    uint64_t written, lost;
};

static void settle(void *context, uint32_t owner, uint32_t lines, bool written)
{
    struct settled *settled = context;
    assert_int_equal(owner, 7);
    *(written ? &settled->written : &settled->lost) += lines;
}

/* Far more than one write takes waits in one file: it all goes out, whole, once there is room. */
static void what_waited_for_room_is_written_whole(void **state)
{
    enum { LINES = 40000 };
    char reason[400];
    struct settled settled = {0, 0};
    struct ind_fs fs = ind_fs_posix;
    (void)state;
    ind_store_close(store);
    fs.write = write_within_room;
    struct ind_store_settings settings = {
        .config = loaded.config, .fs = &fs, .now = NOW, .settle = settle, .context = &settled};
    assert_int_equal(ind_store_open(&settings, &store, reason, sizeof reason), IND_STORE_OK);
    struct ind_slice path = IND_SLICE("w.log");
    struct ind_target target = {path, path, ind_path_hash(path), 0, false};
    disk_room = 100000;
    for (int i = 0; i < LINES; i++) {
        struct ind_live *live = ind_store_file(store, &target, later(0));
        char line[64];
        int length = snprintf(line, sizeof line, "line number %d of many that wait for room\n", i);
        assert_int_equal(
            ind_store_append(store, live, (struct ind_slice){line, (size_t)length}, NOW, 7, later(0)),
            IND_APPENDED);
    }
    assert_false(ind_store_flush(store, later(IND_SECOND)));
    uint64_t waiting = ind_store_counts(store).waiting;
    assert_int_equal(waiting + settled.written, LINES);
    assert_true(waiting > 1000);
    disk_room = UINT64_MAX;
    assert_true(ind_store_flush(store, later(2 * IND_SECOND)));
    assert_int_equal(settled.written, LINES);
    assert_int_equal(settled.lost, 0);
    struct ind_ran ran = ind_shell(folder, "grep -c '^line number [0-9]* of many that wait for room$' "
                                           "log/w.log; wc -l < log/w.log; awk '$3 != NR - 1' log/w.log");
    assert_string_equal(ran.out, "40000\n40000\n");
    ind_ran_free(&ran);
}

/* ---- Lines one by one, and several at once ---- */

enum { OWNERS = 5, PATHS = 3, TOGETHER = 8, BIGGEST = 300000 };

struct owners {
    uint64_t written[OWNERS], lost;
};

static void settle_owner(void *context, uint32_t owner, uint32_t lines, bool written)
{
    struct owners *owners = context;
    if (written)
        owners->written[owner] += lines;
    else
        owners->lost += lines;
}

/* Most are short, some fill pages, a few more than what is written at once; each tells its number. */
static size_t random_line(char *line, uint64_t *seed, unsigned number)
{
    const unsigned kind = ind_random(seed, 400);
    size_t length = kind == 0  ? BIGGEST - 64 - ind_random(seed, BIGGEST / 2)
                    : kind < 8 ? 3000 + ind_random(seed, 9000)
                               : 1 + ind_random(seed, 160);
    length += (size_t)snprintf(line, 32, "%u ", number);
    for (size_t at = strlen(line); at < length; at++)
        line[at] = (char)('a' + at % 26);
    line[length++] = '\n';
    return length;
}

enum way { ONE_BY_ONE, IN_BLOCKS, AS_THEY_LIE };
static unsigned wholes; /* blocks that were written as they lay */

/* Or, where that is not to be, appended. */
static void write_as_they_lie(struct ind_live *live, const struct ind_new_line *lines, size_t count,
                              struct ind_clocks now, struct owners *owners)
{
    static char bytes[TOGETHER * (BIGGEST + 64)];
    struct ind_whole whole = {{bytes, 0}, count, IND_TIME_NONE};
    for (size_t i = 0; i < count; i++) {
        memcpy(bytes + whole.bytes.length, lines[i].bytes.at, lines[i].bytes.length);
        whole.bytes.length += lines[i].bytes.length;
        whole.latest = lines[i].time > whole.latest ? lines[i].time : whole.latest;
    }
    if (!ind_store_write_whole(store, live, &whole, now)) {
        assert_int_equal(ind_store_append_lines(store, live, lines, count, now), count);
        return;
    }
    wholes++;
    for (size_t i = 0; i < count; i++)
        owners->written[lines[i].owner]++;
}

/* The same lines into the store at `folder`/log. */
static struct owners fill_store(enum way way, const char *rules)
{
    static char text[TOGETHER][BIGGEST + 64];
    static const char *const names[PATHS] = {"a.log", "b.log", "c.log"};
    struct owners owners = {{0}, 0};
    struct ind_new_line lines[TOGETHER];
    uint64_t seed = IND_RANDOM_START;
    char reason[1024];
    ind_store_close(store);
    ind_loaded_free(&loaded);
    ind_write_file(ind_path(folder, "indagator.yaml"), rules);
    ind_config_load(ind_path(folder, "indagator.yaml"), &loaded);
    assert_non_null(loaded.config);
    const struct ind_store_settings settings = {.config = loaded.config,
                                                .fs = &ind_fs_posix,
                                                .now = NOW,
                                                .report = tell,
                                                .settle = settle_owner,
                                                .context = &owners};
    assert_int_equal(ind_store_open(&settings, &store, reason, sizeof reason), IND_STORE_OK);
    ind_time time = NOW;
    for (unsigned number = 0; number < 20000;) {
        const size_t count = 1 + ind_random(&seed, TOGETHER);
        const struct ind_slice path = ind_slice_of(names[ind_random(&seed, PATHS)]);
        const struct ind_target target = {path, path, ind_path_hash(path), 0, false};
        const struct ind_clocks now = later(number * IND_SECOND / 100);
        for (size_t i = 0; i < count; i++) {
            time += ((int64_t)ind_random(&seed, 4000) - 1000) * IND_SECOND / 1000;
            lines[i] = (struct ind_new_line){
                {text[i], random_line(text[i], &seed, number++)}, time, ind_random(&seed, OWNERS)};
        }
        struct ind_live *live = ind_store_file(store, &target, now);
        assert_non_null(live);
        if (way == AS_THEY_LIE)
            write_as_they_lie(live, lines, count, now, &owners);
        else if (way == IN_BLOCKS)
            assert_int_equal(ind_store_append_lines(store, live, lines, count, now), count);
        for (size_t i = 0; i < count && way == ONE_BY_ONE; i++)
            assert_int_equal(
                ind_store_append(store, live, lines[i].bytes, lines[i].time, lines[i].owner, now),
                IND_APPENDED);
    }
    assert_true(ind_store_flush(store, later(IND_SECOND)));
    assert_int_equal(ind_store_counts(store).waiting, 0);
    assert_int_equal(owners.lost, 0);
    ind_store_close(store);
    store = NULL;
    return owners;
}

/* The same files, archives and journal, and the same owners. */
static void lines_that_come_together_end_where_single_ones_do(void **state)
{
    static const char *const rules[] = {
        "{rotate: {size: 64 KiB}, compress: none}", "{rotate: {messages: 37}, compress: none}",
        "{rotate: {every: hour, size: 3 MiB, messages: 1500}, compress: none}",
        "{rotate: {every: hour}, compress: none}"};
    (void)state;
    for (size_t i = 0; i < sizeof rules / sizeof *rules; i++) {
        char text[512];
        snprintf(text, sizeof text,
                 "store: log\nstate: state\nzone: UTC\nroutes: [{name: a, file: \"{app}.log\"}]\n"
                 "archives: {default: %s}\n",
                 rules[i]);
        struct ind_ran ran = ind_shell(folder, "rm -rf log state");
        ind_ran_free(&ran);
        const struct owners one_by_one = fill_store(ONE_BY_ONE, text);
        ran = ind_shell(folder, "rm -rf other && mv log other && rm -rf state");
        ind_ran_free(&ran);
        for (enum way way = IN_BLOCKS; way <= AS_THEY_LIE; way++) {
            const struct owners others = fill_store(way, text);
            assert_memory_equal(&one_by_one, &others, sizeof others);
            /* Files are opened at another time where their lines are written at another. */
            ran = ind_shell(
                folder,
                "sed -i 's/\"inode\":[0-9]*,//' */.indagator/journal.jsonl; diff -r %s log other && "
                "ls log | wc -l; rm -r log state",
                way == IN_BLOCKS ? "" : "-x journal.jsonl");
            if (ran.status != 0 || strtoul(ran.out, NULL, 10) < 3)
                fail_msg("%s, %d: %s", rules[i], (int)way, ran.out);
            ind_ran_free(&ran);
        }
        assert_true(wholes > 1000);
        wholes = 0;
    }
    open_store();
}

/* A disk that is filled by the middle of it: nothing of it stays, and it can be appended. */
static void what_is_written_whole_is_whole_or_not_there(void **state)
{
    char reason[1024], lines[1000];
    struct owners owners = {{0}, 0};
    struct ind_fs fs = ind_fs_posix;
    (void)state;
    memset(lines, 'x', sizeof lines);
    for (size_t i = 99; i < sizeof lines; i += 100)
        lines[i] = '\n';
    ind_store_close(store);
    fs.write = write_within_room;
    const struct ind_store_settings settings = {
        .config = loaded.config, .fs = &fs, .now = NOW, .settle = settle_owner, .context = &owners};
    assert_int_equal(ind_store_open(&settings, &store, reason, sizeof reason), IND_STORE_OK);
    const struct ind_slice path = IND_SLICE("w.log");
    const struct ind_target target = {path, path, ind_path_hash(path), 0, false};
    const struct ind_whole whole = {{lines, sizeof lines}, 10, NOW};
    struct ind_live *live = ind_store_file(store, &target, later(0));
    assert_false(ind_store_write_whole(store, live, &whole, later(0))); /* the file is not begun */
    disk_room = UINT64_MAX;
    assert_int_equal(ind_store_append(store, live, IND_SLICE("one\n"), NOW, 1, later(0)), IND_APPENDED);
    assert_true(ind_store_write_whole(store, live, &whole, later(0)));
    assert_int_equal(owners.written[1], 1); /* what waited went before */
    disk_room = 550;
    assert_false(ind_store_write_whole(store, live, &whole, later(0)));
    disk_room = 0;
    assert_false(ind_store_write_whole(store, live, &whole, later(0)));
    struct ind_ran ran = ind_shell(folder, "wc -c <log/w.log");
    assert_string_equal(ran.out, "1004\n");
    ind_ran_free(&ran);
    disk_room = UINT64_MAX;
    assert_int_equal(ind_store_append(store, live, IND_SLICE("two\n"), NOW, 2, later(0)), IND_APPENDED);
    assert_true(ind_store_flush(store, later(IND_SECOND)));
    ran = ind_shell(folder, "head -n 1 log/w.log; tail -n 1 log/w.log; wc -l <log/w.log");
    assert_string_equal(ran.out, "one\ntwo\n12\n");
    ind_ran_free(&ran);
    const struct ind_store_counts counts = ind_store_counts(store);
    assert_int_equal(counts.lines, 12);
    assert_int_equal(counts.bytes, 1008);
    assert_int_equal(owners.written[1] + owners.written[2], 2); /* of those written whole others tell */
}

int main(void)
{
    const struct CMUnitTest tests[] = {
#define with_store(test) cmocka_unit_test_setup_teardown(test, set_up, tear_down)
        with_store(a_start_cuts_off_a_torn_line),
        with_store(a_start_removes_what_was_left_unfinished),
        with_store(numbers_go_on_where_they_were),
        with_store(a_file_removed_by_somebody_is_begun_anew),
        with_store(a_snapshot_holds_everything_once_while_files_move),
        with_store(what_waited_for_room_is_written_whole),
        with_store(lines_that_come_together_end_where_single_ones_do),
        with_store(what_is_written_whole_is_whole_or_not_there),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
