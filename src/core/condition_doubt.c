/* What is well-formed but most likely not what was meant. */
#include "core/condition_set.h"

/* "not F is A" and "not F is B" with nothing in common: one of the two always holds. */
static bool excludes(const struct ind_conditions *set, const struct node *a, const struct node *b)
{
    if (a->kind != NODE_NOT || b->kind != NODE_NOT)
        return false;
    const struct node *in_a = &set->nodes[a->first], *in_b = &set->nodes[b->first];
    if (in_a->kind != NODE_TEST || in_b->kind != NODE_TEST)
        return false;
    const struct test *x = &set->tests[in_a->test], *y = &set->tests[in_b->test];
    if (x->field != y->field || x->op != OP_IS || y->op != OP_IS || x->numbers & y->numbers ||
        ind_field_rows[x->field].several || !ind_slice_equal(x->name, y->name))
        return false;
    for (size_t i = 0; i < x->count; i++)
        for (size_t j = 0; j < y->count; j++)
            if (ind_slice_equal_nocase(x->texts[i], y->texts[j]))
                return false;
    return true;
}

static void doubt_any(const struct ind_conditions *set, const struct node *node, struct ind_mistake *mistake)
{
    for (uint32_t a = node->first; a; a = set->nodes[a].next)
        for (uint32_t b = set->nodes[a].next; b; b = set->nodes[b].next)
            if (excludes(set, &set->nodes[a], &set->nodes[b])) {
                const struct node *from = &set->nodes[a], *to = &set->nodes[b];
                const struct test *test = &set->tests[set->nodes[from->first].test];
                struct ind_slice field = ind_field_name(test->field);
                ind_mistake_say(mistake, from->at, to->at + to->length - from->at,
                                "this always holds: no message has two values of ", field,
                                "; did you mean \"", field, " not in (…)\"?");
                return;
            }
}

/* A field that nothing gives. */
static void doubt_field(const struct ind_conditions *set, const struct node *node, const struct test *test,
                        struct ind_mistake *mistake)
{
    const char *near = NULL;
    if (test->field != IND_FIELD_FIELD ||
        (set->patterns && ind_patterns_give(set->patterns, test->name, &near)))
        return;
    if (near)
        ind_mistake_say(mistake, node->at, node->length, "no pattern gives the field \"", test->name,
                        "\"; did you mean \"", ind_slice_of(near), "\"?");
    else if (ind_payload_may_give(test->name, &near))
        return;
    if (near)
        ind_mistake_say(mistake, node->at, node->length, "no payload gives the field \"", test->name,
                        "\"; did you mean \"", ind_slice_of(near), "\"?");
    else
        ind_mistake_say(mistake, node->at, node->length, "no payload gives the field \"", test->name,
                        "\": this is never true; see docs/conditions.md for the names", IND_NOTHING, "");
}

bool ind_condition_doubt(const struct ind_conditions *set, ind_condition condition, bool in_route,
                         struct ind_mistake *mistake)
{
    const struct node *node = &set->nodes[condition];
    if (node->kind == NODE_TEST && in_route) {
        const struct test *test = &set->tests[node->test];
        unsigned bits = test->numbers;
        if (test->field == IND_FIELD_SEVERITY && bits > 1 && bits <= 1u << IND_SEVERITY_WARNING &&
            (bits & (bits - 1)) == 0) {
            unsigned severity = 0;
            while (bits >>= 1)
                severity++;
            ind_mistake_say(mistake, node->at, node->length, "only ", ind_severity_name(severity),
                            ", nothing worse; did you mean \"severity at least ", ind_severity_name(severity),
                            "\"?");
        }
    }
    if (node->kind == NODE_TEST)
        doubt_field(set, node, &set->tests[node->test], mistake);
    if (node->kind == NODE_ANY)
        doubt_any(set, node, mistake);
    if (node->kind == NODE_ANY || node->kind == NODE_ALL)
        for (uint32_t part = node->first; part && !mistake->made; part = set->nodes[part].next)
            (void)ind_condition_doubt(set, part, false, mistake);
    if (node->kind == NODE_NOT)
        (void)ind_condition_doubt(set, node->first, false, mistake);
    return mistake->made;
}
