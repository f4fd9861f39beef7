/* core/archive/index_private.h: how an index lies in its bytes (docs/archive-format.md). */
#ifndef IND_CORE_ARCHIVE_INDEX_PRIVATE_H
#define IND_CORE_ARCHIVE_INDEX_PRIVATE_H

#include "core/archive/index.h"

#include <string.h>

/* "IndX", version; frames; text, lines; devices. */
enum { IND_INDEX_HEAD = 4 + 4 + 4 + 4 + 8 + 8, IND_INDEX_FRAME = 44, IND_INDEX_VERSION = 1 };
#define IND_INDEX_BEGINS "IndX"
#define IND_INDEX_ENDS "XdnI"

/* Flags of a frame, beside what is known of its lines. */
enum { IND_INDEX_DEVICES_AS_KEYS = 16 };

static inline void ind_put(char *at, size_t bytes, uint64_t number)
{
    for (size_t i = 0; i < bytes; i++)
        at[i] = (char)(number >> (8 * i));
}

static inline uint64_t ind_get(const char *at, size_t bytes)
{
    uint64_t number = 0;
    for (size_t i = 0; i < bytes; i++)
        number |= (uint64_t)(unsigned char)at[i] << (8 * i);
    return number;
}

/* The bits of a filter that stand for a key, one after the other. *state begins as the key, or 1 for 0. */
static inline uint32_t ind_index_bit(uint64_t *state, uint32_t bits)
{
    *state *= UINT64_C(0x9E3779B97F4A7C15);
    return (uint32_t)((*state >> 32) * bits >> 32);
}

#endif
