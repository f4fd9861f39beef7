/* bench/measure.h: what the benchmarks share. */
#ifndef IND_BENCH_MEASURE_H
#define IND_BENCH_MEASURE_H

#include <time.h>

/* Seconds on a clock that only goes forward. */
static inline double now(void)
{
    struct timespec time;
    clock_gettime(CLOCK_MONOTONIC, &time);
    return (double)time.tv_sec + (double)time.tv_nsec / 1e9;
}

#endif
