#include "store/disk/plan.h"

#include "store/disk/chain.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static size_t place_of(struct ind_disk *disk, const char *name)
{
    for (size_t i = 0; i < disk->policy_count; i++)
        if (strcmp(disk->policy_names[i], name) == 0)
            return i;
    if (disk->policy_count == IND_POLICY_PLACES || !(disk->policy_names[disk->policy_count] = strdup(name)))
        return IND_NO_POLICY;
    return disk->policy_count++;
}

struct ind_plan *ind_plan_new(struct ind_disk *disk, const struct ind_config *config, char *reason,
                              size_t room)
{
    struct ind_plan *plan = calloc(1, sizeof *plan);
    bool good = plan != NULL;
    if (plan) {
        plan->config = config;
        plan->place_of_policy = calloc(config->policy_count, sizeof *plan->place_of_policy);
        plan->made_today = calloc(config->route_count * disk->mounts.file_systems, sizeof *plan->made_today);
        good = plan->place_of_policy && plan->made_today;
    }
    if (!good)
        snprintf(reason, room, "out of memory");
    for (size_t i = 0; good && i < config->policy_count; i++) {
        plan->place_of_policy[i] = place_of(disk, config->policies[i].name);
        good = plan->place_of_policy[i] != IND_NO_POLICY;
        if (!good)
            snprintf(reason, room, "more than %d archive policies since the start; restart the collector",
                     IND_POLICY_PLACES);
    }
    for (size_t i = 0; good && !disk->dry_run && i < config->policy_count; i++)
        if (config->policies[i].sign)
            good = ind_chain_load_key(disk, config->policies[i].sign, reason, room);
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

void ind_plan_policies(const struct ind_plan *plan, const struct ind_policy **policies)
{
    for (size_t i = 0; i < IND_POLICY_PLACES; i++)
        policies[i] = NULL;
    for (size_t i = 0; i < plan->config->policy_count; i++)
        policies[plan->place_of_policy[i]] = &plan->config->policies[i];
}
