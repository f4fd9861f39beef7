#include "store/read/snapshot.h"

#include "store/disk/inventory.h"
#include "store/disk/journal.h"
#include "store/disk/walk.h"
#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <unistd.h>
#define XXH_INLINE_ALL
#include <xxhash.h>

static struct ind_snapshot_file *add(struct ind_snapshot *snapshot, struct ind_slice path)
{
    if (snapshot->count == snapshot->room) {
        size_t room = snapshot->room ? snapshot->room * 2 : 64;
        struct ind_snapshot_file *grown = realloc(snapshot->files, room * sizeof *grown);
        if (!grown)
            return NULL;
        snapshot->files = grown;
        snapshot->room = room;
    }
    char *copy = malloc(path.length + 1);
    if (!copy)
        return NULL;
    memcpy(copy, path.at, path.length);
    copy[path.length] = '\0';
    struct ind_snapshot_file *file = &snapshot->files[snapshot->count++];
    *file = (struct ind_snapshot_file){.path = copy, .file = -1, .stored = IND_STORED_UNKNOWN};
    return file;
}

static bool add_live(void *context, const char *path)
{
    struct ind_snapshot *snapshot = context;
    struct stat facts;
    if (!ind_is_live_name(ind_slice_of(path)))
        return true;
    int opened = openat(snapshot->folder, path, O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC);
    if (opened < 0) /* what cannot be read is reported when its turn comes; links are not ours */
        return errno == ENOENT || errno == ELOOP || errno == EMFILE
                   ? errno != EMFILE
                   : add(snapshot, ind_slice_of(path)) != NULL;
    if (fstat(opened, &facts) != 0 || !S_ISREG(facts.st_mode) || facts.st_size == 0) {
        close(opened);
        return true;
    }
    struct ind_snapshot_file *file = add(snapshot, ind_slice_of(path));
    if (!file) {
        close(opened);
        errno = ENOMEM;
        return false;
    }
    file->file = opened;
    file->size = (uint64_t)facts.st_size;
    file->inode = (uint64_t)facts.st_ino;
    return true;
}

static bool add_archive(void *context, const char *path)
{
    struct ind_snapshot *snapshot = context;
    struct ind_archive_name name;
    struct stat facts;
    if (!ind_archive_name_read(ind_slice_of(path), &name))
        return true;
    struct ind_snapshot_file *file = add(snapshot, name.plain);
    if (!file) {
        errno = ENOMEM;
        return false;
    }
    if (name.compression == IND_COMPRESS_NONE &&
        fstatat(snapshot->folder, path, &facts, AT_SYMLINK_NOFOLLOW) == 0)
        file->inode = (uint64_t)facts.st_ino;
    return true;
}

static int by_path(const void *left, const void *right)
{
    const struct ind_snapshot_file *a = left, *b = right;
    bool live_a = a->file >= 0, live_b = b->file >= 0;
    if (live_a != live_b)
        return live_a ? 1 : -1; /* archives are older */
    int order = strcmp(a->path, b->path);
    return order ? order : (a->inode < b->inode) - (a->inode > b->inode); /* the one with an inode first */
}

/* Both listings, and both names of an archive, are one file. */
static void keep_once(struct ind_snapshot *snapshot)
{
    size_t kept = 0;
    if (snapshot->count)
        qsort(snapshot->files, snapshot->count, sizeof *snapshot->files, by_path);
    for (size_t i = 0; i < snapshot->count; i++) {
        struct ind_snapshot_file *file = &snapshot->files[i];
        struct ind_snapshot_file *before = kept ? &snapshot->files[kept - 1] : NULL;
        if (file->file < 0 && before && before->file < 0 && strcmp(before->path, file->path) == 0)
            free(file->path);
        else
            snapshot->files[kept++] = *file;
    }
    snapshot->count = kept;
}

/* Archives stand before live files, both by their paths. */
static struct ind_snapshot_file *find(struct ind_snapshot *snapshot, struct ind_slice path, bool live)
{
    for (size_t low = 0, high = snapshot->count; low < high;) {
        size_t middle = (low + high) / 2;
        struct ind_snapshot_file *file = &snapshot->files[middle];
        bool is_live = file->file >= 0;
        int order = is_live != live ? (is_live ? 1 : -1) : ind_slice_compare(ind_slice_of(file->path), path);
        if (order == 0)
            return file;
        if (order < 0)
            low = middle + 1;
        else
            high = middle;
    }
    return NULL;
}

/* A live file that has gone from its place: it is an archive by now, or will soon be. */
struct moved {
    uint64_t inode, size;
    char archive[1200]; /* as the journal has it; the last record counts */
};

struct moves {
    struct moved *list;
    size_t count;
};

static void note_rotated(void *context, const struct ind_journal_record *record)
{
    struct moves *moves = context;
    if (record->event != IND_EVENT_ROTATED)
        return;
    for (size_t i = 0; i < moves->count; i++)
        if (moves->list[i].inode == record->inode && moves->list[i].size <= record->bytes)
            snprintf(moves->list[i].archive, sizeof moves->list[i].archive, "%s", record->archive);
}

