/* collect/ring.h: batches between one intake thread and the writer, and back again once empty.
 *
 * The number of batches is fixed: an intake thread that finds none must wait, which is how a full disk holds
 * it back. */
#ifndef IND_COLLECT_RING_H
#define IND_COLLECT_RING_H

#include "collect/batch.h"

struct ind_ring;

struct ind_ring *ind_ring_new(size_t batches);
void ind_ring_free(struct ind_ring *ring);

/* The intake's side. An empty batch; NULL where there is none within `milliseconds`. */
struct ind_batch *ind_ring_empty(struct ind_ring *ring, int milliseconds);
void ind_ring_put(struct ind_ring *ring, struct ind_batch *batch);
/* Nothing more will be put. */
void ind_ring_end(struct ind_ring *ring);

/* The writer's side. The oldest batch; NULL where none comes within `milliseconds`. *ended: none ever will.
 */
struct ind_batch *ind_ring_take(struct ind_ring *ring, int milliseconds, bool *ended);
void ind_ring_give_back(struct ind_ring *ring, struct ind_batch *batch);

#endif
