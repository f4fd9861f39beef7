/* Live files as the store knows them: found, made, forgotten. What is on disk is flush.c's and rotate.c's. */
#include "store/write/write_private.h"

#include <stdlib.h>
#include <unistd.h>
#include <utlist.h>

static struct ind_series *new_series(struct ind_slice name)
{
    struct ind_series *series = calloc(1, sizeof *series);
    if (!series || !(series->name = malloc(name.length + 1))) {
        free(series);
        return NULL;
    }
    memcpy(series->name, name.at, name.length);
    series->name[name.length] = '\0';
    series->next = 1;
    return series;
}

struct ind_series *ind_series_for(struct ind_store *store, struct ind_slice name)
{
    struct ind_series_table *table = store->series;
    struct ind_series *series;
    ind_mutex_lock(&table->mutex);
    HASH_FIND(hh, table->list, name.at, (unsigned)name.length, series);
    if (!series && (series = new_series(name)))
        HASH_ADD_KEYPTR(hh, table->list, series->name, (unsigned)name.length, series);
    ind_mutex_unlock(&table->mutex);
    return series;
}

uint64_t ind_series_take(struct ind_store *store, struct ind_series *series)
{
    ind_mutex_lock(&store->series->mutex);
    uint64_t number = series->next++;
    ind_mutex_unlock(&store->series->mutex);
    return number;
}

void ind_series_note(struct ind_store *store, struct ind_series *series, uint64_t number)
{
    ind_mutex_lock(&store->series->mutex);
    if (number >= series->next)
        series->next = number + 1;
    ind_mutex_unlock(&store->series->mutex);
}

struct ind_live *ind_live_find(const struct ind_store *store, struct ind_slice path, uint64_t hash)
{
    struct ind_live *live;
    HASH_FIND_BYHASHVALUE(hh, store->lives, path.at, (unsigned)path.length, (unsigned)hash, live);
    return live;
}

struct ind_live *ind_live_new(struct ind_store *store, struct ind_slice path, uint64_t hash,
                              struct ind_slice series)
{
    struct ind_live *live = calloc(1, sizeof *live);
    char *copy = malloc(path.length + 1);
    if (!live || !copy || !(live->series = ind_series_for(store, series))) {
        free(live);
        free(copy);
        return NULL;
    }
    memcpy(copy, path.at, path.length);
    copy[path.length] = '\0';
    live->path = copy;
    live->hash = hash;
    live->file_system = ind_mounts_of(&store->disk->mounts, path);
    live->file = -1;
    live->route = live->policy = IND_NO_POLICY;
    live->first = live->last = IND_TIME_NONE;
    live->facts.period_end = IND_TIME_NONE;
    live->messages_known = true;
    live->stored = IND_STORED_UNKNOWN;
    HASH_ADD_KEYPTR_BYHASHVALUE(hh, store->lives, live->path, (unsigned)path.length, (unsigned)hash, live);
    store->counts.live_files++;
    return live;
}

void ind_live_close(struct ind_store *store, struct ind_live *live)
{
    if (live->file < 0 || !store->open)
        return;
    close(live->file);
    live->file = -1;
    DL_DELETE2(store->open, live, open_prev, open_next); /* NOLINT: an open file is in the list */
    store->open_count--;
}

/* Lets go of what waits, which is written, or lost. */
void ind_live_settle_waiting(struct ind_store *store, struct ind_live *live, bool written)
{
    while (live->first_page) {
        struct ind_page *page = live->first_page;
        live->first_page = page->next;
        for (uint32_t i = 0; store->settle && i < page->runs; i++)
            store->settle(store->context, ind_page_run(page, i)->owner, ind_page_run(page, i)->lines,
                          written);
        ind_page_give(&store->pages, page);
    }
    if (live->waiting)
        DL_DELETE2(store->dirty, live, dirty_prev, dirty_next);
    live->last_page = NULL;
    store->counts.waiting -= live->waiting_lines;
    *(written ? &store->counts.lines : &store->counts.lost) += live->waiting_lines;
    live->waiting = 0;
    live->waiting_lines = 0;
}

