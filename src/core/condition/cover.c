/* Which tests must be asked first: a condition need not be looked at before one of them holds. */
#include "core/condition/condition_private.h"

enum { MOST_STEPS = 100000 };

struct covering {
    const struct ind_conditions *set;
    uint32_t *tests;
    size_t room;
    unsigned steps; /* names are gone through wherever they are used: not forever */
};

struct cover {
    size_t count;
    unsigned weight; /* how often it will be met, roughly */
};

static struct cover of_node(struct covering *covering, uint32_t number, bool negated, bool root, size_t from);

static struct cover of_test(struct covering *covering, uint32_t test, bool negated, size_t from)
{
    unsigned weight = negated ? 0 : ind_index_weight(covering->set, test);
    if (weight == 0 || from == covering->room)
        return (struct cover){0, 0};
    covering->tests[from] = test;
    return (struct cover){1, weight};
}

/* All parts must hold: any one of them will do. */
static struct cover best_of(struct covering *covering, uint32_t first, bool negated, size_t from)
{
    struct cover best = {0, 0};
    for (uint32_t part = first; part; part = covering->set->nodes[part].next) {
        struct cover cover = of_node(covering, part, negated, false, from + best.count);
        if (cover.count == 0 || (best.count > 0 && cover.weight >= best.weight))
            continue;
        uint32_t *tests = covering->tests + from;
        memmove(tests, tests + best.count, cover.count * sizeof *tests);
        best = cover;
    }
    return best;
}

static bool by_pri_alone(const struct ind_conditions *set, uint32_t number)
{
    uint64_t open = 0;
    for (int i = 0; i < IND_PRI_WORDS; i++)
        open |= ~(set->facts[number].yes[i] | set->facts[number].no[i]);
    return open == 0;
}

/* One part must hold: it may be any of them. At the root a part that PRI alone decides is no hindrance: where
 * it holds the whole condition does, by PRI alone. */
static struct cover all_of(struct covering *covering, uint32_t first, bool negated, bool root, size_t from)
{
    struct cover sum = {0, 0};
    for (uint32_t part = first; part; part = covering->set->nodes[part].next) {
        if (root && by_pri_alone(covering->set, part))
            continue;
        struct cover cover = of_node(covering, part, negated, root, from + sum.count);
        if (cover.count == 0)
            return cover;
        sum.count += cover.count;
        sum.weight += cover.weight;
    }
    return sum;
}

static struct cover of_node(struct covering *covering, uint32_t number, bool negated, bool root, size_t from)
{
    const struct ind_condition_node *node = &covering->set->nodes[number];
    if (++covering->steps > MOST_STEPS)
        return (struct cover){0, 0};
    switch (node->kind) {
    case IND_CONDITION_NODE_TEST:
        return of_test(covering, node->test, negated, from);
    case IND_CONDITION_NODE_NOT:
        return of_node(covering, node->first, !negated, root, from);
    case IND_CONDITION_NODE_NAME:
        return of_node(covering, node->first, negated, root, from);
    case IND_CONDITION_NODE_ALL:
    case IND_CONDITION_NODE_ANY:
        return (node->kind == IND_CONDITION_NODE_ANY) != negated
                   ? all_of(covering, node->first, negated, root, from)
                   : best_of(covering, node->first, negated, from);
    default:
        return (struct cover){0, 0};
    }
}

size_t ind_condition_cover(const struct ind_conditions *set, ind_condition condition, uint32_t *tests,
                           size_t room)
{
    struct covering covering = {set, tests, room, 0};
    struct cover cover = of_node(&covering, condition, false, true, 0);
    return covering.steps > MOST_STEPS ? 0 : cover.count;
}
