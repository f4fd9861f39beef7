/* A model of a power failure. Beside the folder that the system shows, the model keeps what is surely on the
 * disk: the bytes of a file, and the names in a folder, as they were when each was last flushed. When the
 * power fails, every file and folder is as it was flushed or as it was shown, whichever falls worse, the
 * store is put together again from that, and opened. */
#include "support/random.h"
#include "support/support.h"

#include "store/archive/keeper.h"
#include "store/archive/proof.h"
#include "store/disk/reader.h"
#include "store/read/snapshot.h"
#include "store/write/store.h"
#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#define NOW (INT64_C(1795409100) * IND_SECOND)

enum { INODES = 256, NAMES = 64, NAME = 96, LINES = 400, TRIALS = 150, STEPS = 24 };

/* A file or folder as it was flushed. */
struct flushed {
    ino_t inode;
    int open; /* so that the system gives its number to no other */
    bool is_folder;
    char *bytes;
    size_t length;
    size_t name_count;
    struct {
        char name[NAME];
        ino_t inode;
    } names[NAMES];
};

static struct {
    struct flushed *flushed[INODES];
    size_t count;
    long left; /* changes until the power fails */
    bool off;
} disk;

static uint64_t seed;
static char *folder;

static struct flushed *of_inode(ino_t inode)
{
    for (size_t i = 0; i < disk.count; i++)
        if (disk.flushed[i]->inode == inode)
            return disk.flushed[i];
    return NULL;
}

/* The names of a folder, or the bytes of a file, as the system shows them now. */
static void look(int file, struct flushed *flushed)
{
    char path[64];
    struct stat facts;
    assert_int_equal(fstat(file, &facts), 0);
    flushed->inode = facts.st_ino;
    flushed->is_folder = S_ISDIR(facts.st_mode);
    snprintf(path, sizeof path, "/proc/self/fd/%d", file);
    if (!flushed->is_folder) {
        free(flushed->bytes);
        flushed->bytes = ind_read_file(path, &flushed->length);
        assert_non_null(flushed->bytes);
        return;
    }
    DIR *listing = opendir(path);
    flushed->name_count = 0;
    assert_non_null(listing);
    for (struct dirent *entry; (entry = readdir(listing));) {
        if (strcmp(entry->d_name, ".") == 0 || strcmp(entry->d_name, "..") == 0)
            continue;
        assert_true(flushed->name_count < NAMES && strlen(entry->d_name) < NAME);
        flushed->names[flushed->name_count].inode = entry->d_ino;
        strcpy(flushed->names[flushed->name_count++].name, entry->d_name);
    }
    closedir(listing);
}

static void flush(int file)
{
    struct stat facts;
    assert_int_equal(fstat(file, &facts), 0);
    struct flushed *flushed = of_inode(facts.st_ino);
    if (!flushed) {
        assert_true(disk.count < INODES);
        flushed = disk.flushed[disk.count++] = calloc(1, sizeof *flushed);
        assert_non_null(flushed);
        flushed->open = dup(file);
    }
    look(file, flushed);
}

/* After a start everything that is there is on the disk. */
static void flush_all(int at)
{
    DIR *listing = fdopendir(dup(at));
    flush(at);
    rewinddir(listing);
    for (struct dirent *entry; (entry = readdir(listing));) {
        if (strcmp(entry->d_name, ".") == 0 || strcmp(entry->d_name, "..") == 0)
            continue;
        int file = openat(at, entry->d_name, O_RDONLY);
        assert_true(file >= 0);
        struct stat facts;
        assert_int_equal(fstat(file, &facts), 0);
        if (S_ISDIR(facts.st_mode))
            flush_all(file);
        else
            flush(file);
        close(file);
    }
    closedir(listing);
}

static void forget_all(void)
{
    for (size_t i = 0; i < disk.count; i++) {
        close(disk.flushed[i]->open);
        free(disk.flushed[i]->bytes);
        free(disk.flushed[i]);
    }
    disk.count = 0;
}

/* ---- The failure ---- */

/* What came of a file that now has the bytes of `file` (-1: no name any more). More may be there than was
 * flushed: any part of what was written behind it. */
