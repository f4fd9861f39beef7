/* store/disk/plan.h: how the routes and policies of a configuration go with what a store knows.
 *
 * A policy keeps its place in the store's tables for as long as the process runs, by its name; so that live
 * files, archives and the two halves agree on it whichever of them has adopted the new rules already. */
#ifndef IND_STORE_DISK_PLAN_H
#define IND_STORE_DISK_PLAN_H

#include "config/config.h"
#include "store/disk/disk.h"

struct ind_plan {
    const struct ind_config *config; /* borrowed */
    size_t *place_of_policy;         /* by policy of the configuration */
    uint64_t *made_today; /* of the writing half: room for one number a route, for each file system */
};

/* Reads the keys that sign. By one thread at a time. NULL where it cannot be done: `reason` tells why.
 * Changes nothing that runs. */
struct ind_plan *ind_plan_new(struct ind_disk *disk, const struct ind_config *config, char *reason,
                              size_t room);
/* Not before both halves have adopted a later one. Accepts NULL. */
void ind_plan_free(struct ind_plan *plan);

/* Fills a table of IND_POLICY_PLACES: policies by their place, NULL where there is none. */
void ind_plan_policies(const struct ind_plan *plan, const struct ind_policy **policies);

#endif
