/* collect/runtime/pulse.h: a thread's sign of life, for whoever wants to know whether it still goes round. */
#ifndef IND_COLLECT_RUNTIME_PULSE_H
#define IND_COLLECT_RUNTIME_PULSE_H

#include "core/time/steady.h"

#include <stdatomic.h>

/* Written by its thread each time round, at least once a second; read by any. 0: it has not begun. */
struct ind_pulse {
    atomic_int_fast64_t last;
};

static inline void ind_pulse_beat(struct ind_pulse *pulse, struct ind_steady now)
{
    atomic_store_explicit(&pulse->last, now.ns, memory_order_relaxed);
}

/* Nanoseconds since the last one; 0 where the thread has not begun. */
static inline int64_t ind_pulse_age(const struct ind_pulse *pulse, struct ind_steady now)
{
    int64_t last = atomic_load_explicit(&pulse->last, memory_order_relaxed);
    return last ? now.ns - last : 0;
}

#endif
