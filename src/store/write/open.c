/* store/write/open.c: taking hold of a store, both halves of it, and letting it go. */
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

static bool make_parts(struct ind_store *store, const struct ind_store_settings *settings)
{
    char reason[200];
    store->first_plan = ind_plan_new(store->disk, settings->config, reason, sizeof reason);
    if (!store->first_plan || !ind_pages_init(&store->pages, PAGES))
        return false;
    store->keeper = ind_keeper_new(store->disk, store->first_plan);
    ind_store_adopt(store, store->first_plan);
    return store->keeper != NULL;
}

static enum ind_store_status set_up(struct ind_store *store, const struct ind_store_settings *settings,
                                    char *reason, size_t room)
{
    const struct ind_disk_settings disk = {.store = settings->config->store,
                                           .state = settings->config->state,
                                           .fs = settings->fs,
                                           .dry_run = settings->dry_run,
                                           .report = settings->report,
                                           .act = settings->act,
                                           .context = settings->context};
    enum ind_store_status status = ind_disk_open(&disk, &store->disk, reason, room);
    if (status != IND_STORE_OK)
        return status;
    if (!make_parts(store, settings)) {
        snprintf(reason, room, "out of memory");
        return IND_STORE_FAILED;
    }
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
    made->config = settings->config;
    made->settle = settings->settle;
    made->context = settings->context;
    made->by_messages = settings->by_messages;
    made->files_a_day = settings->files_a_day ? settings->files_a_day : FILES_A_DAY;
    made->open_limit = settings->open_files ? settings->open_files : open_limit(settings->config->open_files);
    made->today = INT64_MIN;
    enum ind_store_status status = set_up(made, settings, reason, room);
    if (status != IND_STORE_OK) {
        ind_store_close(made);
        *store = NULL;
    }
    return status;
}

void ind_store_close(struct ind_store *store)
{
    if (!store)
        return;
    struct ind_live *live, *next;
    HASH_ITER(hh, store->lives, live, next)
    ind_live_free(store, live);
    struct ind_series *series, *after;
    HASH_ITER(hh, store->series, series, after)
    {
        HASH_DEL(store->series, series);
        free(series->name);
        free(series);
    }
    ind_made_forget(store);
    ind_keeper_free(store->keeper);
    ind_plan_free(store->first_plan);
    ind_pages_close(&store->pages);
    ind_disk_close(store->disk);
    free(store);
}

struct ind_keeper *ind_store_keeper(struct ind_store *store)
{
    return store->keeper;
}

struct ind_disk *ind_store_disk(struct ind_store *store)
{
    return store->disk;
}
