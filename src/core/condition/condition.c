#include "core/condition/condition.h"

#include "core/condition/condition_private.h"
#include "core/message/header.h"
#define XXH_INLINE_ALL
#include <stdlib.h>
#include <xxhash.h>

static IND_INLINE bool test_holds(const struct ind_conditions *set, uint32_t number,
                                  const struct ind_message *message, struct ind_answers *answers)
{
    uint32_t *answer = &answers->of_test[number];
    if ((*answer & ~1u) == answers->round)
        return *answer & 1;
    uint32_t index = number < set->indexed ? set->index_of[number] : 0;
    if (index == 0) {
        *answer = answers->round | ind_test_ask(set, &set->tests[number], message, answers);
    } else {
        if (answers->looked[index - 1] != answers->round)
            ind_index_look(set, index - 1, message, answers);
        if ((*answer & ~1u) != answers->round)
            *answer = answers->round; /* what an index does not find does not hold */
    }
    return *answer & 1;
}

bool ind_condition_holds(const struct ind_conditions *set, ind_condition condition,
                         const struct ind_message *message, struct ind_answers *answers)
{
    const struct ind_condition_node *node = &set->nodes[condition];
    switch (node->kind) {
    case IND_CONDITION_NODE_TEST:
        return test_holds(set, node->test, message, answers);
    case IND_CONDITION_NODE_NOT:
        return !ind_condition_holds(set, node->first, message, answers);
    case IND_CONDITION_NODE_NAME: {
        uint32_t *answer = &answers->of_name[node->test];
        if ((*answer & ~1u) != answers->round)
            *answer = answers->round | ind_condition_holds(set, node->first, message, answers);
        return *answer & 1;
    }
    case IND_CONDITION_NODE_ALL:
    case IND_CONDITION_NODE_ANY:
        for (uint32_t part = node->first; part; part = set->nodes[part].next)
            if (ind_condition_holds(set, part, message, answers) == (node->kind == IND_CONDITION_NODE_ANY))
                return node->kind == IND_CONDITION_NODE_ANY;
        return node->kind == IND_CONDITION_NODE_ALL;
    default:
        return true;
    }
}
