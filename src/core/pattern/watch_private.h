/* core/pattern/watch_private.h: a walk that is watched tells each place where something did not fit. */
#ifndef IND_CORE_PATTERN_WATCH_PRIVATE_H
#define IND_CORE_PATTERN_WATCH_PRIVATE_H

#include "core/pattern/pattern_private.h"

enum { IND_WATCH_PLACES = 64 };

/* Of all places noted, those up to which most fits, each once. */
struct ind_pattern_watch {
    const struct ind_matcher *matcher;
    struct place {
        enum ind_stop_kind kind;
        uint32_t node, at, reached;
    } places[IND_WATCH_PLACES];
    size_t count;
    uint32_t most;
};

/* Some text did not fit. `reached`: how far the literal text went with it. */
void ind_watch_tell(struct ind_pattern_watch *watch, enum ind_stop_kind kind, uint32_t node, uint32_t at,
                    uint32_t reached);

/* The nearest field above a node, or 0. *loose: how many bytes the fields above took that would have taken
 * any. */
uint32_t ind_watch_field_above(const struct ind_matcher *matcher, uint32_t node, uint32_t *loose);

#endif