static void put_file(int file, const struct flushed *flushed, int into, const char *name)
{
    struct flushed shown = {.open = -1};
    int made = openat(into, name, O_WRONLY | O_CREAT | O_EXCL, 0600);
    assert_true(made >= 0);
    if (file >= 0)
        look(file, &shown);
    size_t sure = flushed ? flushed->length : 0;
    const char *bytes = flushed ? flushed->bytes : NULL;
    if (shown.length > sure) {
        bytes = shown.bytes;
        sure += ind_random(&seed, 2) ? 0 : ind_random(&seed, (unsigned)(shown.length - sure + 1));
    }
    assert_int_equal(write(made, bytes, sure), (ssize_t)sure);
    close(made);
    free(shown.bytes);
}

static void put_folder(int now, const struct flushed *flushed, int into);

/* A name that leads to an inode: its bytes or names are looked for in what is open of it. */
static void put_name(int file, const char *name, ino_t inode, int into)
{
    struct flushed *flushed = of_inode(inode);
    struct stat facts;
    int at = file >= 0 ? file : flushed ? flushed->open : -1;
    if (at >= 0 && fstat(at, &facts) == 0 && S_ISDIR(facts.st_mode)) {
        assert_int_equal(mkdirat(into, name, 0700), 0);
        int made = openat(into, name, O_RDONLY | O_DIRECTORY);
        assert_true(made >= 0);
        put_folder(at, flushed, made);
        close(made);
    } else {
        put_file(at, flushed, into, name);
    }
}

/* A folder has the names that were flushed, or those that it shows. */
static void put_folder(int now, const struct flushed *flushed, int into)
{
    struct flushed shown = {.open = -1};
    look(now, &shown);
    const struct flushed *names = flushed && ind_random(&seed, 2) ? flushed : &shown;
    if (!flushed && ind_random(&seed, 2))
        shown.name_count = 0;
    for (size_t i = 0; i < names->name_count; i++) {
        struct stat facts;
        int file = openat(now, names->names[i].name, O_RDONLY);
        if (file >= 0 && fstat(file, &facts) == 0 && facts.st_ino != names->names[i].inode) {
            close(file);
            file = -1;
        }
        put_name(file, names->names[i].name, names->names[i].inode, into);
        if (file >= 0)
            close(file);
    }
}

static void fail_power(void)
{
    disk.off = true;
    int now = open(ind_path(folder, "log"), O_RDONLY | O_DIRECTORY);
    assert_int_equal(mkdir(ind_path(folder, "after"), 0700), 0);
    int into = open(ind_path(folder, "after"), O_RDONLY | O_DIRECTORY);
    assert_true(now >= 0 && into >= 0);
    struct stat facts;
    assert_int_equal(fstat(now, &facts), 0);
    put_folder(now, of_inode(facts.st_ino), into);
    close(now);
    close(into);
}

/* Whether there is power for one more change. */
static bool goes(void)
{
    if (!disk.off && disk.left-- == 0)
        fail_power();
    if (disk.off)
        errno = EIO;
    return !disk.off;
}

/* ---- The operations ---- */

static int model_open(void *context, int at, const char *path, int flags, unsigned mode)
{
    return goes() ? ind_fs_posix.open(context, at, path, flags, mode) : -1;
}

static ssize_t model_write(void *context, int file, const struct iovec *pieces, int count)
{
    return goes() ? ind_fs_posix.write(context, file, pieces, count) : -1;
}

static int model_truncate(void *context, int file, uint64_t size)
{
    return goes() ? ind_fs_posix.truncate(context, file, size) : -1;
}

static int model_sync(void *context, int file)
{
    (void)context;
    if (!goes())
        return -1;
    flush(file);
    return 0;
}

static int model_rename(void *context, int at, const char *from, const char *to)
{
    return goes() ? ind_fs_posix.rename(context, at, from, to) : -1;
}

static int model_remove(void *context, int at, const char *path)
{
    return goes() ? ind_fs_posix.remove(context, at, path) : -1;
}

static int model_make_folder(void *context, int at, const char *path, unsigned mode, int64_t group)
{
    return goes() ? ind_fs_posix.make_folder(context, at, path, mode, group) : -1;
}

static int model_own(void *context, int file, unsigned mode, int64_t group)
{
    return goes() ? ind_fs_posix.own(context, file, mode, group) : -1;
}

static int model_space(void *context, int at, uint64_t *size, uint64_t *room)
{
    return ind_fs_posix.space(context, at, size, room);
}

