/* collect/control/history.h: what had come, and what of it was lost, every ten seconds of the last quarter of
 * an hour: for rates. Of the control thread. */
#ifndef IND_COLLECT_CONTROL_HISTORY_H
#define IND_COLLECT_CONTROL_HISTORY_H

#include "core/time/steady.h"

#include <stddef.h>

enum { IND_HISTORY_SECONDS = 10, IND_HISTORY_SAMPLES = 15 * 60 / IND_HISTORY_SECONDS + 1 };

/* Since the start. */
struct ind_history_sample {
    struct ind_steady at;
    uint64_t received, bytes;
    uint64_t lost;    /* of the messages received */
    uint64_t dropped; /* by the kernel: these were not */
};

struct ind_history {
    struct ind_history_sample samples[IND_HISTORY_SAMPLES]; /* around */
    size_t count, next;
};

/* Begins with nothing at that moment. */
void ind_history_begin(struct ind_history *history, struct ind_steady now);
/* Not more often than every IND_HISTORY_SECONDS: what comes earlier is passed over. */
void ind_history_add(struct ind_history *history, const struct ind_history_sample *sample);

/* What has come in the last so many seconds, or since the start: the difference of `now` and the oldest
 * sample that is not older. *seconds: how long that is; 0: nothing is known yet. */
struct ind_history_sample ind_history_since(const struct ind_history *history,
                                            const struct ind_history_sample *now, unsigned span,
                                            double *seconds);

#endif
