/* net/waker.h: wakes a thread that waits for descriptors. */
#ifndef IND_NET_WAKER_H
#define IND_NET_WAKER_H

#include <stdbool.h>

struct ind_waker {
    int read_end, write_end; /* the loop waits for read_end to become readable; -1: not open */
};

#define IND_WAKER_CLOSED ((struct ind_waker){-1, -1})

/* False with errno set. */
bool ind_waker_open(struct ind_waker *waker);
void ind_waker_close(struct ind_waker *waker);

/* Any thread; never waits. Many wakes before the thread looks are one. */
void ind_waker_wake(const struct ind_waker *waker);
/* The woken thread, before it looks at what it was woken for. */
void ind_waker_drain(const struct ind_waker *waker);

#endif
