#include "core/condition.h"

#include "core/condition_set.h"
#include "core/device.h"
#include <stdlib.h>

const char *const ind_field_names[IND_FIELDS] = {"facility", "severity", "host", "device",
                                                 "sender",   "app",      "text"};

struct ind_slice ind_field_name(enum ind_field field)
{
    return ind_slice_of(ind_field_names[field]);
}

int ind_field_read(struct ind_slice name)
{
    for (int i = 0; i < IND_FIELDS; i++)
        if (ind_slice_equal(name, ind_slice_of(ind_field_names[i])))
            return i;
    return -1;
}

struct ind_slice ind_field_text(const struct ind_message *message, enum ind_field field)
{
    switch (field) {
    case IND_FIELD_HOST:
        return message->host;
    case IND_FIELD_DEVICE:
        return message->device;
    case IND_FIELD_SENDER:
        return message->sender;
    case IND_FIELD_APP:
        return message->app;
    case IND_FIELD_TEXT:
        return message->text;
    default:
        return IND_NOTHING;
    }
}

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

struct ind_conditions *ind_conditions_new(struct ind_slice domain)
{
    struct ind_conditions *set = calloc(1, sizeof *set);
    if (!set)
        return NULL;
    ind_node_add(set, NODE_ALWAYS, 0, 0);
    set->domain = ind_set_keep(set, domain.at, domain.length);
    if (set->out_of_memory) {
        ind_conditions_free(set);
        return NULL;
    }
    return set;
}

static void test_free(struct test *test)
{
    free(test->texts);
    free(test->finders);
    free(test->networks);
}

void ind_conditions_free(struct ind_conditions *set)
{
    if (!set)
        return;
    for (size_t i = 0; i < set->test_count; i++)
        test_free(&set->tests[i]);
    for (size_t i = 0; i < set->kept_count; i++)
        free(set->kept[i]);
    free(set->kept);
    free(set->tests);
    free(set->nodes);
    free(set);
}

uint32_t ind_node_add(struct ind_conditions *set, enum node_kind kind, size_t at, size_t length)
{
    if (set->node_count == set->node_room) {
        size_t room = set->node_room ? set->node_room * 2 : 32;
        struct node *nodes = realloc(set->nodes, room * sizeof *nodes);
        if (!nodes) {
            set->out_of_memory = true;
            return 0;
        }
        set->nodes = nodes;
        set->node_room = room;
    }
    set->nodes[set->node_count] = (struct node){(uint8_t)kind, 0, 0, 0, (uint32_t)at, (uint32_t)length};
    return (uint32_t)set->node_count++;
}

static bool same_test(const struct test *a, const struct test *b)
{
    if (a->field != b->field || a->op != b->op || a->numbers != b->numbers || a->count != b->count)
        return false;
    for (size_t i = 0; i < a->count; i++) {
        if (a->texts && !ind_slice_equal(a->texts[i], b->texts[i]))
            return false;
        if (a->networks && (a->networks[i].prefix != b->networks[i].prefix ||
                            !ind_address_equal(&a->networks[i].address, &b->networks[i].address)))
            return false;
    }
    return true;
}

uint32_t ind_test_add(struct ind_conditions *set, struct test *test)
{
    for (size_t i = 0; i < set->test_count; i++)
        if (same_test(&set->tests[i], test)) {
            test_free(test);
            return (uint32_t)i;
        }
    if (set->test_count == set->test_room) {
        size_t room = set->test_room ? set->test_room * 2 : 16;
        struct test *tests = realloc(set->tests, room * sizeof *tests);
        if (!tests) {
            test_free(test);
            set->out_of_memory = true;
            return 0;
        }
        set->tests = tests;
        set->test_room = room;
    }
    set->tests[set->test_count] = *test;
    return (uint32_t)set->test_count++;
}

size_t ind_conditions_tests(const struct ind_conditions *set)
{
    return set->test_count;
}

/* Names of hosts and devices ignore case and the domain; all else is compared byte by byte. */
static bool is_name(unsigned field)
{
    return field == IND_FIELD_HOST || field == IND_FIELD_DEVICE;
}

static bool contains_nocase(struct ind_slice whole, struct ind_slice part)
{
    for (; whole.length >= part.length; whole = ind_slice_from(whole, 1)) {
        if (ind_slice_starts_nocase(whole, part))
            return true;
        if (whole.length == 0)
            break;
    }
    return false;
}

static bool value_fits(const struct ind_conditions *set, const struct test *test, size_t i,
                       struct ind_slice value)
{
    struct ind_slice wanted = test->texts[i];
    bool name = is_name(test->field);
    switch (test->op) {
    case OP_IS:
        return name ? ind_slice_equal_nocase(ind_without_domain(value, set->domain),
                                             ind_without_domain(wanted, set->domain))
                    : ind_slice_equal(value, wanted);
    case OP_STARTS:
        return name ? ind_slice_starts_nocase(value, wanted) : ind_slice_starts(value, wanted);
    default:
        if (wanted.length == 0)
            return true;
        return name ? contains_nocase(value, wanted)
                    : ind_find(&test->finders[i], value.at, value.length) != NULL;
    }
}

static bool within(const struct test *test, struct ind_slice value)
{
    struct ind_address address;
    if (!ind_address_read(value, &address))
        return false;
    for (size_t i = 0; i < test->count; i++)
        if (ind_network_holds(&test->networks[i], &address))
            return true;
    return false;
}