static bool find_moves(const struct ind_snapshot *snapshot, struct moves *moves)
{
    for (size_t i = 0; i < snapshot->count; i++) {
        const struct ind_snapshot_file *file = &snapshot->files[i];
        struct stat facts;
        if (file->file < 0 || (fstatat(snapshot->folder, file->path, &facts, AT_SYMLINK_NOFOLLOW) == 0 &&
                               (uint64_t)facts.st_ino == file->inode))
            continue;
        struct moved *list = realloc(moves->list, (moves->count + 1) * sizeof *list);
        if (!list)
            return false;
        moves->list = list;
        list[moves->count++] = (struct moved){.inode = file->inode, .size = file->size};
    }
    return true;
}

static bool leave_out_moved(struct ind_snapshot *snapshot, uint64_t journal_from)
{
    struct moves moves = {0};
    bool good = find_moves(snapshot, &moves);
    if (good && moves.count)
        (void)ind_journal_read(snapshot->folder, journal_from, "\"event\":\"rotated\"", note_rotated, &moves);
    for (size_t m = 0; m < moves.count; m++) {
        struct ind_snapshot_file *archive = NULL;
        for (size_t i = 0; i < snapshot->count && !archive; i++)
            if (snapshot->files[i].file < 0 && snapshot->files[i].inode == moves.list[m].inode)
                archive = &snapshot->files[i];
        if (!archive && moves.list[m].archive[0])
            archive = find(snapshot, ind_slice_of(moves.list[m].archive), false);
        if (archive)
            archive->twice = true;
    }
    free(moves.list);
    errno = good ? errno : ENOMEM;
    return good;
}

/* Which layout a file holds, the journal tells. Of a live file its newest "opened" counts. */
static void set_layout(void *context, const struct ind_journal_record *record)
{
    struct ind_snapshot *snapshot = context;
    if (record->event != IND_EVENT_OPENED)
        return;
    const struct ind_slice route = ind_slice_of(record->route);
    struct ind_snapshot_file *files[] = {find(snapshot, ind_slice_of(record->archive), false),
                                         find(snapshot, ind_slice_of(record->live), true)};
    for (int i = 0; i < 2; i++)
        if (files[i]) {
            files[i]->stored = ind_stored_read(ind_slice_of(record->layout), record->version);
            files[i]->route = route.length ? XXH3_64bits(route.at, route.length) : 0;
        }
}

bool ind_snapshot_take(const char *store, void (*between)(void *context, int step), void *context,
                       struct ind_snapshot *snapshot)
{
    *snapshot = (struct ind_snapshot){.folder = open(store, O_RDONLY | O_DIRECTORY | O_CLOEXEC)};
    if (snapshot->folder < 0)
        return false;
    uint64_t journal_from = ind_journal_size(snapshot->folder);
    bool good = true;
    for (int step = 0; good && step < IND_SNAPSHOT_STEPS; step++) {
        bool lives = step == IND_SNAPSHOT_LIVES;
        good = ind_walk(snapshot->folder, lives ? add_live : add_archive, snapshot,
                        lives ? &snapshot->unreadable : NULL);
        if (between)
            between(context, step);
    }
    if (good) {
        keep_once(snapshot);
        good = leave_out_moved(snapshot, journal_from);
    }
    if (!good) {
        int error = errno;
        ind_snapshot_free(snapshot);
        errno = error;
        return false;
    }
    (void)ind_journal_read(snapshot->folder, 0, "opened", set_layout, snapshot);
    return true;
}

void ind_snapshot_free(struct ind_snapshot *snapshot)
{
    for (size_t i = 0; i < snapshot->count; i++) {
        if (snapshot->files[i].file >= 0)
            close(snapshot->files[i].file);
        free(snapshot->files[i].path);
    }
    free(snapshot->files);
    if (snapshot->folder >= 0)
        close(snapshot->folder);
    *snapshot = (struct ind_snapshot){.folder = -1};
}

int ind_snapshot_open(const struct ind_snapshot *snapshot, const struct ind_snapshot_file *file,
                      enum ind_compression *compression)
{
    char path[1300];
    *compression = IND_COMPRESS_NONE;
    if (file->file >= 0)
        return fcntl(file->file, F_DUPFD_CLOEXEC, 0);
    for (int round = 0; round < 2; round++)
        for (int kind = IND_COMPRESS_NONE; kind <= IND_COMPRESS_GZIP; kind++) {
            snprintf(path, sizeof path, "%s%s", file->path,
                     ind_compression_suffix((enum ind_compression)kind).at);
            int opened = openat(snapshot->folder, path, O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC);
            *compression = (enum ind_compression)kind;
            if (opened >= 0 || errno != ENOENT)
                return opened;
        }
    return -1;
}
