/* collect/output/writer.h: the writer thread: it alone puts lines into files and sinks, and keeps the book.
 *
 * It takes batches from the rings in turn and files them. While the disk takes nothing it waits, and what it
 * does not take waits in the rings and before them: so a full disk holds everybody back. */
#ifndef IND_COLLECT_OUTPUT_WRITER_H
#define IND_COLLECT_OUTPUT_WRITER_H

#include "collect/output/filing.h"
#include "collect/queue/ring.h"
#include "collect/runtime/clock.h"
#include "collect/runtime/lifecycle.h"
#include "collect/runtime/pulse.h"
#include "thread/mutex.h"

struct ind_config;
struct ind_plan;

/* What it did so far: written by the writer after each batch, read by any thread. */
struct ind_writer_facts {
    atomic_uint_fast64_t lines, bytes, rotated, overflowed, live_files, open_files;
    atomic_int disk_error; /* for which the disk takes nothing; 0: it does */
};

/* A rotation that somebody asked for. */
struct ind_rotation_order {
    struct ind_mutex mutex;
    bool asked IND_GUARDED_BY(mutex), only_due IND_GUARDED_BY(mutex);
    bool done IND_GUARDED_BY(mutex); /* since it was last looked at */
    size_t rotated IND_GUARDED_BY(mutex), failed IND_GUARDED_BY(mutex);
};

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

    /* Its own. */
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

/* From the control thread: asks for a rotation. Of two that are asked for at once, the one that does more is
 * done. */
void ind_writer_order_rotation(struct ind_writer *writer, bool only_due);
/* True once all rotations that were asked for are done since the last call: how many files. */
bool ind_writer_rotation_done(struct ind_writer *writer, size_t *rotated, size_t *failed);

#endif
