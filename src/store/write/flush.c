/* What waits, into its file on disk. The order of steps when a file begins: "opened" into the journal,
 * folders, the file, lines. */
#include "store/write/write_private.h"

#include "store/disk/chain.h"
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <sys/stat.h>
#include <unistd.h>
#include <utlist.h>

/* A disk that took nothing is not asked again for each line. */
#define DISK_AGAIN (IND_SECOND / 20)

enum { PIECES = 128 };

/* 0, or the error. */
static int journal_opened(struct ind_store *store, struct ind_live *live, struct ind_clocks now)
{
    const struct ind_config *config = store->config;
    const struct ind_policy *policy = ind_live_policy(store, live);
    bool known = live->route != IND_NO_POLICY;
    struct ind_journal_record record = {
        .event = IND_EVENT_OPENED,
        .at = now.wall,
        .series = live->series->name,
        .number = live->number,
        .archive = live->archive,
        .live = live->path,
        .route = known ? config->routes[live->route].name : NULL,
        .policy = policy ? policy->name : NULL,
        .layout = live->stored < 0 ? NULL : ind_stored_name(live->stored),
        .version = IND_STORED_VERSION,
        .first = live->first,
        .made_up = live->made_up,
    };
    live->journaled = ind_chain_journal(store->disk, &record, policy);
    return live->journaled ? 0 : errno;
}

static bool make_folders(const struct ind_store *store, const struct ind_live *live)
{
    const struct ind_disk *disk = store->disk;
    const struct ind_route *route = live->route != IND_NO_POLICY ? &store->config->routes[live->route] : NULL;
    return ind_fs_make_folders_of(&disk->fs, disk->folder, live->path, route ? route->folder_mode : 0750,
                                  route ? route->group : -1);
}

/* 0 with *file set, or the error. */
static int open_live(struct ind_store *store, struct ind_live *live, int *file)
{
    const struct ind_route *route = live->route != IND_NO_POLICY ? &store->config->routes[live->route] : NULL;
    int flags = O_WRONLY | O_APPEND | O_CREAT | O_NOFOLLOW | O_NONBLOCK; /* a pipe must not stop us */
    *file = store->disk->fs.open(store->disk->fs.context, store->disk->folder, live->path, flags,
                                 route ? route->file_mode : 0640);
    if (*file < 0 && errno == ENOENT && make_folders(store, live))
        *file = store->disk->fs.open(store->disk->fs.context, store->disk->folder, live->path, flags,
                                     route ? route->file_mode : 0640);
    return *file < 0 ? errno : 0;
}

/* Takes the facts of the file just opened, which may have been there before. 0, or the error. */
static int settle_open(struct ind_store *store, struct ind_live *live, int file)
{
    const struct ind_route *route = live->route != IND_NO_POLICY ? &store->config->routes[live->route] : NULL;
    const struct ind_fs *fs = &store->disk->fs;
    struct stat facts;
    if (fstat(file, &facts) != 0)
        return errno;
    if (!S_ISREG(facts.st_mode))
        return EISDIR;
    if (facts.st_size == 0 && route && fs->own(fs->context, file, route->file_mode, route->group) != 0)
        return errno;
    ind_live_count_bytes(store, live, (uint64_t)facts.st_size, live->on_disk);
    if (live->on_disk != (uint64_t)facts.st_size) {
        live->on_disk = (uint64_t)facts.st_size;
        live->facts.size = live->on_disk + live->waiting;
        live->messages_known = false;
    }
    return 0;
}

static void close_least_used(struct ind_store *store)
{
    if (store->open)
        ind_live_close(store, store->open);
}

/* A store that somebody has removed is made again. True where it was. */
static bool made_again(struct ind_store *store, struct ind_clocks now)
{
    return ind_store_look_after(store, now) == IND_DISK_MADE_AGAIN;
}

/* Whether the open file is still the one with its name; else it is begun anew. */
static bool still_there(struct ind_store *store, struct ind_live *live, struct ind_clocks now)
{
    struct stat facts;
    DL_DELETE2(store->open, live, open_prev, open_next);
    DL_APPEND2(store->open, live, open_prev, open_next);
    if (fstat(live->file, &facts) != 0 || facts.st_nlink > 0)
        return true;
    ind_disk_report(store->disk, IND_OWN_FILE_REMOVED, live->path,
                    "%s was removed by somebody while it was written to; it is started again", live->path);
    ind_live_close(store, live);
    ind_live_count_bytes(store, live, 0, live->on_disk);
    live->on_disk = 0;
    (void)made_again(store, now);
    return false;
}

/* 0, or the error. */
static int ensure_open(struct ind_store *store, struct ind_live *live, struct ind_clocks now)
{
    int file, error;
    if (live->file >= 0 && still_there(store, live, now))
        return 0;
    if (!live->journaled && (error = journal_opened(store, live, now)) != 0)
        return error;
    while (store->open_count >= store->open_limit)
        close_least_used(store);
    error = open_live(store, live, &file);
    while ((error == EMFILE || error == ENFILE) && store->open) {
        close_least_used(store);
        error = open_live(store, live, &file);
    }
    if (error == ENOENT && made_again(store, now)) {
        error = journal_opened(store, live, now);
        error = error ? error : open_live(store, live, &file);
    }
    if (error)
        return error;
    error = settle_open(store, live, file);
    if (error) {
        close(file);
        return error;
    }
    live->file = file;
    DL_APPEND2(store->open, live, open_prev, open_next);
    store->open_count++;
    return 0;
}

