/* From the lines of files to volumes: of an archive once, of a live file from where the last time ended. */
#include "store/archive/catalog_private.h"

#include "store/archive/counting.h"
#include "store/disk/reader.h"
#include "store/disk/stored.h"
#include "thread/mutex.h"

#include <errno.h>
#include <fcntl.h>
#include <pthread.h>
#include <stdatomic.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#define XXH_INLINE_ALL
#include <xxhash.h>

/* KNOWN_BY: by so many bytes before the place up to which it was counted a file is known again. A live file
 * is counted when it has grown by so much, or after so many seconds. */
enum { KNOWN_BY = 256, GROWN = 4 << 20, LIVE_EVERY = 300, THREADS = 64, PATH_ROOM = 1200 };

struct ind_live_count {
    UT_hash_handle hh;
    int64_t file, at; /* `at`: by the steady clock */
};

struct counted_file {
    int64_t id;
    char *archive, *live; /* live: NULL where it is an archive */
    int stored;
    bool layout_known; /* when its counting began */
    uint64_t from;     /* what is counted, and its mark */
    int64_t mark;
    /* What came of it. */
    bool instead; /* of what was counted before: that was another file */
    int error;    /* ECANCELED: it was interrupted */
    uint64_t to, bytes;
};

struct list {
    struct counted_file *files;
    size_t count;
};

/* ---- Which ---- */

static void free_list(struct list *list)
{
    for (size_t i = 0; i < list->count; i++) {
        free(list->files[i].archive);
        free(list->files[i].live);
    }
    free(list->files);
}

static char *column_text(sqlite3_stmt *row, int column)
{
    const char *text = (const char *)sqlite3_column_text(row, column);
    return text ? strdup(text) : NULL;
}

static bool add_row(struct list *list, sqlite3_stmt *row)
{
    struct counted_file *grown = (list->count & (list->count - 1)) == 0
                                     ? realloc(list->files, (2 * list->count + 1) * sizeof *grown)
                                     : list->files;
    if (!grown)
        return false;
    list->files = grown;
    struct counted_file *file = &list->files[list->count++];
    const char *layout = (const char *)sqlite3_column_text(row, 4);
    const bool is_live = strcmp((const char *)sqlite3_column_text(row, 3), "live") == 0;
    *file = (struct counted_file){.id = sqlite3_column_int64(row, 0),
                                  .archive = column_text(row, 1),
                                  .live = is_live ? column_text(row, 2) : NULL,
                                  .stored = IND_STORED_UNKNOWN,
                                  .from = (uint64_t)sqlite3_column_int64(row, 6),
                                  .mark = sqlite3_column_int64(row, 7)};
    file->layout_known = layout != NULL;
    if (layout)
        file->stored = ind_stored_read(ind_slice_of(layout), (uint64_t)sqlite3_column_int64(row, 5));
    return file->archive && (!is_live || file->live);
}

static enum ind_catalog_status list_files(struct ind_catalog *catalog, struct list *list)
{
    enum ind_catalog_status status;
    sqlite3_stmt *rows = ind_catalog_call(catalog, IND_CALL_UNCOUNTED, &status);
    int result = SQLITE_DONE;
    if (!rows)
        return status;
    while ((result = sqlite3_step(rows)) == SQLITE_ROW)
        if (!sqlite3_column_text(rows, 1) || !sqlite3_column_text(rows, 3) || !add_row(list, rows)) {
            result = SQLITE_NOMEM;
            break;
        }
    sqlite3_reset(rows);
    return ind_catalog_status_of(catalog, result);
}

/* Whether a live file is to be counted now. */
static bool is_due(struct ind_catalog *catalog, const struct counted_file *file, int64_t now)
{
    struct stat facts;
    struct ind_live_count *last;
    if (fstatat(catalog->folder, file->live, &facts, AT_SYMLINK_NOFOLLOW) != 0)
        return false;
    const uint64_t size = (uint64_t)facts.st_size;
    HASH_FIND(hh, catalog->lives, &file->id, sizeof file->id, last);
    if (size == file->from || (last && size > file->from && size - file->from < GROWN &&
                               now - last->at < LIVE_EVERY * (int64_t)IND_SECOND))
        return false;
    if (!last && (last = calloc(1, sizeof *last)) != NULL) {
        last->file = file->id;
        HASH_ADD(hh, catalog->lives, file, sizeof last->file, last);
    }
    if (last)
        last->at = now;
    return true;
}

