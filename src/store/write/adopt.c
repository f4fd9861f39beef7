/* Other rules for live files that are written to. */
#include "store/write/write_private.h"

#include <stdlib.h>

static size_t same_route(const struct ind_config *config, const char *name)
{
    const struct ind_route *route = ind_config_route(config, name);
    return route ? (size_t)(route - config->routes) : IND_NO_POLICY;
}

void ind_store_adopt(struct ind_store *store, struct ind_plan *plan)
{
    const struct ind_config *before = store->plan ? store->config : NULL;
    uint64_t *made_today = plan->made_today + store->file_system * plan->config->route_count;
    size_t *now = NULL;
    if (before && (now = calloc(before->route_count, sizeof *now)))
        for (size_t i = 0; i < before->route_count; i++) {
            now[i] = same_route(plan->config, before->routes[i].name);
            if (now[i] != IND_NO_POLICY)
                made_today[now[i]] = store->made_today[i];
        }
    store->plan = plan;
    store->config = plan->config;
    store->made_today = made_today;
    ind_plan_policies(plan, store->policies);
    for (struct ind_live *live = store->lives; live; live = live->hh.next)
        /* Without memory for `now` the next line tells the route. */
        ind_live_set_route(store, live,
                           now && live->route != IND_NO_POLICY ? now[live->route] : IND_NO_POLICY);
    free(now);
}
