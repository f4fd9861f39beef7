/* collect/runtime/lifecycle.h: how far a collector is with its end. Each step happens once, in this order:
 *
 *     stop      it is asked to end: receivers take what stands in their sockets, and end
 *     drained   receivers that have nothing left, but for internal messages
 *     written   the writer has written, or given up, all that came to it
 *
 * Messages from files end without `stop`. `give_up`: the writer has waited long enough for the disk; what
 * still comes is lost, and counted so. */
#ifndef IND_COLLECT_RUNTIME_LIFECYCLE_H
#define IND_COLLECT_RUNTIME_LIFECYCLE_H

#include "net/waker.h"
#include "thread/mutex.h"

#include <stdatomic.h>
#include <stdbool.h>

struct ind_lifecycle {
    atomic_bool stop;        /* set by the control thread, read by all */
    atomic_bool give_up;     /* set by the writer, read by all */
    atomic_bool written;     /* set by the writer, under `ending`; read by all without it */
    atomic_uint drained;     /* each receiver adds itself once; the first one reads it */
    struct ind_mutex ending; /* guards nothing but the wait for `written` */
    struct ind_condition_variable ended;
    const struct ind_waker *control; /* woken when `written` comes true; set before threads are started */
};

void ind_lifecycle_begin(struct ind_lifecycle *lifecycle, const struct ind_waker *control);
void ind_lifecycle_end(struct ind_lifecycle *lifecycle);

static inline bool ind_is_stopping(const struct ind_lifecycle *lifecycle)
{
    return atomic_load(&lifecycle->stop);
}

static inline bool ind_has_given_up(const struct ind_lifecycle *lifecycle)
{
    return atomic_load(&lifecycle->give_up);
}

static inline bool ind_is_written(const struct ind_lifecycle *lifecycle)
{
    return atomic_load(&lifecycle->written);
}

/* The writer is done: wakes all who wait for it. */
void ind_lifecycle_set_written(struct ind_lifecycle *lifecycle);
/* True once the writer is done; waits for it so long at most. */
bool ind_lifecycle_wait_written(struct ind_lifecycle *lifecycle, int milliseconds);

#endif
