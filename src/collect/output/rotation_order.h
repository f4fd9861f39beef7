/* collect/output/rotation_order.h: a rotation that the control thread asks a writer for. */
#ifndef IND_COLLECT_OUTPUT_ROTATION_ORDER_H
#define IND_COLLECT_OUTPUT_ROTATION_ORDER_H

#include "thread/mutex.h"

#include <stddef.h>

struct ind_rotation_order {
    struct ind_mutex mutex;
    bool asked IND_GUARDED_BY(mutex), only_due IND_GUARDED_BY(mutex);
    bool done IND_GUARDED_BY(mutex); /* since it was last taken */
    size_t rotated IND_GUARDED_BY(mutex), failed IND_GUARDED_BY(mutex);
};

void ind_rotation_order_begin(struct ind_rotation_order *order);
void ind_rotation_order_end(struct ind_rotation_order *order);

/* Of two that are asked for at once, the one that does more is done. */
void ind_rotation_order_ask(struct ind_rotation_order *order, bool only_due);
/* For the writer: whether one is asked for; and what has become of it. */
bool ind_rotation_order_accept(struct ind_rotation_order *order, bool *only_due);
void ind_rotation_order_settle(struct ind_rotation_order *order, size_t rotated, size_t failed);

/* Whether all that were asked for are done, and some since they were last taken. */
bool ind_rotation_order_is_done(struct ind_rotation_order *order);
/* Adds how many files they were. */
void ind_rotation_order_take(struct ind_rotation_order *order, size_t *rotated, size_t *failed);

#endif
