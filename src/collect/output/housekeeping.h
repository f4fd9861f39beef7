/* collect/output/housekeeping.h: the housekeeping thread: it drives the keeping half of the store, and does
 * all that may take long. Receiving and writing come first: it runs in the idle class where the system has
 * one. */
#ifndef IND_COLLECT_OUTPUT_HOUSEKEEPING_H
#define IND_COLLECT_OUTPUT_HOUSEKEEPING_H

#include "collect/output/day_book.h"
#include "collect/runtime/lifecycle.h"
#include "store/archive/keeper.h"

/* What it did so far: written by housekeeping after each run, read by any thread. */
struct ind_housekeeping_facts {
    atomic_uint_fast64_t compressed, removed, archives, archive_bytes, protected_archives, to_copy, to_count,
        catalog_failed;
    atomic_uint_fast64_t disk[IND_MOST_FILE_SYSTEMS], disk_free[IND_MOST_FILE_SYSTEMS]; /* bytes of each */
};

struct ind_housekeeping {
    /* Set before the thread is started; borrowed. */
    struct ind_keeper *keeper;
    const struct ind_disk *disk;
    struct ind_lifecycle *lifecycle;
    const struct ind_waker *control; /* woken when other rules are adopted */
    struct ind_day_book *days;       /* NULL: messages come from files */

    /* Orders: set by the control thread, taken by housekeeping. */
    _Atomic(struct ind_plan *) adopt; /* other rules; NULL: none */
    atomic_bool clock_is_right;       /* somebody said so */

    atomic_bool behind; /* set by control with `adopt`; cleared once it is adopted */
    struct ind_housekeeping_facts facts;
};

/* Looks how much room there is: before the thread is started, then by it. Such a look may hang with the disk.
 */
void ind_housekeeping_look_for_room(struct ind_housekeeping *housekeeping);
/* The thread. `housekeeping` as argument; returns NULL. */
void *ind_housekeeping_run(void *housekeeping);

#endif
