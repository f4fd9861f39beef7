/* core/find/literals_private.h: the inside of a set of literals, shared by those that make it and look with
 * it. */
#ifndef IND_CORE_FIND_LITERALS_PRIVATE_H
#define IND_CORE_FIND_LITERALS_PRIVATE_H

#include "core/base/vectors.h"
#include "core/base/word.h"
#include "core/find/literals.h"
#include "core/find/prefixes.h"

/* Two sizes of filters, so that the compiler knows them: one stays in the nearest cache, the other is for
 * thousands of literals. */
enum {
    IND_LITERAL_GROUPS = 5,
    IND_LITERAL_MOST_CHOICES = 24,
    IND_LITERAL_MOST_COMPARED = 8,
    IND_LITERAL_FEW = 4,
    IND_LITERAL_LONGEST_FOLDED = 200,
    IND_LITERAL_FEW_WIDTH = 3,
    IND_LITERAL_FEW_LITERALS = 64,
    IND_LITERAL_FEW_SHAPE = 2,
    IND_LITERAL_SMALL_BITS = 16,
    IND_LITERAL_LARGE_BITS = 20,
    IND_LITERAL_WINDOWS_IN_SMALL = 4096,
    IND_LITERAL_NOBODY = 0
};

struct ind_literal_shape {
    uint8_t shortest, width, step;
};

/* One window of one literal. */
struct ind_literal_entry {
    uint32_t literal, offset;
    uint32_t next; /* while the group is made: the next with the same value: index + 1; then, of those that
                      are told apart by a table: how many from here on have the same text behind the window */
};

/* All windows of one value. */
struct ind_literal_slot {
    uint32_t value, first; /* first entry: index + 1; IND_LITERAL_NOBODY: free */
    uint32_t count;
    uint32_t table; /* index + 1 of what tells them apart; 0: they are few */
};

struct ind_literal_group {
    struct ind_literal_shape shape;
    uint32_t mask, fold; /* of a window's bytes */
    unsigned filter_bits, slot_shift;
    uint64_t *filter;
    struct ind_literal_slot *slots;
    struct ind_literal_entry *entries;
    uint32_t entry_count;
    struct ind_prefixes *tables;
    uint32_t table_count;
    char *folded; /* the tables' texts, where case does not matter */
    bool few;
    uint8_t low[IND_LITERAL_FEW_WIDTH][16],
        high[IND_LITERAL_FEW_WIDTH][16]; /* a bit for each of eight sets, by half byte */
};

struct ind_literals {
    struct ind_slice *texts;
    bool nocase;
    unsigned group_count;
    struct ind_literal_group groups[IND_LITERAL_GROUPS];
};

static inline uint32_t hash_of(uint32_t value)
{
    return value * UINT32_C(0x9E3779B1);
}

static inline uint32_t load(const char *at, unsigned width)
{
    unsigned char bytes[4] = {0};
    memcpy(bytes, at, width);
    return bytes[0] | (uint32_t)bytes[1] << 8 | (uint32_t)bytes[2] << 16 | (uint32_t)bytes[3] << 24;
}

static inline struct ind_literal_slot *slot_of(const struct ind_literal_group *group, uint32_t value)
{
    const uint32_t last = UINT32_MAX >> group->slot_shift;
    uint32_t place = hash_of(value) >> group->slot_shift;
    while (group->slots[place].first != IND_LITERAL_NOBODY && group->slots[place].value != value)
        place = (place + 1) & last;
    return &group->slots[place];
}

#endif
