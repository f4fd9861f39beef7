#include "collect/output/destination.h"

bool ind_destination_flush(const struct ind_destination *destination, struct ind_clocks now)
{
    if (!destination->lanes)
        return ind_store_flush(destination->store, now);
    ind_lanes_pass_on(destination->lanes, false, now.steady);
    return true;
}

bool ind_destination_tick(const struct ind_destination *destination, struct ind_clocks now, int64_t wait)
{
    if (!destination->lanes)
        return ind_store_tick(destination->store, now, wait);
    ind_lanes_pass_on(destination->lanes, false, now.steady);
    return true;
}

void ind_destination_waiting(const struct ind_destination *destination,
                             void (*visit)(void *context, uint32_t owner, uint32_t lines), void *context)
{
    if (!destination->lanes)
        ind_store_waiting(destination->store, visit, context);
}

void ind_destination_adopt(const struct ind_destination *destination, const struct ind_config *config,
                           struct ind_plan *plan)
{
    if (destination->lanes)
        ind_lanes_adopt(destination->lanes, config, plan);
    else
        ind_store_adopt(destination->store, plan);
}

size_t ind_destination_rotate(const struct ind_destination *destination, bool only_due, struct ind_clocks now,
                              size_t *failed)
{
    *failed = 0;
    if (!destination->lanes)
        return ind_store_rotate(destination->store, only_due, now, failed);
    ind_lanes_rotate(destination->lanes, only_due);
    return 0;
}

struct ind_store_counts ind_destination_counts(const struct ind_destination *destination)
{
    return destination->lanes ? ind_lanes_counts(destination->lanes) : ind_store_counts(destination->store);
}
