/* Which files are to be counted, and what came of it into the catalog. */
#include "store/archive/catalog_file.h"
#include "store/archive/catalog_private.h"
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

/* A live file is counted when it has grown by so many bytes, or after so many seconds. HEARD_WITHIN: so many
 * milliseconds, an interrupt is. */
enum { GROWN = 4 << 20, LIVE_EVERY = 300, THREADS = 64, HEARD_WITHIN = 50 };

struct ind_live_count {
    UT_hash_handle hh;
    int64_t file, at; /* `at`: by the steady clock */
};

struct list {
    struct ind_counted_file *files;
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
    struct ind_counted_file *grown = (list->count & (list->count - 1)) == 0
                                         ? realloc(list->files, (2 * list->count + 1) * sizeof *grown)
                                         : list->files;
    if (!grown)
        return false;
    list->files = grown;
    struct ind_counted_file *file = &list->files[list->count++];
    const char *layout = (const char *)sqlite3_column_text(row, 4);
    const bool is_live = strcmp((const char *)sqlite3_column_text(row, 3), "live") == 0;
    *file = (struct ind_counted_file){.id = sqlite3_column_int64(row, 0),
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
static bool is_due(struct ind_catalog *catalog, const struct ind_counted_file *file, int64_t now,
                   bool at_once)
{
    struct stat facts;
    struct ind_live_count *last;
    if (fstatat(catalog->folder, file->live, &facts, AT_SYMLINK_NOFOLLOW) != 0)
        return false;
    const uint64_t size = (uint64_t)facts.st_size;
    HASH_FIND(hh, catalog->lives, &file->id, sizeof file->id, last);
    if (size == file->from || (!at_once && last && size > file->from && size - file->from < GROWN &&
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

/* ---- Into the catalog: within a change ---- */

static uint32_t number_of(void *context, struct ind_slice device)
{
    return ind_catalog_device(context, device);
}

/* Whether it is still what it was when its file was opened: by the journal, which is ahead of the files. One
 * of which the journal has told the layout meanwhile is counted once more. */
static bool is_as_it_was(struct ind_catalog *catalog, const struct ind_counted_file *file,
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

static enum ind_catalog_status set_counted(struct ind_catalog *catalog, const struct ind_counted_file *file,
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

static enum ind_catalog_status store(struct ind_catalog *catalog, const struct ind_counted_file *file,
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

/* ---- Several files at once ---- */

/* Errors that pass: what cannot be opened now is tried again. */
static bool is_left(const struct ind_counted_file *file)
{
    return (file->error == ECANCELED && file->to == 0) ||
           (file->error && file->error != ECANCELED && file->error != EBADMSG && file->error != ENOENT &&
            file->error != ELOOP) ||
           (file->live && file->error && file->error != ECANCELED);
}

static void note_progress(const struct ind_counted_file *file, struct ind_catalog_progress *progress)
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

/* Of several threads: the one that was called, which alone asks whether it is interrupted, and helpers. */
struct work {
    struct ind_catalog *catalog;
    struct list list;
    const struct ind_interrupt *interrupt; /* NULL: nobody interrupts */
    int64_t now;                           /* by the steady clock */
    bool at_once;                          /* what is new is due, whenever it was counted last */
    uint64_t most;                         /* bytes of text */
    bool one_change; /* all files, due or not, within one that is open; else each in its own */
    void (*tell)(void *context, const struct ind_catalog_progress *progress);
    void *context;
    atomic_bool interrupted;
    struct ind_mutex mutex; /* guards the catalog, and what follows */
    struct ind_condition_variable left;
    struct ind_catalog_progress *progress;
    enum ind_catalog_status status;
    size_t next; /* of the list */
    unsigned helpers;
};

static bool is_over(void *argument)
{
    const struct work *work = argument;
    return atomic_load(&work->interrupted);
}

static bool ask_whether_over(void *argument)
{
    struct work *work = argument;
    if (ind_interrupted(work->interrupt))
        atomic_store(&work->interrupted, true);
    return is_over(work);
}

/* The next one to count; NULL: it is the end. */
static struct ind_counted_file *take_file(struct work *work) IND_REQUIRES(work->mutex)
{
    while (work->status == IND_CATALOG_GOOD && work->progress->bytes < work->most &&
           work->next < work->list.count && !is_over(work)) {
        struct ind_counted_file *file = &work->list.files[work->next++];
        if (!file->live || work->one_change || is_due(work->catalog, file, work->now, work->at_once))
            return file;
    }
    return NULL;
}

static void settle_file(struct work *work, const struct ind_counted_file *file, struct ind_counting *counting)
    IND_REQUIRES(work->mutex)
{
    note_progress(file, work->progress);
    if (work->status == IND_CATALOG_GOOD && !is_left(file)) {
        if (work->one_change)
            work->status = store(work->catalog, file, counting);
        else if ((work->status = ind_catalog_begin(work->catalog)) == IND_CATALOG_GOOD)
            work->status = ind_catalog_end(work->catalog, store(work->catalog, file, counting));
    }
    if (work->tell)
        work->tell(work->context, work->progress);
}

static void count_files(struct work *work, struct ind_counting *counting,
                        const struct ind_interrupt *interrupt)
{
    struct ind_counted_file *file;
    ind_mutex_lock(&work->mutex);
    while ((file = take_file(work)) != NULL) {
        ind_mutex_unlock(&work->mutex);
        ind_count_file(work->catalog->folder, file, counting, interrupt);
        (void)ind_interrupted(interrupt);
        ind_mutex_lock(&work->mutex);
        settle_file(work, file, counting);
    }
    ind_mutex_unlock(&work->mutex);
}

static void *help(void *argument)
{
    struct work *work = argument;
    const struct ind_interrupt interrupt = {is_over, work};
    struct ind_counting *counting = ind_counting_new();
    if (counting) /* where memory is out the others do it */
        count_files(work, counting, &interrupt);
    ind_counting_free(counting);
    ind_mutex_lock(&work->mutex);
    work->helpers--;
    ind_condition_variable_signal(&work->left);
    ind_mutex_unlock(&work->mutex);
    return NULL;
}

/* What others still count is waited for, and whoever interrupts is heard meanwhile. */
static void wait_for_helpers(struct work *work, pthread_t *threads, unsigned started)
{
    ind_mutex_lock(&work->mutex);
    while (work->helpers > 0) {
        const struct timespec deadline = ind_deadline(HEARD_WITHIN);
        (void)ind_condition_variable_wait_until(&work->left, &work->mutex, &deadline);
        ind_mutex_unlock(&work->mutex);
        (void)ask_whether_over(work);
        ind_mutex_lock(&work->mutex);
    }
    ind_mutex_unlock(&work->mutex);
    while (started > 0)
        pthread_join(threads[--started], NULL);
}

/* Lists the files and counts them. */
static enum ind_catalog_status do_work(struct work *work, bool on_all_processors)
{
    const struct ind_interrupt interrupt = {ask_whether_over, work};
    const long processors = on_all_processors ? sysconf(_SC_NPROCESSORS_ONLN) : 1;
    struct ind_counting *counting = ind_counting_new();
    pthread_t threads[THREADS];
    unsigned started = 0;
    atomic_init(&work->interrupted, false);
    ind_mutex_begin(&work->mutex);
    ind_condition_variable_begin(&work->left);
    ind_mutex_lock(&work->mutex);
    work->status = counting ? list_files(work->catalog, &work->list) : IND_CATALOG_FAILED;
    while (work->status == IND_CATALOG_GOOD && started + 1 < processors && started < THREADS &&
           started + 1 < work->list.count && pthread_create(&threads[started], NULL, help, work) == 0)
        started++;
    work->helpers = started;
    ind_mutex_unlock(&work->mutex);
    count_files(work, counting, &interrupt);
    wait_for_helpers(work, threads, started);
    ind_condition_variable_end(&work->left);
    ind_mutex_end(&work->mutex);
    ind_counting_free(counting);
    free_list(&work->list);
    return work->status;
}

enum ind_catalog_status ind_catalog_count(struct ind_catalog *catalog, const struct ind_counting_call *call,
                                          struct ind_catalog_progress *progress)
{
    struct work work = {.catalog = catalog,
                        .interrupt = call->interrupt,
                        .now = call->now,
                        .at_once = call->at_once,
                        .most = call->most,
                        .progress = progress};
    const enum ind_catalog_status status = do_work(&work, call->at_once);
    return status == IND_CATALOG_GOOD ? count_left(catalog, &progress->to_count) : status;
}

enum ind_catalog_status ind_catalog_count_all(struct ind_catalog *catalog,
                                              const struct ind_interrupt *interrupt,
                                              void (*tell)(void *, const struct ind_catalog_progress *),
                                              void *context, struct ind_catalog_progress *progress)
{
    struct work work = {.catalog = catalog,
                        .interrupt = interrupt,
                        .most = UINT64_MAX,
                        .one_change = true,
                        .tell = tell,
                        .context = context,
                        .progress = progress};
    const enum ind_catalog_status status = do_work(&work, true);
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
