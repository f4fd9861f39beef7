/* core/time/steady.h: two kinds of time, which the compiler tells apart.
 *
 * An ind_time (core/time/civil.h) is the clock on the wall: what is written down, and compared with what is
 * written down. It can be set back and forth at any moment. How long something lasts goes by a steady clock,
 * which only goes forward, and whose values mean nothing to anybody else. */
#ifndef IND_CORE_TIME_STEADY_H
#define IND_CORE_TIME_STEADY_H

#include "core/time/civil.h"

struct ind_steady {
    int64_t ns; /* since some moment before; 0: never, or not known */
};

#define IND_STEADY_NEVER ((struct ind_steady){0})

/* Both clocks at one moment. */
struct ind_clocks {
    ind_time wall;
    struct ind_steady steady;
};

static inline bool ind_steady_is_set(struct ind_steady moment)
{
    return moment.ns != 0;
}

/* Nanoseconds from one moment to another. */
static inline int64_t ind_steady_from(struct ind_steady from, struct ind_steady to)
{
    return to.ns - from.ns;
}

static inline struct ind_steady ind_steady_after(struct ind_steady moment, int64_t span)
{
    return (struct ind_steady){moment.ns + span};
}

/* Whether `then` was, less than `span` ago. */
static inline bool ind_steady_lately(struct ind_steady then, struct ind_steady now, int64_t span)
{
    return ind_steady_is_set(then) && ind_steady_from(then, now) < span;
}

/* The same for what is reported once in a while: where it was not, it is now. */
static inline bool ind_steady_reported_lately(struct ind_steady *reported, struct ind_steady now,
                                              int64_t span)
{
    bool lately = ind_steady_lately(*reported, now, span);
    *reported = lately ? *reported : now;
    return lately;
}

#endif