void ind_catalog_forget_lives(struct ind_catalog *catalog)
{
    struct ind_live_count *live, *next;
    HASH_ITER(hh, catalog->lives, live, next)
    {
        HASH_DEL(catalog->lives, live);
        free(live);
    }
}

/* ---- Reading ---- */

/* Of the bytes before `end`. */
static int64_t mark_before(int file, uint64_t end)
{
    char bytes[KNOWN_BY];
    const uint64_t from = end < KNOWN_BY ? 0 : end - KNOWN_BY;
    const ssize_t got = pread(file, bytes, (size_t)(end - from), (off_t)from);
    return got == (ssize_t)(end - from) ? (int64_t)XXH64(bytes, (size_t)got, 0) : -1;
}

/* An archive may be packed, or recompressed, meanwhile. -1 with errno set. */
static int open_file(int folder, const struct counted_file *file, enum ind_compression *compression)
{
    static const enum ind_compression forms[] = {IND_COMPRESS_NONE, IND_COMPRESS_ZSTD, IND_COMPRESS_GZIP,
                                                 IND_COMPRESS_NONE};
    const int flags = O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC;
    *compression = IND_COMPRESS_NONE;
    if (file->live)
        return openat(folder, file->live, flags);
    int opened = -1;
    for (size_t i = 0; i < sizeof forms / sizeof *forms && opened < 0; i++) {
        char path[PATH_ROOM];
        snprintf(path, sizeof path, "%s%s", file->archive, ind_compression_suffix(forms[i]).at);
        *compression = forms[i];
        opened = openat(folder, path, flags);
        if (opened < 0 && errno != ENOENT)
            break;
    }
    return opened;
}

/* Whole lines only of a file that is still written to. 0, or the error. */
static int read_all(struct ind_reader *reader, struct counted_file *file, struct ind_counting *counting,
                    const struct ind_interrupt *interrupt)
{
    struct ind_slice block;
    enum ind_read result;
    uint64_t at;
    while ((result = ind_reader_next(reader, &block, &at)) == IND_READ_BLOCK) {
        while (file->live && block.length && block.at[block.length - 1] != '\n')
            block.length--;
        ind_counting_add(counting, block);
        file->to = at + block.length;
        file->bytes += block.length;
        if (ind_interrupted(interrupt))
            return ECANCELED;
    }
    return result == IND_READ_END ? 0 : EBADMSG;
}

/* What is new in a file. */
static void count_file(int folder, struct counted_file *file, struct ind_counting *counting,
                       const struct ind_interrupt *interrupt)
{
    enum ind_compression compression;
    struct stat facts;
    int opened = open_file(folder, file, &compression);
    ind_counting_begin(counting, file->stored);
    if (opened < 0 || fstat(opened, &facts) != 0 || !S_ISREG(facts.st_mode)) {
        file->error = opened < 0 ? errno : ELOOP;
        if (opened >= 0)
            close(opened);
        return;
    }
    const bool goes_on = compression == IND_COMPRESS_NONE && file->from > 0 &&
                         (uint64_t)facts.st_size >= file->from &&
                         mark_before(opened, file->from) == file->mark;
    file->instead = !goes_on;
    file->to = goes_on ? file->from : 0;
    const int copy = dup(opened);
    struct ind_reader *reader = copy < 0 ? NULL : ind_reader_open(copy, compression, file->to, UINT64_MAX);
    file->error = reader ? read_all(reader, file, counting, interrupt) : ENOMEM;
    ind_reader_close(reader);
    /* Of a packed one no part is kept: it would have to be unpacked again up to there. */
    file->mark = compression == IND_COMPRESS_NONE ? mark_before(opened, file->to) : 0;
    if (compression != IND_COMPRESS_NONE && file->error == ECANCELED)
        file->to = 0;
    close(opened);
}

/* ---- Of an archive that goes ---- */

static struct ind_slice name_of(void *context, uint32_t device)
{
    return ind_counting_name(context, device);
}

char *ind_catalog_closing_of(int folder, const char *archive, int stored,
                             const struct ind_interrupt *interrupt)
{
    struct ind_counting *counting = ind_counting_new();
    char *text = NULL, *path = strdup(archive);
    struct counted_file file = {.archive = path, .stored = stored};
    if (counting && path) {
        count_file(folder, &file, counting, interrupt);
        struct ind_volumes *volumes = file.error ? NULL : ind_counting_volumes(counting);
        text = volumes ? ind_catalog_closing_text(volumes, name_of, counting) : NULL;
    }
    free(path);
    ind_counting_free(counting);
    return text;
}