static bool ask(const struct ind_conditions *set, const struct test *test, const struct ind_message *message)
{
    if (test->field == IND_FIELD_FACILITY)
        return (test->numbers >> message->facility & 1) != 0;
    if (test->field == IND_FIELD_SEVERITY)
        return (test->numbers >> message->severity & 1) != 0;
    struct ind_slice value = ind_field_text(message, test->field);
    if (value.length == 0)
        return false;
    if (test->op == OP_WITHIN)
        return within(test, value);
    for (size_t i = 0; i < test->count; i++)
        if (value_fits(set, test, i, value))
            return true;
    return false;
}

bool ind_condition_holds(const struct ind_conditions *set, ind_condition condition,
                         const struct ind_message *message, struct ind_answers *answers)
{
    const struct node *node = &set->nodes[condition];
    switch (node->kind) {
    case NODE_TEST: {
        uint32_t *answer = &answers->of_test[node->test];
        if ((*answer & ~1u) != answers->round)
            *answer = answers->round | ask(set, &set->tests[node->test], message);
        return *answer & 1;
    }
    case NODE_NOT:
        return !ind_condition_holds(set, node->first, message, answers);
    case NODE_NAME:
        return ind_condition_holds(set, node->first, message, answers);
    case NODE_ALL:
    case NODE_ANY:
        for (uint32_t part = node->first; part; part = set->nodes[part].next)
            if (ind_condition_holds(set, part, message, answers) == (node->kind == NODE_ANY))
                return node->kind == NODE_ANY;
        return node->kind == NODE_ALL;
    default:
        return true;
    }
}

enum ind_verdict ind_condition_by_pri(const struct ind_conditions *set, ind_condition condition,
                                      unsigned facility, unsigned severity)
{
    const struct node *node = &set->nodes[condition];
    switch (node->kind) {
    case NODE_TEST: {
        const struct test *test = &set->tests[node->test];
        if (test->field == IND_FIELD_FACILITY)
            return test->numbers >> facility & 1 ? IND_YES : IND_NO;
        if (test->field == IND_FIELD_SEVERITY)
            return test->numbers >> severity & 1 ? IND_YES : IND_NO;
        return IND_OPEN;
    }
    case NODE_NOT: {
        enum ind_verdict inner = ind_condition_by_pri(set, node->first, facility, severity);
        return inner == IND_OPEN ? IND_OPEN : inner == IND_YES ? IND_NO : IND_YES;
    }
    case NODE_NAME:
        return ind_condition_by_pri(set, node->first, facility, severity);
    case NODE_ALL:
    case NODE_ANY: {
        enum ind_verdict decides = node->kind == NODE_ANY ? IND_YES : IND_NO;
        enum ind_verdict sum = node->kind == NODE_ANY ? IND_NO : IND_YES;
        for (uint32_t part = node->first; part; part = set->nodes[part].next) {
            enum ind_verdict verdict = ind_condition_by_pri(set, part, facility, severity);
            if (verdict == decides)
                return decides;
            if (verdict == IND_OPEN)
                sum = IND_OPEN;
        }
        return sum;
    }
    default:
        return IND_YES;
    }
}

unsigned ind_condition_fields(const struct ind_conditions *set, ind_condition condition)
{
    const struct node *node = &set->nodes[condition];
    if (node->kind == NODE_TEST)
        return 1u << set->tests[node->test].field;
    unsigned fields = 0;
    uint32_t part = node->kind == NODE_ALWAYS ? 0 : node->first;
    for (; part; part = node->kind == NODE_ALL || node->kind == NODE_ANY ? set->nodes[part].next : 0)
        fields |= ind_condition_fields(set, part);
    return fields;
}

struct ind_slice ind_condition_literal(const struct ind_conditions *set, ind_condition condition)
{
    const struct node *node = &set->nodes[condition];
    if (node->kind == NODE_NAME)
        return ind_condition_literal(set, node->first);
    if (node->kind == NODE_TEST) {
        const struct test *test = &set->tests[node->test];
        bool literal = (test->field == IND_FIELD_TEXT || test->field == IND_FIELD_APP) &&
                       test->op != OP_WITHIN && test->count == 1;
        return literal ? test->texts[0] : IND_NOTHING;
    }
    struct ind_slice longest = IND_NOTHING;
    if (node->kind == NODE_ALL)
        for (uint32_t part = node->first; part; part = set->nodes[part].next) {
            struct ind_slice literal = ind_condition_literal(set, part);
            if (literal.length > longest.length)
                longest = literal;
        }
    return longest;
}

/* "not F is A" and "not F is B" with nothing in common: one of the two always holds. */
static bool excludes(const struct ind_conditions *set, const struct node *a, const struct node *b)
{
    if (a->kind != NODE_NOT || b->kind != NODE_NOT)
        return false;
    const struct node *in_a = &set->nodes[a->first], *in_b = &set->nodes[b->first];
    if (in_a->kind != NODE_TEST || in_b->kind != NODE_TEST)
        return false;
    const struct test *x = &set->tests[in_a->test], *y = &set->tests[in_b->test];
    if (x->field != y->field || x->op != OP_IS || y->op != OP_IS || x->numbers & y->numbers)
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
    if (node->kind == NODE_ANY)
        doubt_any(set, node, mistake);
    if (node->kind == NODE_ANY || node->kind == NODE_ALL)
        for (uint32_t part = node->first; part && !mistake->made; part = set->nodes[part].next)
            (void)ind_condition_doubt(set, part, false, mistake);
    return mistake->made;
}
