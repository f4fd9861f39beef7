/* What is well-formed but most likely not what was meant. */
#include "core/condition/condition_private.h"
#include "core/condition/logic.h"

/* "host is not "a" or host is not "b"": of several values of one field. */
static const struct ind_test *negated_equality(const struct ind_conditions *set, uint32_t number)
{
    const struct ind_condition_node *node = &set->nodes[number];
    if (node->kind != IND_CONDITION_NODE_NOT || set->nodes[node->first].kind != IND_CONDITION_NODE_TEST)
        return NULL;
    const struct ind_test *test = &set->tests[set->nodes[node->first].test];
    return test->op == IND_OP_IS ? test : NULL;
}

/* Where the two parts stand, if they stand in this text; otherwise all of it. */
static void place_of(const struct ind_conditions *set, uint32_t condition, const struct ind_clash *clash,
                     size_t *at, size_t *length)
{
    const struct ind_condition_node *whole = &set->nodes[condition], *a = &set->nodes[clash->a],
                                    *b = &set->nodes[clash->b];
    bool here = clash->a && a->source == whole->source && b->source == whole->source;
    *at = here ? a->at : whole->at;
    *length = here ? b->at + b->length - a->at : whole->length;
}

static void say_clash(const struct ind_conditions *set, uint32_t condition, const struct ind_clash *clash,
                      bool never, struct ind_mistake *mistake)
{
    const struct ind_test *a = clash->a ? negated_equality(set, clash->a) : NULL;
    const struct ind_test *b = clash->b ? negated_equality(set, clash->b) : NULL;
    size_t at, length;
    place_of(set, condition, clash, &at, &length);
    if (!never && a && b) {
        struct ind_slice field = ind_field_name((enum ind_field)a->field);
        ind_mistake_say(mistake, at, length, "this always holds: no message has two values of ", field,
                        "; did you mean \"", field, " not in (…)\"?");
    } else if (!never) {
        ind_mistake_say(mistake, at, length, "this always holds, whatever the message", IND_NOTHING, "",
                        IND_NOTHING, "");
    } else if (clash->a) {
        ind_mistake_say(mistake, at, length, "no message can fulfil both ", ind_condition_text(set, clash->a),
                        " and ", ind_condition_text(set, clash->b), "");
    } else {
        ind_mistake_say(mistake, at, length, "no message can fulfil this", IND_NOTHING, "", IND_NOTHING, "");
    }
}

/* Only the whole of a text is looked at: a part that never holds makes all of it doubtful or does no harm. */
static void warn_of_sense(const struct ind_conditions *set, uint32_t condition, struct ind_mistake *mistake)
{
    struct ind_clash clash;
    if (ind_condition_never(set, condition, false, &clash))
        say_clash(set, condition, &clash, true, mistake);
    else if (set->nodes[condition].kind != IND_CONDITION_NODE_ALWAYS &&
             ind_condition_never(set, condition, true, &clash))
        say_clash(set, condition, &clash, false, mistake);
}

/* The literal text of a layout that holds `text`, between two fields. */
static bool layout_has(struct ind_slice layout, struct ind_slice text)
{
    const struct ind_finder finder = ind_finder_for(text);
    for (size_t from = 0, to; from < layout.length; from = to + 1) {
        for (to = from; to < layout.length && layout.at[to] != '{' && layout.at[to] != '}'; to++)
            ;
        if (to > from && layout.at[to - (to == layout.length)] != '}' &&
            ind_find(&finder, layout.at + from, to - from))
            return true;
    }
    return false;
}

/* Words that stand in the layouts of one pattern only: anybody may write them into a text of another kind. It
 * is only said of a pattern that was tried: each layout that holds the words has an example that does. */
void ind_warn_of_text(const struct ind_conditions *set, const struct ind_condition_node *node,
                      const struct ind_test *test, const struct ind_surroundings *around,
                      struct ind_mistake *mistake)
{
    enum { SHORTEST = 8 };
    const unsigned ops = IND_OP_CONTAINS | IND_OP_MENTIONS | IND_OP_STARTS;
    if (test->field != IND_FIELD_TEXT || !(test->op & ops) || !test->texts || test->nocase ||
        test->texts[0].length < SHORTEST || !set->patterns)
        return;
    size_t count = ind_patterns_syntax_count(set->patterns), found = 0;
    uint32_t pattern = 0;
    bool tried = true;
    for (size_t i = 0; i < count && found < 2; i++) {
        const struct ind_pattern_syntax *layout = ind_patterns_syntax(set->patterns, i);
        if (!layout_has(layout->source, test->texts[0]))
            continue;
        const struct ind_finder finder = ind_finder_for(test->texts[0]);
        const struct ind_slice *example = i < around->example_count ? &around->examples[i] : NULL;
        tried &= example && example->length && ind_find(&finder, example->at, example->length);
        found += found == 0 || layout->pattern != pattern;
        pattern = layout->pattern;
    }
    if (found == 1 && tried)
        ind_mistake_say(mistake, node->at, node->length,
                        "other messages may hold this text too; the pattern \"",
                        ind_pattern_name(set->patterns, pattern), "\" is surer: pattern is \"",
                        ind_pattern_name(set->patterns, pattern), "\"");
}

/* A field that nothing gives. */
static void warn_of_field(const struct ind_conditions *set, const struct ind_condition_node *node,
                          const struct ind_test *test, struct ind_mistake *mistake)
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

static void warn_of_severity(const struct ind_condition_node *node, const struct ind_test *test,
                             struct ind_mistake *mistake)
{
    unsigned bits = test->numbers, severity = 0;
    if (test->field != IND_FIELD_SEVERITY || bits <= 1 || bits > 1u << IND_SEVERITY_WARNING ||
        (bits & (bits - 1)) != 0)
        return;
    while (bits >>= 1)
        severity++;
    ind_mistake_say(mistake, node->at, node->length, "only ", ind_severity_name(severity),
                    ", nothing worse; did you mean \"severity at least ", ind_severity_name(severity), "\"?");
}

static void warn_of_tests(const struct ind_conditions *set, uint32_t condition, struct ind_mistake *mistake)
{
    const struct ind_condition_node *node = &set->nodes[condition];
    if (node->kind == IND_CONDITION_NODE_TEST)
        warn_of_field(set, node, &set->tests[node->test], mistake);
    if (node->kind == IND_CONDITION_NODE_ANY || node->kind == IND_CONDITION_NODE_ALL)
        for (uint32_t part = node->first; part && !mistake->made; part = set->nodes[part].next)
            warn_of_tests(set, part, mistake);
    if (node->kind == IND_CONDITION_NODE_NOT)
        warn_of_tests(set, node->first, mistake);
}

bool ind_condition_warn(const struct ind_conditions *set, ind_condition condition, bool in_route,
                        struct ind_mistake *mistake)
{
    const struct ind_condition_node *node = &set->nodes[condition];
    if (node->kind == IND_CONDITION_NODE_TEST && in_route)
        warn_of_severity(node, &set->tests[node->test], mistake);
    warn_of_sense(set, condition, mistake);
    warn_of_tests(set, condition, mistake);
    return mistake->made;
}
