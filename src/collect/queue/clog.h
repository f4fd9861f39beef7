/* collect/queue/clog.h: which of a store's file systems are behind: so much waits for them that those who
 * sent it, and can wait, are held back.
 *
 * Told by the writer that fills their queues, read by the intake threads. */
#ifndef IND_COLLECT_QUEUE_CLOG_H
#define IND_COLLECT_QUEUE_CLOG_H

#include <stdatomic.h>
#include <stdbool.h>

enum { IND_CLOG_PLACES = 16 };

struct ind_clog {
    atomic_bool behind[IND_CLOG_PLACES]; /* by the number of the file system */
    atomic_uint count;                   /* of those that are */
};

/* By one thread. */
static inline void ind_clog_set(struct ind_clog *clog, unsigned file_system, bool behind)
{
    if (atomic_exchange(&clog->behind[file_system], behind) == behind)
        return;
    if (behind)
        atomic_fetch_add(&clog->count, 1);
    else
        atomic_fetch_sub(&clog->count, 1);
}

static inline bool ind_clog_is_behind(const struct ind_clog *clog, unsigned file_system)
{
    return atomic_load_explicit(&clog->behind[file_system], memory_order_relaxed);
}

static inline bool ind_clog_any(const struct ind_clog *clog)
{
    return atomic_load_explicit(&clog->count, memory_order_relaxed) > 0;
}

#endif
