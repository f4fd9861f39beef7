/* core/queue/window.h: which records are under way to another side, and which of them it is known to have.
 *
 * Records go in bursts, one after the other, over links that are told apart by a number. A link counts its
 * bytes; a burst is had once all of its bytes are acknowledged. What was under way when a link broke is to be
 * sent again, in its order, before anything newer. Nothing is allocated. */
#ifndef IND_CORE_QUEUE_WINDOW_H
#define IND_CORE_QUEUE_WINDOW_H

#include "core/time/civil.h"

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

enum { IND_WINDOW_MOST = 1024 };

enum ind_burst_state { IND_BURST_SENT, IND_BURST_HAD, IND_BURST_AGAIN };

struct ind_burst {
    uint64_t first, next; /* records: of the first, and behind the last */
    uint64_t start, end;  /* of the bytes of its link, as they were sent */
    ind_time time;        /* since when the first of them waits */
    uint64_t skip;        /* to be sent again: the other side has so many of its bytes */
    unsigned link;
    enum ind_burst_state state;
};

struct ind_window {
    struct ind_burst list[IND_WINDOW_MOST]; /* a ring, in the order of records */
    size_t first, count, again;
};

static inline bool ind_window_is_full(const struct ind_window *window)
{
    return window->count == IND_WINDOW_MOST;
}

/* Number `index` of those in the window, from the oldest on. */
static inline const struct ind_burst *ind_window_at(const struct ind_window *window, size_t index)
{
    return &window->list[(window->first + index) % IND_WINDOW_MOST];
}

/* A burst of new records, behind all others; there is room. */
void ind_window_add(struct ind_window *window, const struct ind_burst *burst);
/* Where the bytes of the newest burst end. */
void ind_window_amend(struct ind_window *window, uint64_t end);
/* The oldest burst that is to be sent again; NULL: there is none. It is sent by ind_window_send_again. */
struct ind_burst *ind_window_next_again(struct ind_window *window);
/* It goes once more, from record `first` on (those before are had). */
void ind_window_send_again(struct ind_window *window, struct ind_burst *burst, uint64_t first, unsigned link,
                           uint64_t start, uint64_t end);

/* So many bytes of a link are acknowledged. Returns how many records are had by that, that were not before.
 */
uint64_t ind_window_acknowledge(struct ind_window *window, unsigned link, uint64_t bytes);
/* A link has ended with so many of its bytes acknowledged: the rest is to be sent again. Returns how many
 * records that are, at most: the other side may have them all the same. */
uint64_t ind_window_break(struct ind_window *window, unsigned link, uint64_t bytes);
/* Whether something is under way on a link. */
bool ind_window_is_under_way(const struct ind_window *window, unsigned link);

/* Since when the oldest waits that is not known to be had; IND_TIME_NONE: there is none. */
ind_time ind_window_oldest(const struct ind_window *window);
/* The first record that is not known to be had; `next`: the first that was never sent. What is had before it
 * is forgotten. */
uint64_t ind_window_done(struct ind_window *window, uint64_t next);
/* Records before `first` are there no more. */
void ind_window_forget(struct ind_window *window, uint64_t first);

#endif
