/* core/alert/alert_window.h: how many there were in the last span of time, in parts of it. */
#ifndef IND_CORE_ALERT_ALERT_WINDOW_H
#define IND_CORE_ALERT_ALERT_WINDOW_H

#include "core/alert/alerts.h"

struct ind_alert_window {
    int64_t turn; /* of the newest part */
    uint64_t sum;
    uint32_t parts[IND_ALERT_PARTS];
};

/* How long one part is, in nanoseconds; at least 1. */
static inline int64_t ind_alert_part(int64_t span)
{
    return span / IND_ALERT_PARTS > 0 ? span / IND_ALERT_PARTS : 1;
}

/* The parts that lie before the window at `now` are empty from here on. */
static inline void ind_alert_window_turn(struct ind_alert_window *window, int64_t span, struct ind_steady now)
{
    const int64_t turn = now.ns / ind_alert_part(span);
    if (turn - window->turn >= IND_ALERT_PARTS) {
        memset(window->parts, 0, sizeof window->parts);
        window->sum = 0;
        window->turn = turn;
    }
    while (window->turn < turn) {
        uint32_t *oldest = &window->parts[(size_t)(++window->turn % IND_ALERT_PARTS)];
        window->sum -= *oldest;
        *oldest = 0;
    }
}

/* A part by its turn, which may be before the steady clock began. */
static inline uint32_t *ind_alert_window_part(struct ind_alert_window *window, int64_t turn)
{
    const int64_t place = turn % IND_ALERT_PARTS;
    return &window->parts[(size_t)(place < 0 ? place + IND_ALERT_PARTS : place)];
}

/* Counts some at `now`; after ind_alert_window_turn. */
static inline void ind_alert_window_add(struct ind_alert_window *window, uint64_t count)
{
    uint32_t *part = &window->parts[(size_t)(window->turn % IND_ALERT_PARTS)];
    const uint64_t room = UINT32_MAX - *part;
    const uint32_t added = (uint32_t)(count < room ? count : room);
    *part += added;
    window->sum += added;
}

#endif
