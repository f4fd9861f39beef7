/* collect/daemon/health.h: whether all threads still do their work, and what is wrong where they do not: told
 * to the administrator and the service manager. The control thread's. */
#ifndef IND_COLLECT_DAEMON_HEALTH_H
#define IND_COLLECT_DAEMON_HEALTH_H

#include "core/time/steady.h"

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

struct ind_collector;

struct ind_health {
    bool hangs;                    /* the writer has not come back from the disk, and that has been told */
    struct ind_steady hangs_since; /* as far as is known */
    struct ind_steady fed, told;   /* the watchdog, and the status text */
    uint64_t received;             /* messages, when that was last told */
};

/* Four times a second. */
void ind_health_look(struct ind_collector *collector);

/* What is wrong with the disk, for people; "" where nothing is. */
enum { IND_HEALTH_TROUBLE = 200 };
void ind_health_trouble(const struct ind_collector *collector, char text[IND_HEALTH_TROUBLE]);

#endif