void ind_live_count_bytes(struct ind_store *store, const struct ind_live *live, uint64_t more, uint64_t less)
{
    if (live->policy == IND_NO_POLICY)
        return;
    atomic_fetch_add(&store->disk->live_bytes[live->policy], more - less);
    atomic_fetch_add(&store->disk->live_bytes_on[live->file_system], more - less);
}

void ind_live_free(struct ind_store *store, struct ind_live *live)
{
    ind_live_settle_waiting(store, live, false);
    ind_live_close(store, live);
    ind_live_count_bytes(store, live, 0, live->on_disk);
    HASH_DEL(store->lives, live);
    store->counts.live_files--;
    free(live->path);
    free(live->archive);
    free(live);
}

/* When messages go to another path, because it holds a date: then nothing more comes to this one. */
static ind_time path_end(const struct ind_store *store, const struct ind_live *live)
{
    const struct ind_zone *zone = store->config->zone;
    const struct ind_template *path =
        live->route == IND_NO_POLICY ? NULL : &store->config->routes[live->route].file;
    if (!path)
        return IND_TIME_NONE;
    if (ind_template_has(path, IND_PUT_HOUR))
        return ind_period_end(IND_PERIOD_HOUR, zone, live->first);
    if (ind_template_has(path, IND_PUT_DATE) || ind_template_has(path, IND_PUT_DAY))
        return ind_period_end(IND_PERIOD_DAY, zone, live->first);
    if (!ind_template_has(path, IND_PUT_MONTH) && !ind_template_has(path, IND_PUT_YEAR))
        return IND_TIME_NONE;
    struct ind_civil civil = {.month = 1};
    ind_time end = live->first;
    do {
        end = ind_period_end(IND_PERIOD_MONTH, zone, end);
        ind_zone_civil(zone, end, &civil);
    } while (civil.month != 1 && !ind_template_has(path, IND_PUT_MONTH));
    return end;
}

/* A file holds one layout, so that a raw line is never taken for another: where the route has a new one, it
 * is due at once. */
void ind_live_settle_period(const struct ind_store *store, struct ind_live *live)
{
    const struct ind_policy *policy = ind_live_policy(store, live);
    if (!live->begun)
        return;
    live->facts.period_end =
        policy ? ind_period_end(policy->rotate.every, store->config->zone, live->first) : IND_TIME_NONE;
    const ind_time moves_on = path_end(store, live);
    if (moves_on != IND_TIME_NONE &&
        (live->facts.period_end == IND_TIME_NONE || moves_on < live->facts.period_end))
        live->facts.period_end = moves_on;
    if (live->route != IND_NO_POLICY && live->stored != IND_STORED_UNKNOWN &&
        live->stored != ind_stored_by(&store->config->routes[live->route]))
        live->facts.period_end = 0;
}

void ind_live_set_route(struct ind_store *store, struct ind_live *live, size_t route)
{
    live->route = route;
    if (route != IND_NO_POLICY) {
        ind_live_count_bytes(store, live, 0, live->on_disk);
        live->policy = store->plan->place_of_policy[store->config->routes[route].policy];
        ind_live_count_bytes(store, live, live->on_disk, 0);
    }
    ind_live_settle_period(store, live);
}

const struct ind_rotation_rule *ind_live_rule(const struct ind_store *store, const struct ind_live *live)
{
    static const struct ind_rotation_rule never = {IND_PERIOD_NONE, 0, 0};
    const struct ind_policy *policy = ind_live_policy(store, live);
    return policy ? &policy->rotate : &never;
}

/* What the last of them does not call for, with the bytes of all, none does. */
bool ind_live_only_grows(const struct ind_store *store, const struct ind_live *live, ind_time latest,
                         size_t bytes, size_t lines)
{
    struct ind_live_facts facts = live->facts;
    facts.messages += lines - 1;
    return ind_rotation_before(ind_live_rule(store, live), &facts, latest, bytes) == IND_ROTATION_NOT;
}
