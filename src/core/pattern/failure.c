/* Where a walk failed: a table that is emptied by counting up a round, and whose memory is bounded. */
#include "core/pattern/pattern_private.h"

#include <stdlib.h>

enum { FIRST_FAILURES = 64, MOST_FAILURES = 1 << 16 };

bool ind_failures_begin(struct ind_matcher *matcher)
{
    matcher->failure_room = FIRST_FAILURES;
    matcher->failures = calloc(matcher->failure_room, sizeof *matcher->failures);
    return matcher->failures != NULL;
}

static struct ind_pattern_failure *failure_at(struct ind_pattern_failure *table, size_t room, uint32_t node,
                                              uint32_t place, uint32_t round)
{
    uint64_t hash = ((uint64_t)node << 32 | place) * UINT64_C(0x9E3779B97F4A7C15);
    for (size_t slot = hash >> 40;; slot++) {
        struct ind_pattern_failure *failure = &table[slot & (room - 1)];
        if (failure->round != round || (failure->node == node && failure->place == place))
            return failure;
    }
}

struct ind_pattern_failure *ind_failure_find(struct ind_matcher *matcher, uint32_t node, uint32_t place)
{
    return failure_at(matcher->failures, matcher->failure_room, node, place, matcher->round);
}

/* Twice the room; where memory is out the table is forgotten, which costs steps and no more. */
static IND_COLD void grow_failures(struct ind_matcher *matcher)
{
    size_t room = matcher->failure_room * 2;
    struct ind_pattern_failure *grown = calloc(room, sizeof *grown);
    matcher->failure_count = 0;
    if (grown) {
        for (size_t i = 0; i < matcher->failure_room; i++) {
            const struct ind_pattern_failure *old = &matcher->failures[i];
            if (old->round != matcher->round)
                continue;
            *failure_at(grown, room, old->node, old->place, matcher->round) = *old;
            matcher->failure_count++;
        }
        free(matcher->failures);
        matcher->failures = grown;
        matcher->failure_room = room;
    } else {
        memset(matcher->failures, 0, matcher->failure_room * sizeof *matcher->failures);
    }
}

void ind_failure_add(struct ind_matcher *matcher, uint32_t node, uint32_t place, uint32_t from)
{
    if (2 * matcher->failure_count >= matcher->failure_room) {
        if (matcher->failure_room >= MOST_FAILURES)
            return; /* memory is bounded too; what is not remembered costs steps, which are */
        grow_failures(matcher);
    }
    struct ind_pattern_failure *failure = ind_failure_find(matcher, node, place);
    if (failure->round != matcher->round)
        matcher->failure_count++;
    else if (failure->from < from)
        return;
    *failure = (struct ind_pattern_failure){node, place, from, matcher->round};
}

void ind_failures_forget(struct ind_matcher *matcher)
{
    matcher->failure_count = 0;
    if (++matcher->round == 0) {
        memset(matcher->failures, 0, matcher->failure_room * sizeof *matcher->failures);
        matcher->round = 1;
    }
}
