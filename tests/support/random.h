/* tests/support/random.h: numbers that look random, and are the same every time. */
#ifndef IND_TESTS_RANDOM_H
#define IND_TESTS_RANDOM_H

#include <stdint.h>

enum { IND_RANDOM_START = 88172645 };

/* From 0 on, below `below`. *state begins as IND_RANDOM_START. */
static inline unsigned ind_random(uint64_t *state, unsigned below)
{
    *state ^= *state << 13;
    *state ^= *state >> 7;
    *state ^= *state << 17;
    return (unsigned)((*state >> 20) % below);
}

#endif
