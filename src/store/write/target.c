/* Which live file a line goes to; and how many files messages may make up in a day. */
#include "store/write/write_private.h"

#include <stdio.h>
#include <stdlib.h>

static void begin_day(struct ind_store *store, struct ind_clocks now)
{
    int64_t seconds = ind_time_seconds(now.wall);
    int64_t day = (seconds + ind_zone_offset(store->config->zone, seconds)) / IND_DAY_SECONDS;
    if (day == store->today)
        return;
    store->today = day;
    memset(store->made_today, 0, store->config->route_count * sizeof *store->made_today);
    ind_made_forget(store);
}

void ind_made_forget(struct ind_store *store)
{
    struct ind_made *made, *next;
    HASH_ITER(hh, store->made, made, next)
    {
        HASH_DEL(store->made, made);
        free(made);
    }
}

bool ind_made_count(struct ind_store *store, uint64_t path, uint32_t route)
{
    struct ind_made *made,
        probe = {.key = {path, ind_path_hash(ind_slice_of(store->config->routes[route].name))}};
    HASH_FIND(hh, store->made, &probe.key, sizeof probe.key, made);
    if (made)
        return true;
    if (store->made_today[route] >= store->files_a_day || !(made = calloc(1, sizeof *made)))
        return false;
    made->key = probe.key;
    HASH_ADD(hh, store->made, key, sizeof made->key, made);
    store->made_today[route]++;
    return true;
}

/* The first folder of the route's path, where it is a literal one. */
static struct ind_slice overflow_path(const struct ind_route *route, char *room, size_t size)
{
    struct ind_slice source = route->file.source;
    const char *slash = memchr(source.at, '/', source.length);
    size_t first = slash ? (size_t)(slash - source.at) : 0;
    if (first && memchr(source.at, '{', first))
        first = 0;
    int length = snprintf(room, size, "%.*s%soverflow.log", (int)first, source.at, first ? "/" : "");
    return (struct ind_slice){room, (size_t)length};
}

static struct ind_live *overflow_file(struct ind_store *store, const struct ind_target *target)
{
    char room[IND_PATH + 16];
    const struct ind_route *route = &store->config->routes[target->route];
    struct ind_slice path = overflow_path(route, room, sizeof room);
    uint64_t hash = ind_path_hash(path);
    if (store->made_today[target->route]++ == store->files_a_day)
        ind_disk_report(store->disk, IND_OWN_TOO_MANY_FILES, NULL,
                        "route \"%s\": messages made up more than %llu files today; the rest goes to %.*s. "
                        "Who sends such "
                        "names? A narrower allow: or devices: keeps them out",
                        route->name, (unsigned long long)store->files_a_day, IND_ARG(path));
    struct ind_live *live = ind_live_find(store, path, hash);
    live = live ? live : ind_live_new(store, path, hash, path);
    if (live)
        live->overflow = true;
    return live;
}

struct ind_live *ind_store_file(struct ind_store *store, const struct ind_target *target,
                                struct ind_clocks now)
{
    struct ind_live *live = ind_live_find(store, target->path, target->hash);
    if (!live) {
        begin_day(store, now);
        if (target->made_up && !ind_made_count(store, target->hash, target->route))
            live = overflow_file(store, target);
        else
            live = ind_live_new(store, target->path, target->hash, target->series);
        if (!live)
            return NULL;
        live->made_up = target->made_up && !live->overflow;
    }
    if (live->route != target->route)
        ind_live_set_route(store, live, target->route);
    return live;
}
