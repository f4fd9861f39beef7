/* core/find/prefixes.h: which of many beginnings a run of bits has: names that start with this or that,
 * networks that hold an address.
 *
 * The beginnings are kept sorted, each knowing the longest other one that is a beginning of it; all that a
 * value has then lie on one chain, whose start one binary search finds. Made once, then only read. */
#ifndef IND_CORE_FIND_PREFIXES_H
#define IND_CORE_FIND_PREFIXES_H

#include "core/base/slice.h"

#include <stdint.h>

struct ind_prefix {
    struct ind_slice bytes; /* borrowed; bits behind `bits` are 0 */
    uint32_t bits;
    uint32_t number; /* the caller's */
    uint32_t above;  /* the longest other that is a beginning of it: index + 1; 0: none */
};

struct ind_prefixes {
    struct ind_prefix *list; /* sorted */
    uint64_t *heads;         /* the first eight bytes of each, as a number */
    size_t count;
};

/* Takes over `list` (malloc'd; no two alike), sorts it and links it. False where memory is out. */
bool ind_prefixes_make(struct ind_prefixes *prefixes, struct ind_prefix *list, size_t count);
void ind_prefixes_free(struct ind_prefixes *prefixes);

/* The longest beginning that the value has, index + 1, and from there on by `above`; 0: none. */
uint32_t ind_prefixes_find(const struct ind_prefixes *prefixes, struct ind_slice value);

#endif