static const struct ind_fs model = {NULL,       model_open,   model_write,  model_truncate,
                                    model_sync, model_rename, model_remove, model_make_folder,
                                    model_own,  model_space};

/* ---- A store on it ---- */

static struct ind_loaded loaded;
static struct ind_store *store;
static int64_t passed; /* of time */

enum state { NOT_WRITTEN, WRITTEN, ROTATED, ON_DISK };
static enum state lines[LINES];
static unsigned line_count;

static struct ind_clocks now(void)
{
    return (struct ind_clocks){NOW + passed, {IND_SECOND + passed}};
}

/* What lies there now is on the disk; false where the power failed while the store was opened. */
static bool open_store(long changes)
{
    char reason[1024] = "";
    struct ind_store_settings settings = {
        .config = loaded.config, .fs = &model, .now = NOW + passed, .no_catalog = true};
    int at = open(ind_path(folder, "log"), O_RDONLY | O_DIRECTORY);
    forget_all();
    assert_true(at >= 0);
    flush_all(at);
    close(at);
    disk.left = changes;
    disk.off = false;
    if (ind_store_open(&settings, &store, reason, sizeof reason) != IND_STORE_OK && !disk.off)
        fail_msg("%s", reason);
    return !disk.off;
}

/* The power is back. */
static void put_together(void)
{
    ind_store_close(store);
    store = NULL;
    struct ind_ran ran = ind_shell(folder, "rm -r log && mv after log");
    assert_int_equal(ran.status, 0);
    ind_ran_free(&ran);
}

static void append_line(void)
{
    static const char *const paths[] = {"a.log", "b/a.log", "b/c/d.log", "b/c/e.log"};
    struct ind_slice path = ind_slice_of(paths[ind_random(&seed, 4)]);
    struct ind_target target = {path, path, ind_path_hash(path), 0, false};
    char line[32];
    if (line_count == LINES)
        return;
    int length = snprintf(line, sizeof line, "line %u of many\n", line_count);
    struct ind_live *live = ind_store_file(store, &target, now());
    if (live && ind_store_append(store, live, (struct ind_slice){line, (size_t)length}, NOW, 0, now()) ==
                    IND_APPENDED)
        lines[line_count++] = WRITTEN;
}

static void each_line_from(enum state from, enum state to)
{
    for (unsigned i = 0; i < line_count; i++)
        if (lines[i] == from)
            lines[i] = to;
}

static void act(void)
{
    size_t failed = 0;
    passed += IND_SECOND;
    switch (ind_random(&seed, 6)) {
    case 0:
        (void)ind_store_rotate(store, false, now(), &failed);
        if (!disk.off && !failed)
            each_line_from(WRITTEN, ROTATED);
        break;
    case 1:
        if (ind_keeper_run(ind_store_keeper(store), now(), NULL) && !disk.off)
            each_line_from(ROTATED, ON_DISK);
        break;
    case 2:
        (void)ind_store_flush(store, now());
        break;
    default:
        append_line();
        append_line();
    }
}

/* ---- What is there ---- */

static unsigned found[LINES];
static size_t outlived, added;

static void find_line(struct ind_slice line, const char *path)
{
    unsigned number;
    char text[64] = "", again[64] = "";
    if (line.length < sizeof text)
        memcpy(text, line.at, line.length);
    if (sscanf(text, "line %u of many", &number) == 1)
        snprintf(again, sizeof again, "line %u of many", number);
    if (strcmp(text, again) != 0 || number >= line_count)
        fail_msg("%s holds \"%s\"", path, text);
    if (found[number]++)
        fail_msg("%s holds \"%s\", which another file holds", path, text);
}

static void find_in(const struct ind_snapshot *snapshot, const struct ind_snapshot_file *file)
{
    enum ind_compression compression;
    struct ind_slice block;
    uint64_t at;
    int opened = ind_snapshot_open(snapshot, file, &compression);
    assert_true(opened >= 0);
    struct ind_reader *reader =
        ind_reader_open(opened, compression, 0, file->file >= 0 ? file->size : UINT64_MAX);
    enum ind_read status;
    while ((status = ind_reader_next(reader, &block, &at)) == IND_READ_BLOCK)
        while (block.length) {
            const char *end = memchr(block.at, '\n', block.length);
            size_t length = end ? (size_t)(end - block.at) : block.length;
            find_line((struct ind_slice){block.at, length}, file->path);
            block = ind_slice_from(block, length + (end != NULL));
        }
    assert_int_equal(status, IND_READ_END);
    ind_reader_close(reader);
}

