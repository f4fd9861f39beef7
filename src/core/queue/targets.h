/* core/queue/targets.h: which of several targets is to be tried, and when. */
#ifndef IND_CORE_QUEUE_TARGETS_H
#define IND_CORE_QUEUE_TARGETS_H

#include "core/time/steady.h"

enum { IND_TARGETS_MOST = 8 };
#define IND_TARGET_SHORTEST (IND_SECOND / 4)
#define IND_TARGET_LONGEST (60 * IND_SECOND)

struct ind_target {
    bool up;
    struct ind_steady changed; /* since when it is, or is not; not set: it was never tried */
    struct ind_steady again;   /* when it may be tried again; not set: at once */
    int64_t pause;             /* ns, of the last failure */
};

struct ind_targets {
    struct ind_target list[IND_TARGETS_MOST];
    unsigned count;
    bool share; /* all that are up are used; otherwise the first of them */
};

/* The target that is to be tried now; -1: none is. *wait: ns until one may be, where none is now; INT64_MAX:
 * never. Those behind one that is up are not tried, unless all are used. */
int ind_targets_to_try(const struct ind_targets *targets, struct ind_steady now, int64_t *wait);
/* The first that is up; -1: none is. */
int ind_targets_first_up(const struct ind_targets *targets);
void ind_target_is_up(struct ind_target *target, struct ind_steady now);
/* Tried in vain, or no longer up. The pause doubles, from a quarter of a second to a minute; it begins anew
 * for one that has taken something, or was up for longer than that. */
void ind_target_is_down(struct ind_target *target, bool took, struct ind_steady now);

#endif
