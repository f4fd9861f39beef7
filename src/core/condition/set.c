/* The memory of a set of conditions: its nodes, its tests (each distinct one once), its texts. */
#include "core/condition/condition_private.h"
#define XXH_INLINE_ALL
#include <stdlib.h>
#include <xxhash.h>

struct ind_slice ind_set_keep(struct ind_conditions *set, const char *at, size_t length)
{
    if (set->kept_count == set->kept_room) {
        size_t room = set->kept_room ? set->kept_room * 2 : 16;
        char **kept = realloc(set->kept, room * sizeof *kept);
        if (!kept) {
            set->out_of_memory = true;
            return IND_NOTHING;
        }
        set->kept = kept;
        set->kept_room = room;
    }
    char *text = malloc(length + 1);
    if (!text) {
        set->out_of_memory = true;
        return IND_NOTHING;
    }
    if (length)
        memcpy(text, at, length);
    text[length] = '\0';
    set->kept[set->kept_count++] = text;
    return (struct ind_slice){text, length};
}

struct ind_conditions *ind_conditions_new(struct ind_slice domain, const struct ind_zone *zone,
                                          const struct ind_patterns *patterns)
{
    struct ind_conditions *set = calloc(1, sizeof *set);
    if (!set)
        return NULL;
    set->zone = zone;
    set->patterns = patterns && ind_patterns_syntax_count(patterns) ? patterns : NULL;
    uint32_t always = ind_node_add(set, IND_CONDITION_NODE_ALWAYS, 0, 0, 0);
    if (!set->out_of_memory)
        ind_facts_settle(set, always);
    set->domain = ind_set_keep(set, domain.at, domain.length);
    if (set->out_of_memory) {
        ind_conditions_free(set);
        return NULL;
    }
    return set;
}

void ind_test_free(struct ind_test *test)
{
    ind_regex_free(test->regex);
    free(test->texts);
    free(test->finders);
    free(test->networks);
    free(test->spans);
}

void ind_conditions_free(struct ind_conditions *set)
{
    if (!set)
        return;
    ind_indexes_free(set);
    for (size_t i = 0; i < set->test_count; i++)
        ind_test_free(&set->tests[i]);
    for (size_t i = 0; i < set->kept_count; i++)
        free(set->kept[i]);
    free(set->kept);
    free(set->tests);
    free(set->test_slots);
    free(set->nodes);
    free(set->facts);
    free(set);
}

uint32_t ind_node_add(struct ind_conditions *set, enum ind_condition_node_kind kind, uint32_t source,
                      size_t at, size_t length)
{
    if (set->node_count == set->node_room) {
        size_t room = set->node_room ? set->node_room * 2 : 32;
        struct ind_condition_node *nodes = realloc(set->nodes, room * sizeof *nodes);
        set->nodes = nodes ? nodes : set->nodes;
        struct ind_condition_facts *facts = realloc(set->facts, room * sizeof *facts);
        set->facts = facts ? facts : set->facts;
        if (!nodes || !facts) {
            set->out_of_memory = true;
            return 0;
        }
        set->node_room = room;
    }
    set->facts[set->node_count] = (struct ind_condition_facts){0};
    set->nodes[set->node_count] = (struct ind_condition_node){
        .kind = (uint8_t)kind, .source = source, .at = (uint32_t)at, .length = (uint32_t)length};
    return (uint32_t)set->node_count++;
}

static bool same_test(const struct ind_test *a, const struct ind_test *b)
{
    if (a->field != b->field || a->op != b->op || a->nocase != b->nocase || a->numbers != b->numbers ||
        a->limit < b->limit || a->limit > b->limit || a->count != b->count ||
        !ind_slice_equal(a->id, b->id) || !ind_slice_equal(a->name, b->name))
        return false;
    for (size_t i = 0; i < a->count; i++) {
        if (a->texts && !ind_slice_equal(a->texts[i], b->texts[i]))
            return false;
        if (a->spans && (a->spans[i].from != b->spans[i].from || a->spans[i].to != b->spans[i].to))
            return false;
        if (a->networks && (a->networks[i].prefix != b->networks[i].prefix ||
                            !ind_address_equal(&a->networks[i].address, &b->networks[i].address)))
            return false;
    }
    return true;
}

static uint32_t hash_test(const struct ind_test *test)
{
    XXH64_state_t state;
    XXH64_reset(&state, test->field * 64u + test->op * 2u + test->nocase);
    XXH64_update(&state, &test->numbers, sizeof test->numbers);
    XXH64_update(&state, &test->limit, sizeof test->limit);
    if (test->id.length)
        XXH64_update(&state, test->id.at, test->id.length);
    if (test->name.length)
        XXH64_update(&state, test->name.at, test->name.length);
    for (size_t i = 0; test->texts && i < test->count; i++)
        XXH64_update(&state, test->texts[i].at, test->texts[i].length);
    for (size_t i = 0; test->networks && i < test->count; i++)
        XXH64_update(&state, test->networks[i].address.bytes, sizeof test->networks[i].address.bytes);
    return (uint32_t)XXH64_digest(&state);
}

/* Where the test is, or is to be. */
static uint32_t *test_slot(const struct ind_conditions *set, const struct ind_test *test)
{
    size_t last = set->test_slot_count - 1, place = test->hash & last;
    while (set->test_slots[place]) {
        const struct ind_test *other = &set->tests[set->test_slots[place] - 1];
        if (other->hash == test->hash && same_test(other, test))
            break;
        place = (place + 1) & last;
    }
    return &set->test_slots[place];
}

static bool more_tests(struct ind_conditions *set)
{
    size_t room = set->test_room ? set->test_room * 2 : 16;
    struct ind_test *tests = realloc(set->tests, room * sizeof *tests);
    if (!tests)
        return false;
    set->tests = tests;
    uint32_t *slots = calloc(room * 2, sizeof *slots);
    if (!slots)
        return false;
    set->test_room = room;
    free(set->test_slots);
    set->test_slots = slots;
    set->test_slot_count = room * 2;
    for (size_t i = 0; i < set->test_count; i++)
        *test_slot(set, &set->tests[i]) = (uint32_t)i + 1;
    return true;
}

uint32_t ind_test_add(struct ind_conditions *set, struct ind_test *test)
{
    if (set->test_count == set->test_room && !more_tests(set)) {
        ind_test_free(test);
        set->out_of_memory = true;
        return 0;
    }
    test->hash = hash_test(test);
    uint32_t *slot = test_slot(set, test);
    if (*slot) {
        ind_test_free(test);
        return *slot - 1;
    }
    set->fields |= 1u << test->field;
    set->regexes |= test->op == IND_OP_MATCHES;
    set->tests[set->test_count++] = *test;
    *slot = (uint32_t)set->test_count;
    return *slot - 1;
}

size_t ind_conditions_tests(const struct ind_conditions *set)
{
    return set->test_count;
}

struct ind_slice ind_condition_text(const struct ind_conditions *set, ind_condition condition)
{
    const struct ind_condition_node *node = &set->nodes[condition];
    return node->kind == IND_CONDITION_NODE_ALWAYS
               ? IND_NOTHING
               : (struct ind_slice){set->kept[node->source] + node->at, node->length};
}