/* ---- Into the catalog: within a change ---- */

static uint32_t number_of(void *context, struct ind_slice device)
{
    return ind_catalog_device(context, device);
}

/* Whether it is still what it was when its file was opened: by the journal, which is ahead of the files. One
 * of which the journal has told the layout meanwhile is counted once more. */
static bool is_as_it_was(struct ind_catalog *catalog, const struct counted_file *file,
                         enum ind_catalog_status *status)
{
    sqlite3_stmt *find = ind_catalog_call(catalog, IND_CALL_STATE_OF, status);
    if (!find)
        return false;
    sqlite3_bind_int64(find, 1, file->id);
    const char *state = sqlite3_step(find) == SQLITE_ROW ? (const char *)sqlite3_column_text(find, 0) : NULL;
    const bool same = state && strcmp(state, file->live ? "live" : "archive") == 0 &&
                      file->layout_known == (sqlite3_column_int(find, 1) != 0);
    sqlite3_reset(find);
    return same;
}

static enum ind_catalog_status set_counted(struct ind_catalog *catalog, const struct counted_file *file,
                                           uint64_t messages)
{
    enum ind_catalog_status status;
    const bool partly = file->live || file->error == ECANCELED;
    sqlite3_stmt *set = ind_catalog_call(catalog, IND_CALL_SET_COUNTED, &status);
    if (!set)
        return status;
    sqlite3_bind_int64(set, 1, file->id);
    sqlite3_bind_int(set, 2,
                     partly        ? IND_COUNTED_PARTLY
                     : file->error ? IND_COUNTED_BROKEN
                                   : IND_COUNTED_WHOLE);
    sqlite3_bind_int64(set, 3, partly ? (int64_t)file->to : 0); /* further on nothing is needed of it */
    sqlite3_bind_int64(set, 4, partly ? file->mark : 0);
    if (!partly && !file->error)
        sqlite3_bind_int64(set, 5, (int64_t)messages);
    return ind_catalog_run(catalog, set);
}

static enum ind_catalog_status store(struct ind_catalog *catalog, const struct counted_file *file,
                                     struct ind_counting *counting)
{
    enum ind_catalog_status status = ind_catalog_follow_all(catalog, NULL);
    uint64_t messages = 0;
    if (status != IND_CATALOG_GOOD || !is_as_it_was(catalog, file, &status))
        return status;
    struct ind_volumes *volumes = ind_counting_end(counting, number_of, catalog);
    if (!volumes)
        return IND_CATALOG_FAILED;
    /* Of one that is not there, or cannot be opened, what is known stays. */
    if (file->error == 0 || file->bytes > 0)
        status = ind_catalog_store_volumes(catalog, file->id, volumes, file->instead, &messages);
    ind_volumes_free(volumes);
    return status == IND_CATALOG_GOOD ? set_counted(catalog, file, messages) : status;
}

/* ---- One after the other ---- */

/* Errors that pass: what cannot be opened now is tried again. */
static bool is_left(const struct counted_file *file)
{
    return (file->error == ECANCELED && file->to == 0) ||
           (file->error && file->error != ECANCELED && file->error != EBADMSG && file->error != ENOENT &&
            file->error != ELOOP) ||
           (file->live && file->error && file->error != ECANCELED);
}

static void note_progress(const struct counted_file *file, struct ind_catalog_progress *progress)
{
    progress->files++;
    progress->bytes += file->bytes;
    progress->broken += file->error && file->error != ECANCELED && !file->live;
}

static enum ind_catalog_status count_left(struct ind_catalog *catalog, uint64_t *left)
{
    enum ind_catalog_status status;
    sqlite3_stmt *count = ind_catalog_call(catalog, IND_CALL_TO_COUNT, &status);
    if (!count)
        return status;
    const int result = sqlite3_step(count);
    *left = result == SQLITE_ROW ? (uint64_t)sqlite3_column_int64(count, 0) : 0;
    sqlite3_reset(count);
    return ind_catalog_status_of(catalog, result);
}

