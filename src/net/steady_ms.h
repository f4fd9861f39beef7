/* net/steady_ms.h: spans of time by the steady clock, as the calls of sockets count them. */
#ifndef IND_NET_STEADY_MS_H
#define IND_NET_STEADY_MS_H

#include <stdint.h>
#include <time.h>

/* Milliseconds since some moment; never fewer than before. */
static inline int64_t ind_steady_ms(void)
{
    struct timespec now;
    clock_gettime(CLOCK_MONOTONIC, &now);
    return (int64_t)now.tv_sec * 1000 + now.tv_nsec / 1000000;
}

#endif