/* All that was reported as on the disk is there, nothing twice, every line whole. */
static void check(const char *when)
{
    struct ind_snapshot snapshot;
    memset(found, 0, sizeof found);
    assert_true(ind_snapshot_take(ind_path(folder, "log"), NULL, NULL, &snapshot));
    for (size_t i = 0; i < snapshot.count; i++)
        if (!snapshot.files[i].twice)
            find_in(&snapshot, &snapshot.files[i]);
    ind_snapshot_free(&snapshot);
    for (unsigned i = 0; i < line_count; i++) {
        if (lines[i] == ON_DISK && !found[i])
            fail_msg("%s: line %u is gone", when, i);
        outlived += lines[i] == ON_DISK;
    }
}

/* The chain goes on where it was. A file may have come to be that no record knows: that is said. */
static void check_proof(const char *when, bool is_chained)
{
    char reason[1024];
    struct ind_proof proof;
    const struct ind_proof_settings settings = {
        .store = ind_path(folder, "log"), .since = IND_TIME_NONE, .until = IND_TIME_NONE, .threads = 1};
    if (!ind_proof_make(&settings, &proof, reason, sizeof reason))
        fail_msg("%s", reason);
    for (size_t i = 0; i < proof.finding_count; i++)
        if (proof.findings[i].kind != IND_FOUND_ADDED &&
            (is_chained || proof.findings[i].kind != IND_FOUND_MISSING))
            fail_msg("%s: %s %s line %llu: %s in %s", when, ind_finding_name(proof.findings[i].kind),
                     proof.findings[i].archive ? proof.findings[i].archive : "-",
                     (unsigned long long)proof.findings[i].line, proof.findings[i].text, folder);
    added += proof.finding_count;
    ind_proof_free(&proof);
}

static void trial(uint64_t number)
{
    seed = (number + 1) * UINT64_C(0x9E3779B97F4A7C15);
    line_count = 0;
    folder = ind_folder_new();
    static const char *const policies[] = {"{compress: none}", "{compress: zstd}",
                                           "{compress: none, chain: yes}", "{compress: zstd, chain: yes}"};
    char text[300];
    snprintf(text, sizeof text,
             "store: log\nstate: state\nroutes: [{name: a, file: \"{app}.log\"}]\narchives: {default: %s}\n",
             policies[number % 4]);
    ind_write_file(ind_path(folder, "indagator.yaml"), text);
    ind_config_load(ind_path(folder, "indagator.yaml"), &loaded);
    assert_non_null(loaded.config);
    assert_int_equal(mkdir(ind_path(folder, "log"), 0700), 0);
    for (int failures = 0; failures < 3; failures++) {
        while (!open_store(ind_random(&seed, 3) ? -1 : (long)ind_random(&seed, 12)))
            put_together();
        check("after the start");
        check_proof("after the start", number % 4 >= 2);
        /* What outlived it, and is archived, is flushed by the next run of the keeping half. */
        for (unsigned i = 0; i < line_count; i++)
            lines[i] = lines[i] == ON_DISK ? ON_DISK : found[i] ? WRITTEN : NOT_WRITTEN;
        disk.left = (long)ind_random(&seed, 120);
        for (int step = 0; step < STEPS && !disk.off; step++)
            act();
        if (!disk.off)
            fail_power();
        put_together();
    }
    assert_true(open_store(-1));
    check("at the end");
    check_proof("at the end", number % 4 >= 2);
    ind_store_close(store);
    forget_all();
    ind_loaded_free(&loaded);
    ind_folder_remove(folder);
}

static void what_is_flushed_outlives_a_power_failure(void **state)
{
    (void)state;
    for (uint64_t number = 0; number < TRIALS; number++)
        trial(number);
    assert_true(outlived > 500);
    print_message("%zu lines outlived it; %zu times a file was there that no record knew\n", outlived, added);
}

int main(void)
{
    const struct CMUnitTest tests[] = {cmocka_unit_test(what_is_flushed_outlives_a_power_failure)};
    return cmocka_run_group_tests(tests, NULL, NULL);
}