static ssize_t write_pieces(struct ind_store *store, const struct ind_live *live, const struct iovec *pieces,
                            int count)
{
    ssize_t written;
    do
        written = store->disk->fs.write(store->disk->fs.context, live->file, pieces, count);
    while (written < 0 && errno == EINTR);
    return written;
}

/* As many pages as go into one write. Returns the bytes written, which are `*wanted` where all went well. */
static ssize_t write_some(struct ind_store *store, struct ind_live *live, struct ind_page **page,
                          size_t *wanted)
{
    struct iovec pieces[PIECES];
    int count = 0;
    for (*wanted = 0; *page && count < PIECES; *page = (*page)->next) {
        pieces[count++] = (struct iovec){(*page)->bytes, (*page)->used};
        *wanted += (*page)->used;
    }
    return write_pieces(store, live, pieces, count);
}

/* All that waits, or nothing: lines go over the ends of pages, and no torn one may stay. 0, or the error. */
static int write_pages(struct ind_store *store, struct ind_live *live)
{
    const struct ind_fs *fs = &store->disk->fs;
    struct ind_page *page = live->first_page;
    bool began = false;
    while (page) {
        size_t wanted;
        ssize_t written = write_some(store, live, &page, &wanted);
        if (written == (ssize_t)wanted) {
            began = true;
            continue;
        }
        int error = written < 0 ? errno : ENOSPC;
        if (began || written > 0)
            (void)fs->truncate(fs->context, live->file, live->on_disk);
        return error;
    }
    return 0;
}

static void report_lost(struct ind_store *store, struct ind_live *live, int error, struct ind_clocks now)
{
    if (ind_steady_reported_lately(&live->reported, now.steady, IND_REPORT_AGAIN * IND_SECOND))
        return;
    bool link = error == ELOOP || error == ENOTDIR;
    ind_disk_report(store->disk, IND_OWN_FILE_LOST, live->path,
                    "cannot write %s: %s; its messages are lost until this is mended", live->path,
                    link ? "a symbolic link, or a file, stands in the place of it or of its folder"
                         : strerror(error));
}

/* A full disk concerns all files: it is reported once, and so is its end. */
static void report_full(struct ind_store *store, const struct ind_live *live, int error,
                        struct ind_clocks now)
{
    store->disk_full = true;
    store->disk_error = error;
    store->disk_again = ind_steady_after(now.steady, DISK_AGAIN);
    if (ind_steady_reported_lately(&store->full_reported, now.steady, IND_REPORT_AGAIN * IND_SECOND))
        return;
    ind_disk_report(store->disk, IND_OWN_DISK_TAKES_NOTHING, live->path,
                    "cannot write %s: %s; messages wait in memory until there is room", live->path,
                    strerror(error));
}

static void report_room(struct ind_store *store)
{
    store->disk_full = false;
    store->disk_error = 0;
    if (ind_steady_is_set(store->full_reported))
        ind_disk_report(store->disk, IND_OWN_DISK_TAKES_AGAIN, NULL,
                        "the disk takes messages again; nothing that waited was lost");
    store->full_reported = IND_STEADY_NEVER;
}

static void note_written(struct ind_store *store, struct ind_live *live, size_t bytes)
{
    live->on_disk += bytes;
    ind_live_count_bytes(store, live, bytes, 0);
    store->counts.bytes += bytes;
    live->reported = IND_STEADY_NEVER;
}

int ind_live_flush(struct ind_store *store, struct ind_live *live, struct ind_clocks now)
{
    if (live->waiting == 0)
        return 0;
    int error = ensure_open(store, live, now);
    error = error ? error : write_pages(store, live);
    if (!error) {
        note_written(store, live, live->waiting);
        ind_live_settle_waiting(store, live, true);
        if (store->disk_full && !store->dirty)
            report_room(store); /* all that waited is written */
        return 0;
    }
    if (ind_disk_takes_nothing(store->disk, live->file_system, error) || error == EMFILE || error == ENFILE) {
        report_full(store, live, error, now);
        atomic_store(&store->disk->wanted, true); /* the keeping half may find something to remove */
        return error;
    }
    report_lost(store, live, error, now);
    live->facts.size -= live->waiting;
    live->facts.messages -= live->waiting_lines;
    ind_live_settle_waiting(store, live, false);
    return 0;
}

bool ind_store_write_whole(struct ind_store *store, struct ind_live *live, const struct ind_whole *whole,
                           struct ind_clocks now)
{
    const struct ind_fs *fs = &store->disk->fs;
    const struct iovec piece = {(void *)(uintptr_t)whole->bytes.at, whole->bytes.length};
    /* What goes wrong is told by those who append. Opening may find that the file is not as it was. */
    if (!live->begun || store->disk_full || ind_live_flush(store, live, now) != 0 ||
        ensure_open(store, live, now) != 0 ||
        !ind_live_only_grows(store, live, whole->latest, whole->bytes.length, whole->lines))
        return false;
    const ssize_t written = write_pieces(store, live, &piece, 1);
    if (written != (ssize_t)whole->bytes.length) {
        if (written > 0) /* no torn line may stay */
            (void)fs->truncate(fs->context, live->file, live->on_disk);
        return false;
    }
    note_written(store, live, whole->bytes.length);
    live->facts.size += whole->bytes.length;
    live->facts.messages += whole->lines;
    live->last = whole->latest > live->last ? whole->latest : live->last;
    store->counts.lines += whole->lines;
    store->counts.overflowed += live->overflow ? whole->lines : 0;
    return true;
}
