/* collect/output/writer.h: the writer thread: it alone puts lines into files and sinks, and keeps the book.
 *
 * It takes batches from the rings in turn and files them. While the disk takes nothing it waits, and what it
 * does not take waits in the rings and before them: so a full disk holds everybody back.
 *
 * Where other file systems are mounted into the store each of them has a writer of its own, and this one
 * fills the lanes in front of these (collect/output/lanes.h): so each disk holds back its own only. A lane's
 * writer is the same with the lane as its only ring, and with neither book nor sinks. */
#ifndef IND_COLLECT_OUTPUT_WRITER_H
#define IND_COLLECT_OUTPUT_WRITER_H

#include "collect/output/filing.h"
#include "collect/output/rotation_order.h"
#include "collect/output/writer_facts.h"
#include "collect/queue/ring.h"
#include "collect/runtime/clock.h"
#include "collect/runtime/lifecycle.h"
#include "collect/runtime/pulse.h"

struct ind_config;
struct ind_plan;

struct ind_writer {
    /* Set before the thread is started; borrowed. */
    struct ind_filing filing;
    struct ind_accounts *const *accounts; /* of each intake */
    struct ind_rings *rings;
    unsigned intakes;
    bool from_files; /* the intakes take blocks in turn; nobody has to be told to end */
    struct ind_lifecycle *lifecycle;
    struct ind_reporter *reporter;
    const struct ind_clock *clock;
    const struct ind_waker *control; /* woken when something that was asked for is done */

    /* Shared with the control thread, as each says. */
    struct ind_writer_facts facts;
    struct ind_pulse pulse; /* between two steps, none of which waits long but for the disk */
    struct ind_rotation_order rotation;
    atomic_uint
        snapshots_out;  /* set by control when it asks for them; the writer takes one off for each it fills */
    atomic_bool behind; /* set by control when it hands out other rules; cleared once they are adopted */
    atomic_bool ended;  /* set by the writer when it is through */

    /* Its own. */
    bool book_locked;
    bool gave_up;                /* a lane's writer: what comes is lost */
    bool held[IND_MOST_INTAKES]; /* rings whose next batches are of rules that are not adopted yet, or of a
                                    later block */
    unsigned held_count;
    struct ind_batch *batch;       /* under way; NULL: none */
    unsigned ring;                 /* its */
    struct ind_steady stuck_since; /* the disk takes nothing since; not set: it does */
};

/* How the writer is after a step. */
enum ind_writer_state {
    IND_WRITER_GOES_ON,
    IND_WRITER_DISK_FULL, /* the batch under way waits for the disk */
    IND_WRITER_SINK_FULL, /* it waits for standard output or a program */
    IND_WRITER_ENDED      /* nothing will come any more; what waits in the store is still to be written */
};

void ind_writer_begin(struct ind_writer *writer);
void ind_writer_end(struct ind_writer *writer);
/* One step of the thread: goes on with the batch under way, or takes what comes next, for which it waits so
 * long at most; carries out orders, and what time brings. */
enum ind_writer_state ind_writer_step(struct ind_writer *writer, int milliseconds);
/* The thread: steps until it has ended, then all that is left. `writer` as argument; returns NULL. */
void *ind_writer_run(void *writer);

/* From the control thread: asks for a rotation; what becomes of it is in `rotation`. */
void ind_writer_order_rotation(struct ind_writer *writer, bool only_due);

/* For the sinks: the end of a line that was for one of them. */
void ind_writer_settle_handed_on(struct ind_writer *writer, uint32_t owner, bool taken);

#endif
