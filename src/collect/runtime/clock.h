/* collect/runtime/clock.h: the two clocks, read. Nothing below the threads reads one: they are handed in. */
#ifndef IND_COLLECT_RUNTIME_CLOCK_H
#define IND_COLLECT_RUNTIME_CLOCK_H

#include "core/time/steady.h"
#include <time.h>

static inline ind_time ind_now(void)
{
    struct timespec now;
    clock_gettime(CLOCK_REALTIME, &now);
    return (ind_time)now.tv_sec * IND_SECOND + now.tv_nsec;
}

/* A clock that only goes forward, for spans of time. */
static inline struct ind_steady ind_steady_now(void)
{
    struct timespec now;
    clock_gettime(CLOCK_MONOTONIC, &now);
    return (struct ind_steady){(int64_t)now.tv_sec * IND_SECOND + now.tv_nsec + 1}; /* 0 means never */
}

static inline struct ind_clocks ind_clocks_now(void)
{
    return (struct ind_clocks){ind_now(), ind_steady_now()};
}

/* Clocks as a parameter, so that a test can play them. */
struct ind_clock {
    struct ind_clocks (*now)(void *context);
    void *context;
};

static inline struct ind_clocks ind_clock_read(const struct ind_clock *clock)
{
    return clock->now(clock->context);
}

/* The system's. */
extern const struct ind_clock ind_clock_system;

#endif
