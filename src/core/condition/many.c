/* What is known of a condition for many messages at once, from what somebody knows of each test. */
#include "core/condition/condition_private.h"

enum { MOST_STEPS = 100000 };

struct asking {
    const struct ind_conditions *set;
    enum ind_verdict (*ask)(void *context, const struct ind_asked *asked);
    void *context;
    unsigned steps; /* names are gone through wherever they are used: not forever */
};

static enum ind_asked_for asked_for(const struct ind_test *test)
{
    switch (test->op) {
    case IND_OP_IS:
        return IND_ASKED_IS;
    case IND_OP_CONTAINS:
        return IND_ASKED_CONTAINS;
    case IND_OP_MENTIONS:
        return IND_ASKED_MENTIONS;
    case IND_OP_STARTS:
        return IND_ASKED_STARTS;
    case IND_OP_ENDS:
        return IND_ASKED_ENDS;
    case IND_OP_MATCHES:
        return test->needs.length ? IND_ASKED_NEEDS : IND_ASKED_OTHER;
    default:
        return IND_ASKED_OTHER;
    }
}

static enum ind_verdict of_node(struct asking *asking, uint32_t number);

static enum ind_verdict of_test(struct asking *asking, uint32_t number)
{
    const struct ind_test *test = &asking->set->tests[number];
    const bool needs = test->op == IND_OP_MATCHES;
    const struct ind_asked asked = {.test = number,
                                    .field = (enum ind_field)test->field,
                                    .op = asked_for(test),
                                    .nocase = test->nocase,
                                    .numbers = test->numbers,
                                    .texts = needs ? &test->needs : test->texts,
                                    .count = needs         ? test->needs.length > 0
                                             : test->texts ? test->count
                                                           : 0,
                                    .domain = asking->set->domain};
    return asking->ask(asking->context, &asked);
}

/* "and": no where one part is no; "or": yes where one is yes. */
static enum ind_verdict of_parts(struct asking *asking, const struct ind_condition_node *node)
{
    const bool any = node->kind == IND_CONDITION_NODE_ANY;
    const enum ind_verdict decides = any ? IND_YES : IND_NO;
    enum ind_verdict all = any ? IND_NO : IND_YES;
    for (uint32_t part = node->first; part; part = asking->set->nodes[part].next) {
        const enum ind_verdict verdict = of_node(asking, part);
        if (verdict == decides)
            return decides;
        if (verdict == IND_OPEN)
            all = IND_OPEN;
    }
    return all;
}

static enum ind_verdict of_node(struct asking *asking, uint32_t number)
{
    const struct ind_condition_node *node = &asking->set->nodes[number];
    if (++asking->steps > MOST_STEPS)
        return IND_OPEN;
    enum ind_verdict verdict = IND_YES;
    switch (node->kind) {
    case IND_CONDITION_NODE_TEST:
        return of_test(asking, node->test);
    case IND_CONDITION_NODE_NOT:
        verdict = of_node(asking, node->first);
        return verdict == IND_YES ? IND_NO : verdict == IND_NO ? IND_YES : IND_OPEN;
    case IND_CONDITION_NODE_NAME:
        return of_node(asking, node->first);
    case IND_CONDITION_NODE_ALL:
    case IND_CONDITION_NODE_ANY:
        return of_parts(asking, node);
    default:
        return IND_YES;
    }
}

enum ind_verdict ind_condition_of_many(const struct ind_conditions *set, ind_condition condition,
                                       enum ind_verdict (*ask)(void *context, const struct ind_asked *asked),
                                       void *context)
{
    struct asking asking = {set, ask, context, 0};
    return of_node(&asking, condition);
}

bool ind_asked_fits(const struct ind_conditions *set, const struct ind_asked *asked, struct ind_slice value)
{
    return value.length && ind_value_fits(set, &set->tests[asked->test], value, NULL);
}
