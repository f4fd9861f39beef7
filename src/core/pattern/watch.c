#include "core/pattern/watch_private.h"

/* Found by the ranges of the nodes above it. */
uint32_t ind_watch_field_above(const struct ind_matcher *matcher, uint32_t node, uint32_t *loose)
{
    const struct ind_patterns *set = matcher->set;
    uint32_t field = 0;
    *loose = 0;
    for (uint32_t at = 0; at != node;) {
        const struct ind_pattern_node *above = &set->nodes[at];
        if (above->type != IND_TYPES)
            field = at;
        if (above->flags & IND_PATTERN_NODE_LAZY &&
            matcher->captures[above->slot].to > matcher->captures[above->slot].from)
            *loose += matcher->captures[above->slot].to - matcher->captures[above->slot].from - 1;
        uint32_t child =
            at + 1; /* the first; brothers follow, each behind all that is below the one before */
        while (set->subtree_ends[child] <= node)
            child = set->subtree_ends[child];
        at = child;
    }
    return field;
}

/* What fits is counted without what a word or text took: it takes whatever comes. */
void ind_watch_tell(struct ind_pattern_watch *watch, enum ind_stop_kind kind, uint32_t node, uint32_t at,
                    uint32_t reached)
{
    uint32_t loose;
    (void)ind_watch_field_above(watch->matcher, node, &loose);
    uint32_t fits = reached > loose ? reached - loose : 0;
    if (fits < watch->most)
        return;
    if (fits > watch->most)
        watch->count = 0;
    watch->most = fits;
    for (size_t i = 0; i < watch->count; i++)
        if (watch->places[i].node == node && watch->places[i].kind == kind)
            return;
    if (watch->count < IND_WATCH_PLACES)
        watch->places[watch->count++] = (struct place){kind, node, at, reached};
}
