/* core/find/find.h: a literal in a run of bytes, as fast as memory allows. */
#ifndef IND_CORE_FIND_FIND_H
#define IND_CORE_FIND_FIND_H

#include "core/base/slice.h"

struct ind_finder {
    struct ind_slice literal; /* borrowed */
    size_t first, second;     /* places in it of the two bytes that are rarest in logs */
};

/* How common a byte is in logs, roughly: 0 rare, 255 common. */
unsigned ind_byte_commonness(unsigned char c);

/* `literal` is borrowed and not empty. */
struct ind_finder ind_finder_for(struct ind_slice literal);

/* The first place of the literal, or NULL. */
const char *ind_find(const struct ind_finder *finder, const char *at, size_t length);

#endif
