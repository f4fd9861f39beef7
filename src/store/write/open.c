/* store/write/open.c: taking hold of a store, both halves of it, and letting it go. */
#include "store/disk/chain.h"
#include "store/disk/compact.h"
#include "store/write/write_private.h"

#include <stdlib.h>
#include <sys/resource.h>

enum { PAGES = 8192, FILES_A_DAY = 10000, RESERVED_FILES = 96 };

/* No more than the process may have open; some are needed for all else. */
static size_t open_limit(uint64_t wanted)
{
    struct rlimit limit;
    uint64_t most = UINT64_MAX;
    if (getrlimit(RLIMIT_NOFILE, &limit) == 0 && limit.rlim_cur != RLIM_INFINITY)
        most = limit.rlim_cur > 2 * RESERVED_FILES ? limit.rlim_cur - RESERVED_FILES : limit.rlim_cur / 2;
    return (size_t)(wanted < most ? wanted : most ? most : 1);
}

/* Open files are shared out: each part closes those of its own. */
static void set_from(struct ind_store *store, const struct ind_store_settings *settings, size_t parts)
{
    size_t open_files =
        settings->open_files ? settings->open_files : open_limit(settings->config->open_files);
    store->config = settings->config;
    store->settle = settings->settle;
    store->context = settings->context;
    store->by_messages = settings->by_messages;
    store->files_a_day = settings->files_a_day ? settings->files_a_day : FILES_A_DAY;
    store->open_limit = open_files / parts ? open_files / parts : 1;
    store->today = INT64_MIN;
}

static bool make_part(struct ind_store *store, const struct ind_store_settings *settings, unsigned number,
                      unsigned count)
{
    struct ind_store *part = number == 0 ? store : calloc(1, sizeof *part);
    if (!part)
        return false;
    store->parts[store->part_count++] = part;
    set_from(part, settings, count);
    part->disk = store->disk;
    part->series = &store->own_series;
    part->file_system = number;
    bool good = ind_pages_init(&part->pages, PAGES);
    ind_store_adopt(part, store->first_plan);
    return good;
}

static bool make_parts(struct ind_store *store, const struct ind_store_settings *settings, char *reason,
                       size_t room)
{
    unsigned count = settings->divide ? store->disk->mounts.file_systems : 1;
    store->first_plan = ind_plan_new(store->disk, settings->config, reason, room);
    bool good = store->first_plan != NULL;
    for (unsigned i = 0; good && i < count; i++)
        good = make_part(store, settings, i, count);
    if (good)
        store->keeper = ind_keeper_new(store->disk, store->first_plan);
    return store->keeper != NULL;
}

static enum ind_store_status set_up(struct ind_store *store, const struct ind_store_settings *settings,
                                    char *reason, size_t room)
{
    const struct ind_disk_settings disk = {.store = settings->config->store,
                                           .state = settings->config->state,
                                           .fs = settings->fs,
                                           .dry_run = settings->dry_run,
                                           .copies_apart = settings->copies_apart,
                                           .no_catalog = settings->no_catalog,
                                           .report = settings->report,
                                           .act = settings->act,
                                           .context = settings->context};
    enum ind_store_status status = ind_disk_open(&disk, &store->disk, reason, room);
    if (status != IND_STORE_OK)
        return status;
    snprintf(reason, room, "out of memory");
    if (!ind_chain_open(store->disk) || !make_parts(store, settings, reason, room))
        return IND_STORE_FAILED;
    ind_journal_compact(store->disk, settings->config, settings->now);
    return ind_store_recover(store, settings->now, reason, room) ? IND_STORE_OK : IND_STORE_FAILED;
}

enum ind_store_status ind_store_open(const struct ind_store_settings *settings, struct ind_store **store,
                                     char *reason, size_t room)
{
    *store = calloc(1, sizeof **store);
    if (!*store) {
        snprintf(reason, room, "out of memory");
        return IND_STORE_FAILED;
    }
    struct ind_store *made = *store;
    ind_mutex_begin(&made->own_series.mutex);
    enum ind_store_status status = set_up(made, settings, reason, room);
    if (status != IND_STORE_OK) {
        ind_store_close(made);
        *store = NULL;
    }
    return status;
}

/* What a part has by itself; not the part. */
static void close_part(struct ind_store *part)
{
    struct ind_live *live, *next;
    HASH_ITER(hh, part->lives, live, next)
    ind_live_free(part, live);
    ind_made_forget(part);
    ind_pages_close(&part->pages);
}

IND_NOT_SHARED static void free_series(struct ind_series_table *table)
{
    struct ind_series *series, *next;
    HASH_ITER(hh, table->list, series, next)
    {
        HASH_DEL(table->list, series);
        free(series->name);
        free(series);
    }
    ind_mutex_end(&table->mutex);
}

void ind_store_close(struct ind_store *store)
{
    if (!store)
        return;
    for (unsigned i = 0; i < store->part_count; i++)
        close_part(store->parts[i]);
    for (unsigned i = 1; i < store->part_count; i++)
        free(store->parts[i]);
    free_series(&store->own_series);
    ind_keeper_free(store->keeper);
    ind_plan_free(store->first_plan);
    if (store->disk)
        ind_chain_close(store->disk);
    ind_disk_close(store->disk);
    free(store);
}

unsigned ind_store_part_count(const struct ind_store *store)
{
    return store->part_count;
}

struct ind_store *ind_store_part(struct ind_store *store, unsigned number)
{
    return store->parts[number];
}

struct ind_keeper *ind_store_keeper(struct ind_store *store)
{
    return store->keeper;
}

struct ind_disk *ind_store_disk(struct ind_store *store)
{
    return store->disk;
}
