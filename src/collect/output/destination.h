/* collect/output/destination.h: where lines for files go: into the store, or, where that is divided, into the
 * lane of each file system. */
#ifndef IND_COLLECT_OUTPUT_DESTINATION_H
#define IND_COLLECT_OUTPUT_DESTINATION_H

#include "collect/output/lanes.h"

/* Borrowed. */
struct ind_destination {
    struct ind_store *store; /* or one part of it; NULL: there are lanes */
    struct ind_lanes *lanes; /* NULL: there is a store */
};

/* As the functions of store/write/store.h; of what has gone into lanes their writers know. */
bool ind_destination_flush(const struct ind_destination *destination, struct ind_clocks now);
bool ind_destination_tick(const struct ind_destination *destination, struct ind_clocks now, int64_t wait);
void ind_destination_waiting(const struct ind_destination *destination,
                             void (*visit)(void *context, uint32_t owner, uint32_t lines), void *context);
void ind_destination_adopt(const struct ind_destination *destination, const struct ind_config *config,
                           struct ind_plan *plan);
/* How many files; those of lanes are rotated later, and counted by their writers. */
size_t ind_destination_rotate(const struct ind_destination *destination, bool only_due, struct ind_clocks now,
                              size_t *failed);
struct ind_store_counts ind_destination_counts(const struct ind_destination *destination);

#endif