enum ind_catalog_status ind_catalog_count(struct ind_catalog *catalog, int64_t now, uint64_t most,
                                          const struct ind_interrupt *interrupt,
                                          struct ind_catalog_progress *progress)
{
    struct list list = {0};
    struct ind_counting *counting = ind_counting_new();
    enum ind_catalog_status status = counting ? list_files(catalog, &list) : IND_CATALOG_FAILED;
    for (size_t i = 0; i < list.count && status == IND_CATALOG_GOOD && progress->bytes < most &&
                       !ind_interrupted(interrupt);
         i++) {
        struct counted_file *file = &list.files[i];
        if (file->live && !is_due(catalog, file, now))
            continue;
        count_file(catalog->folder, file, counting, interrupt);
        note_progress(file, progress);
        if (is_left(file))
            continue;
        status = ind_catalog_begin(catalog);
        if (status == IND_CATALOG_GOOD)
            status = ind_catalog_end(catalog, store(catalog, file, counting));
    }
    if (status == IND_CATALOG_GOOD)
        status = count_left(catalog, &progress->to_count);
    ind_counting_free(counting);
    free_list(&list);
    return status;
}

/* ---- On all processors ---- */

struct work {
    struct ind_catalog *catalog;
    struct list *list;
    const struct ind_interrupt *interrupt;
    void (*tell)(void *context, const struct ind_catalog_progress *progress);
    void *context;
    atomic_size_t next;
    struct ind_mutex mutex; /* guards the catalog, and what follows */
    struct ind_catalog_progress *progress;
    enum ind_catalog_status status;
};

static void *count_files(void *argument)
{
    struct work *work = argument;
    struct ind_counting *counting = ind_counting_new();
    bool goes_on = counting != NULL;
    for (size_t i; goes_on && (i = atomic_fetch_add(&work->next, 1)) < work->list->count;) {
        struct counted_file *file = &work->list->files[i];
        count_file(work->catalog->folder, file, counting, work->interrupt);
        ind_mutex_lock(&work->mutex);
        note_progress(file, work->progress);
        if (work->status == IND_CATALOG_GOOD && !is_left(file))
            work->status = store(work->catalog, file, counting);
        if (work->tell)
            work->tell(work->context, work->progress);
        goes_on = work->status == IND_CATALOG_GOOD && !ind_interrupted(work->interrupt);
        ind_mutex_unlock(&work->mutex);
    }
    ind_counting_free(counting);
    return NULL;
}

enum ind_catalog_status ind_catalog_count_all(struct ind_catalog *catalog,
                                              const struct ind_interrupt *interrupt,
                                              void (*tell)(void *, const struct ind_catalog_progress *),
                                              void *context, struct ind_catalog_progress *progress)
{
    struct list list = {0};
    enum ind_catalog_status status = list_files(catalog, &list);
    if (status == IND_CATALOG_GOOD) {
        struct work work = {.catalog = catalog,
                            .list = &list,
                            .interrupt = interrupt,
                            .tell = tell,
                            .context = context,
                            .progress = progress,
                            .status = IND_CATALOG_GOOD};
        pthread_t threads[THREADS];
        long processors = sysconf(_SC_NPROCESSORS_ONLN), started = 0;
        atomic_init(&work.next, 0);
        ind_mutex_begin(&work.mutex);
        while (started + 1 < processors && started < THREADS &&
               pthread_create(&threads[started], NULL, count_files, &work) == 0)
            started++;
        (void)count_files(&work);
        while (started > 0)
            pthread_join(threads[--started], NULL);
        ind_mutex_end(&work.mutex);
        status = work.status;
    }
    free_list(&list);
    return status == IND_CATALOG_GOOD && ind_interrupted(interrupt) ? IND_CATALOG_LOCKED : status;
}

enum ind_catalog_status ind_catalog_rebuild(struct ind_catalog *catalog,
                                            const struct ind_interrupt *interrupt,
                                            void (*tell)(void *, const struct ind_catalog_progress *),
                                            void *context, struct ind_catalog_progress *progress)
{
    enum { ROUNDS = 3 }; /* what is rotated meanwhile is counted in the next one, or by the collector */
    enum ind_catalog_status status = ind_catalog_begin(catalog);
    if (status != IND_CATALOG_GOOD)
        return status;
    status = ind_catalog_empty(catalog);
    if (status == IND_CATALOG_GOOD)
        status = ind_catalog_follow_all(catalog, interrupt);
    for (int round = 0; round < ROUNDS && status == IND_CATALOG_GOOD; round++) {
        status = ind_catalog_count_all(catalog, interrupt, tell, context, progress);
        if (status == IND_CATALOG_GOOD)
            status = count_left(catalog, &progress->to_count);
        if (progress->to_count == 0)
            break;
    }
    return ind_catalog_end(catalog, status);
}
