/* collect/output/lanes.h: the queues in front of the writers that each file system of a divided store has.
 *
 *     rings ─► writer ─┬─► lane ─► writer of file system 0
 *                      ├─► lane ─► writer of file system 1
 *                      └─► …
 *
 * The writer copies lines into batches for their lane and touches no file, so that a disk which takes nothing
 * holds up its own files only. When half of a lane is full its file system is said to be behind: then those
 * who can wait are held back (collect/queue/clog.h), lines of all others are lost, and the rest of the lane
 * takes what is on its way from those who wait. Should that fill up, too, everything waits rather than that
 * one of these is lost. */
#ifndef IND_COLLECT_OUTPUT_LANES_H
#define IND_COLLECT_OUTPUT_LANES_H

#include "collect/output/rotation_order.h"
#include "collect/output/writer_facts.h"
#include "collect/queue/clog.h"
#include "collect/queue/ring.h"
#include "collect/runtime/reporter.h"

struct ind_lane {
    /* Set before the threads are started; borrowed. */
    const char *folder; /* where its file system begins in the store: "" for the store's own */
    struct ind_rings *ring;
    const struct ind_writer_facts *facts;
    struct ind_rotation_order *rotation;
    const atomic_bool *ended; /* its writer has */

    /* Of the writer that fills it. */
    struct ind_batch *open; /* being filled; NULL: none */
    const struct ind_batch_group
        *from; /* whose lines go into the last group of `open`; NULL: into a new one */
    struct ind_marker rules;
    uint64_t lost, lost_told;
    struct ind_steady told;
};

struct ind_lanes {
    struct ind_lane list[IND_CLOG_PLACES];
    unsigned count;
    size_t batches; /* of each */
    struct ind_clog *clog;
    struct ind_book *book; /* locked by whoever calls ind_lanes_add */
    struct ind_reporter *reporter;
};

/* Adds a line of a group, under its owner in the book. False where everything is to wait: try again later. */
bool ind_lanes_add(struct ind_lanes *lanes, const struct ind_batch *batch,
                   const struct ind_batch_group *group, const struct ind_batch_line *line, uint32_t owner);
/* All lines of the group are added. */
void ind_lanes_end_group(struct ind_lanes *lanes, const struct ind_batch_group *group);

/* What is begun goes on to writers that have nothing to do, or in any case with `all`; looks who is behind.
 */
void ind_lanes_pass_on(struct ind_lanes *lanes, bool all, struct ind_steady now);

/* Other rules, behind all that was added; each writer adopts them by itself. */
void ind_lanes_adopt(struct ind_lanes *lanes, const struct ind_config *config, struct ind_plan *plan);
void ind_lanes_rotate(struct ind_lanes *lanes, bool only_due);
struct ind_store_counts ind_lanes_counts(const struct ind_lanes *lanes);

/* Nothing more will be added; and whether all writers have ended since. */
void ind_lanes_end(struct ind_lanes *lanes, struct ind_steady now);
bool ind_lanes_have_ended(const struct ind_lanes *lanes);

#endif
