#include "collect/output/housekeeping.h"

#include "collect/runtime/clock.h"
#include "collect/runtime/priority.h"

enum { TICK_MILLISECONDS = 100, TICKS_BETWEEN_RUNS = 10 };

static void adopt_rules(struct ind_housekeeping *housekeeping)
{
    struct ind_plan *plan = atomic_exchange(&housekeeping->adopt, NULL);
    if (!plan)
        return;
    ind_keeper_adopt(housekeeping->keeper, plan);
    atomic_store(&housekeeping->behind, false);
    ind_waker_wake(housekeeping->control);
}

static void protect(struct ind_housekeeping *housekeeping)
{
    if (!ind_keeper_protection_waits(housekeeping->keeper))
        return;
    ind_keeper_protect(housekeeping->keeper, ind_now());
    ind_waker_wake(housekeeping->control);
}

/* Between two blocks of what is compressed, too: a reload, whoever protects an archive, and the end wait for
 * no more than that. */
static bool must_end(void *argument)
{
    struct ind_housekeeping *housekeeping = argument;
    adopt_rules(housekeeping);
    protect(housekeeping);
    return ind_is_stopping(housekeeping->lifecycle) && ind_is_written(housekeeping->lifecycle);
}

void ind_housekeeping_look_for_room(struct ind_housekeeping *housekeeping)
{
    for (unsigned i = 0; i < housekeeping->disk->mounts.file_systems; i++) {
        uint64_t size, room;
        ind_disk_space(housekeeping->disk, i, &size, &room);
        atomic_store(&housekeeping->facts.disk[i], size);
        atomic_store(&housekeeping->facts.disk_free[i], room);
    }
}

static void keep(struct ind_housekeeping *housekeeping, bool last)
{
    const struct ind_interrupt interrupt = {must_end, housekeeping};
    struct ind_keeper *keeper = housekeeping->keeper;
    adopt_rules(housekeeping);
    protect(housekeeping);
    if (atomic_exchange(&housekeeping->clock_is_right, false))
        ind_keeper_retain(keeper, ind_clocks_now(), true);
    (void)(last ? ind_keeper_run_last : ind_keeper_run)(keeper, ind_clocks_now(), &interrupt);
    struct ind_keeper_counts counts = ind_keeper_counts(keeper);
    atomic_store(&housekeeping->facts.compressed, counts.compressed);
    atomic_store(&housekeeping->facts.removed, counts.removed);
    atomic_store(&housekeeping->facts.archives, counts.archives);
    atomic_store(&housekeeping->facts.archive_bytes, counts.archive_bytes);
    atomic_store(&housekeeping->facts.protected_archives, counts.protected_archives);
    atomic_store(&housekeeping->facts.to_copy, counts.to_copy);
    atomic_store(&housekeeping->facts.to_count, counts.to_count);
    atomic_store(&housekeeping->facts.catalog_failed, counts.catalog_failed);
    ind_housekeeping_look_for_room(housekeeping);
    if (housekeeping->days)
        (void)ind_day_book_save(housekeeping->days, false, ind_steady_now()); /* else it is tried again */
}

void *ind_housekeeping_run(void *argument)
{
    struct ind_housekeeping *housekeeping = argument;
    int ticks = 0;
    ind_priority_yield_processor();
    ind_priority_yield_disk();
    while (!ind_is_written(housekeeping->lifecycle)) {
        if (ind_keeper_wanted(housekeeping->keeper) || atomic_load(&housekeeping->adopt) ||
            atomic_load(&housekeeping->clock_is_right) || ind_keeper_protection_waits(housekeeping->keeper) ||
            ++ticks >= TICKS_BETWEEN_RUNS) {
            ticks = 0;
            keep(housekeeping, false);
        }
        (void)ind_lifecycle_wait_written(housekeeping->lifecycle, TICK_MILLISECONDS);
    }
    /* Messages from files leave everything in order behind them; a collector that is told to end does so. */
    if (!ind_is_stopping(housekeeping->lifecycle))
        keep(housekeeping, true);
    return NULL;
}
