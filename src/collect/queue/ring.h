/* collect/queue/ring.h: batches on their way from the intake threads to the writer, and back again once
 * empty. Each intake thread has a ring of its own; the writer takes from all of them in turn.
 *
 * The number of batches is fixed: an intake thread that finds none must let its messages wait, which is how a
 * full disk holds it back. A marker may always be put; it reaches the writer behind all that its thread put
 * before it. */
#ifndef IND_COLLECT_QUEUE_RING_H
#define IND_COLLECT_QUEUE_RING_H

#include "collect/queue/batch.h"
#include "collect/queue/marker.h"

enum { IND_RING_BATCHES = 12 }; /* of the ring of an intake thread */

struct ind_rings;

/* `count` rings of `batches` each. `wake(context, ring)` is called when a batch comes back to a ring that had
 * none to give. May be NULL. */
struct ind_rings *ind_rings_new(unsigned count, size_t batches, void (*wake)(void *context, unsigned ring),
                                void *context);
void ind_rings_free(struct ind_rings *rings);

/* ---- The intake's side ---- */

/* An empty batch; NULL where there is none within `milliseconds` (0: at once). */
struct ind_batch *ind_ring_empty(struct ind_rings *rings, unsigned ring, int milliseconds);
void ind_ring_put(struct ind_rings *rings, unsigned ring, struct ind_batch *batch);
/* One marker of each kind can be under way. */
void ind_ring_put_marker(struct ind_rings *rings, unsigned ring, struct ind_marker *marker);
/* Nothing more will be put. */
void ind_ring_end(struct ind_rings *rings, unsigned ring);

/* ---- The writer's side ---- */

struct ind_ring_item {
    unsigned ring;
    struct ind_batch *batch;   /* or NULL */
    struct ind_marker *marker; /* or NULL */
};

/* The oldest item of the next ring in turn, but not of those held; all NULL where none comes within
 * `milliseconds`. *ended: none ever will. */
struct ind_ring_item ind_rings_next(struct ind_rings *rings, const bool *held, int milliseconds, bool *ended);
void ind_ring_give_back(struct ind_rings *rings, unsigned ring, struct ind_batch *batch);
/* Wakes the writer. Any thread. */
void ind_rings_wake(struct ind_rings *rings);

/* For a ledger snapshot while the writer is stuck: takes the first snapshot marker out of a ring, whatever
 * stands before it, and gives the batches before it, oldest first, in `before` (room for all of a ring;
 * *count). They stay in the ring, and belong to the writer, who alone takes batches out: they may be read
 * after the call. NULL where there is no such marker. */
struct ind_marker *ind_ring_pull_snapshot(struct ind_rings *rings, unsigned ring,
                                          const struct ind_batch *before[], size_t *count);

/* How many batches and markers wait in a ring. Any thread. */
size_t ind_ring_full(struct ind_rings *rings, unsigned ring);

#endif
