/* collect/daemon/health.h: whether all threads still do their work, and what is wrong where they do not: told
 * to the administrator and the service manager. The control thread's. */
#ifndef IND_COLLECT_DAEMON_HEALTH_H
#define IND_COLLECT_DAEMON_HEALTH_H

#include "collect/control/status.h"
#include "collect/queue/clog.h"
#include "core/time/steady.h"

#include <stddef.h>
#include <stdint.h>

struct ind_collector;

/* A writer that has not come back from its disk, which has been told. */
struct ind_hang {
    bool hangs;
    struct ind_steady since; /* as far as is known */
};

struct ind_health {
    struct ind_hang writer;
    struct ind_hang
        lanes[IND_CLOG_PLACES];  /* where the store is divided, which the writer waits for no more */
    struct ind_steady fed, told; /* the watchdog, and the status text */
    uint64_t received;           /* messages, when that was last told */
};

/* Four times a second. */
void ind_health_look(struct ind_collector *collector);

/* What is not well, worst first; room for IND_STATUS_REASONS. Returns how many. */
size_t ind_health_reasons(const struct ind_collector *collector, struct ind_status_reason *reasons);

/* What is wrong with the disk, for people; "" where nothing is. */
enum { IND_HEALTH_TROUBLE = 400 };
void ind_health_trouble(const struct ind_collector *collector, char text[IND_HEALTH_TROUBLE]);

#endif
