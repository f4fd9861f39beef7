/* store/archive/keeper.h: the keeping half of a store: what is done to archives, on the housekeeping thread.
 *
 * It takes over the archives that the writing half hands to it, flushes and compresses them, and removes what
 * the policies no longer keep. It decides first, and then carries out what it has decided, action by action:
 * that list is what a dry run shows. It never reads a clock. */
#ifndef IND_STORE_ARCHIVE_KEEPER_H
#define IND_STORE_ARCHIVE_KEEPER_H

#include "store/disk/compress.h"
#include "store/disk/plan.h"

struct ind_keeper;

struct ind_keeper_counts {
    uint64_t compressed, removed, failed;
    uint64_t archives, archive_bytes; /* present */
    uint64_t protected_archives;      /* of these */
    uint64_t to_copy;                 /* that wait for the second place */
    uint64_t to_count;                /* whose volumes the catalog does not have yet */
    bool catalog_failed;              /* it cannot be written at present */
};

/* New; borrows the disk, and the plan until it adopts another. NULL where memory is out. */
struct ind_keeper *ind_keeper_new(struct ind_disk *disk, struct ind_plan *plan);
void ind_keeper_free(struct ind_keeper *keeper);

/* An archive that was there at the start, which is copied; before the thread is started. False where memory
 * is out. */
bool ind_keeper_add(struct ind_keeper *keeper, const struct ind_archive *archive);

/* Other rules from now on; cannot fail. */
void ind_keeper_adopt(struct ind_keeper *keeper, struct ind_plan *plan);

/* Does what there is to do: flush to disk, compress, remove. `interrupt` may be NULL. False where something
 * failed, or was left, and is to be tried again later. */
bool ind_keeper_run(struct ind_keeper *keeper, struct ind_clocks now, const struct ind_interrupt *interrupt);

/* The same once everything is written and nobody else needs the processors: files are counted on all of
 * them. */
bool ind_keeper_run_last(struct ind_keeper *keeper, struct ind_clocks now,
                         const struct ind_interrupt *interrupt);

/* Runs the retention alone; `clock_is_right`: somebody said so. */
void ind_keeper_retain(struct ind_keeper *keeper, struct ind_clocks now, bool clock_is_right);

/* Asks that an archive (its path as the plain one) is protected from all retention, or (`on` false) no more;
 * `why` goes into the journal and may be NULL. Any thread; all are copied. False where memory is out. */
bool ind_keeper_ask_protection(struct ind_keeper *keeper, const char *archive, bool on, const char *why);
/* Whether something was asked for that is not done yet: any thread. */
bool ind_keeper_protection_waits(const struct ind_keeper *keeper);
/* Does it: between two files, and two blocks of one, too. What is done is in the journal. */
void ind_keeper_protect(struct ind_keeper *keeper, ind_time now);

/* Whether there is anything for ind_keeper_run to do: any thread. */
bool ind_keeper_wanted(const struct ind_keeper *keeper);

struct ind_keeper_counts ind_keeper_counts(const struct ind_keeper *keeper);

#endif
