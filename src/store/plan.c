/* store/plan.c: other rules for a store that runs.
 *
 * A policy keeps its place in the store's tables for as long as the process runs, by its name; so that live
 * files, archives and the two halves agree on it whichever of them has adopted the new rules already. */
#include "store/inside.h"

#include <stdlib.h>

static size_t place_of(struct ind_store *store, const char *name)
{
    for (size_t i = 0; i < store->policy_places; i++)
        if (strcmp(store->policy_names[i], name) == 0)
            return i;
    if (store->policy_places == IND_POLICY_PLACES ||
        !(store->policy_names[store->policy_places] = strdup(name)))
        return IND_NO_POLICY;
    return store->policy_places++;
}

struct ind_plan *ind_plan_new(struct ind_store *store, const struct ind_config *config, char *reason,
                              size_t room)
{
    struct ind_plan *plan = calloc(1, sizeof *plan);
    bool good = plan != NULL;
    if (plan) {
        plan->config = config;
        plan->place_of_policy = calloc(config->policy_count, sizeof *plan->place_of_policy);
        plan->made_today = calloc(config->route_count, sizeof *plan->made_today);
        good = plan->place_of_policy && plan->made_today;
    }
    if (!good)
        snprintf(reason, room, "out of memory");
    for (size_t i = 0; good && i < config->policy_count; i++) {
        plan->place_of_policy[i] = place_of(store, config->policies[i].name);
        good = plan->place_of_policy[i] != IND_NO_POLICY;
        if (!good)
            snprintf(reason, room, "more than %d archive policies since the start; restart the collector",
                     IND_POLICY_PLACES);
    }
    if (good)
        return plan;
    ind_plan_free(plan);
    return NULL;
}

void ind_plan_free(struct ind_plan *plan)
{
    if (!plan)
        return;
    free(plan->place_of_policy);
    free(plan->made_today);
    free(plan);
}

static void set_policies(const struct ind_plan *plan, const struct ind_policy **policies)
{
    for (size_t i = 0; i < IND_POLICY_PLACES; i++)
        policies[i] = NULL;
    for (size_t i = 0; i < plan->config->policy_count; i++)
        policies[plan->place_of_policy[i]] = &plan->config->policies[i];
}

static size_t same_route(const struct ind_config *config, const char *name)
{
    const struct ind_route *route = ind_config_route(config, name);
    return route ? (size_t)(route - config->routes) : IND_NO_POLICY;
}

void ind_store_adopt(struct ind_store *store, struct ind_plan *plan)
{
    const struct ind_config *before = store->plan ? store->config : NULL;
    size_t *now = NULL;
    if (before && (now = calloc(before->route_count, sizeof *now)))
        for (size_t i = 0; i < before->route_count; i++) {
            now[i] = same_route(plan->config, before->routes[i].name);
            if (now[i] != IND_NO_POLICY)
                plan->made_today[now[i]] = store->made_today[i];
        }
    store->plan = plan;
    store->config = plan->config;
    store->made_today = plan->made_today;
    set_policies(plan, store->policies);
    for (struct ind_live *live = store->lives; live; live = live->hh.next)
        /* Without memory for `now` the next line tells the route. */
        ind_live_set_route(store, live,
                           now && live->route != IND_NO_POLICY ? now[live->route] : IND_NO_POLICY);
    free(now);
}

void ind_keeper_adopt(struct ind_store *store, struct ind_plan *plan)
{
    set_policies(plan, store->kept_policies);
    /* What could not be packed under the old rules may be under the new ones. */
    atomic_store(&store->wanted, true);
}
