/* core/find/literals.h: many literals looked for at once, in one pass over a text.
 *
 * Of every literal a few short windows are known to a filter, so many that one of them must begin at a place
 * that is looked at though the pass looks at every fourth place only. What such a pass costs depends on the
 * text, not on how many literals there are. Made once, then only read; may be shared. */
#ifndef IND_CORE_FIND_LITERALS_H
#define IND_CORE_FIND_LITERALS_H

#include "core/base/slice.h"

#include <stdint.h>

struct ind_literals;

/* New. `texts` are borrowed with their bytes, none is empty; `nocase`: ASCII letters count alike. NULL where
 * memory is out. */
struct ind_literals *ind_literals_new(const struct ind_slice *texts, size_t count, bool nocase);
void ind_literals_free(struct ind_literals *literals);

/* Calls `found` for every place at which a literal stands (its number, and where it begins), in no order that
 * could be relied on. `found` says whether to go on. */
void ind_literals_scan(const struct ind_literals *literals, struct ind_slice text,
                       bool (*found)(void *context, uint32_t literal, const char *at), void *context);

/* Goes through a long text, from line to line say. Zeroed before the first call for a text. */
struct ind_literals_walk {
    const char *next[5]; /* what each group of literals has found ahead */
};

/* A place from `at` on, before `end`, at which one of the literals stands; NULL where there is none. It is
 * the first, but for such as overlap it. `at` never goes back in one walk. */
const char *ind_literals_next(const struct ind_literals *literals, struct ind_literals_walk *walk,
                              const char *at, const char *end);

#endif
