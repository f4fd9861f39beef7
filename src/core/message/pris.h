/* core/message/pris.h: sets of PRI values (RFC 5424 section 6.2.1), 0 to 191. */
#ifndef IND_CORE_MESSAGE_PRIS_H
#define IND_CORE_MESSAGE_PRIS_H

#include "core/message/names.h"

#include <stdbool.h>
#include <stdint.h>

enum { IND_PRI_WORDS = IND_PRIS / 64 };

struct ind_pris {
    uint64_t bits[IND_PRI_WORDS];
};

static inline bool ind_pris_have(const struct ind_pris *pris, unsigned pri)
{
    return pris->bits[pri / 64] >> pri % 64 & 1;
}

static inline void ind_pris_add(struct ind_pris *pris, const struct ind_pris *more)
{
    for (int i = 0; i < IND_PRI_WORDS; i++)
        pris->bits[i] |= more->bits[i];
}

#endif
