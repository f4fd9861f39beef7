#include "core/find/prefixes.h"

#include <stdlib.h>

static uint64_t head_of(struct ind_slice bytes)
{
    uint64_t head = 0;
#if defined(__GNUC__) && __BYTE_ORDER__ == __ORDER_LITTLE_ENDIAN__
    if (bytes.length >= 8) {
        memcpy(&head, bytes.at, sizeof head);
        return __builtin_bswap64(head);
    }
#endif
    for (size_t i = 0; i < 8; i++)
        head = head << 8 | (i < bytes.length ? (unsigned char)bytes.at[i] : 0u);
    return head;
}

static int compare(const void *a, const void *b)
{
    const struct ind_prefix *x = a, *y = b;
    int order = ind_slice_compare(x->bytes, y->bytes);
    return order ? order : (x->bits > y->bits) - (x->bits < y->bits);
}

static bool begins(const struct ind_prefix *prefix, struct ind_slice value)
{
    size_t whole = prefix->bits / 8;
    unsigned rest = prefix->bits % 8;
    if (value.length < whole + (rest > 0) || (whole && memcmp(value.at, prefix->bytes.at, whole) != 0))
        return false;
    return rest == 0 ||
           ((unsigned char)value.at[whole] ^ (unsigned char)prefix->bytes.at[whole]) >> (8 - rest) == 0;
}

bool ind_prefixes_make(struct ind_prefixes *prefixes, struct ind_prefix *list, size_t count)
{
    *prefixes = (struct ind_prefixes){list, malloc((count ? count : 1) * sizeof(uint64_t)), count};
    if (!prefixes->heads)
        return false;
    qsort(list, count, sizeof *list, compare);
    for (size_t i = 0; i < count; i++) {
        prefixes->heads[i] = head_of(list[i].bytes);
        uint32_t above = (uint32_t)i; /* the one before, or one that is above it */
        while (above && (list[above - 1].bits >= list[i].bits || !begins(&list[above - 1], list[i].bytes)))
            above = list[above - 1].above;
        list[i].above = above;
    }
    return true;
}

void ind_prefixes_free(struct ind_prefixes *prefixes)
{
    free(prefixes->list);
    free(prefixes->heads);
    *prefixes = (struct ind_prefixes){0};
}

/* How many of the sorted heads are below `head`. How many steps there are does not depend on what the heads
 * are, and no branch does. */
static size_t count_below(const uint64_t *heads, size_t count, uint64_t head)
{
    size_t from = 0;
    while (count > 0) {
        const size_t half = (count + 1) / 2;
        from += heads[from + half - 1] < head ? half : 0;
        count -= half;
    }
    return from;
}

/* The last that does not come behind the value in their order. All beginnings of the value are on its chain:
 * the longest of them does not come behind the value either, and whatever lies between those two begins with
 * it. */
static uint32_t last_before(const struct ind_prefixes *prefixes, struct ind_slice value)
{
    const uint64_t head = head_of(value);
    size_t from = count_below(prefixes->heads, prefixes->count, head);
    if (from == prefixes->count || prefixes->heads[from] != head)
        return (uint32_t)from;
    /* Among those of the same head the rest of the bytes tells. */
    size_t count = prefixes->count - from;
    if (head != UINT64_MAX)
        count = count_below(prefixes->heads + from, count, head + 1);
    while (count > 0) {
        const size_t half = count / 2, middle = from + half;
        const bool behind = ind_slice_compare(prefixes->list[middle].bytes, value) > 0;
        from = behind ? from : middle + 1;
        count = behind ? half : count - half - 1;
    }
    return (uint32_t)from;
}

uint32_t ind_prefixes_find(const struct ind_prefixes *prefixes, struct ind_slice value)
{
    uint32_t place = last_before(prefixes, value);
    while (place && !begins(&prefixes->list[place - 1], value))
        place = prefixes->list[place - 1].above;
    return place;
}
