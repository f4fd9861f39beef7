#include "core/condition.h"

#include "core/condition_set.h"
#include "core/header.h"
#define PCRE2_CODE_UNIT_WIDTH 8
#include <pcre2.h>
#include <stdlib.h>

/* What is asked of which field; a row is all that a new field needs here. */
#define OPS_WORDS (OP_IS | OP_CONTAINS | OP_MENTIONS | OP_STARTS | OP_ENDS | OP_MATCHES | OP_PRESENT)
#define OPS_NUMBERS (OP_AT_LEAST | OP_AT_MOST)
#define OPS_TEXT (OPS_WORDS | OPS_NUMBERS)
static const char of_severity[] = "is, is not, in, not in, at least or at most";
static const char of_facility[] = "is, is not, in or not in";
static const char of_text[] =
    "is, in, contains, mentions, starts with, ends with, matches, at least, at most, "
    "is present or is absent";
static const char of_address[] = "is, in, contains, mentions, starts with, ends with, matches, within, is "
                                 "present or is absent";
static const char of_value[] =
    "is, in, contains, mentions, starts with, ends with, matches, at least, at most, "
    "within, is present or is absent";
static const char of_pattern[] = "is, in, contains, starts with, ends with, is present or is absent";
static const char of_lag[] = "at least, at most, is present or is absent";
static const char of_time[] = "within, as in: time within 22:00-06:00";

const struct field_row ind_field_rows[IND_FIELDS] = {
    [IND_FIELD_FACILITY] = {"facility", of_facility, OP_IS, KIND_FACILITY, false},
    [IND_FIELD_SEVERITY] = {"severity", of_severity, OP_IS | OPS_NUMBERS, KIND_SEVERITY, false},
    [IND_FIELD_HOST] = {"host", of_address, OPS_WORDS | OP_WITHIN, KIND_NAME, false},
    [IND_FIELD_DEVICE] = {"device", of_address, OPS_WORDS | OP_WITHIN, KIND_NAME, false},
    [IND_FIELD_SENDER] = {"sender", of_address, OPS_WORDS | OP_WITHIN, KIND_TEXT, false},
    [IND_FIELD_LISTENER] = {"listener", of_text, OPS_TEXT, KIND_TEXT, false},
    [IND_FIELD_TRANSPORT] = {"transport", of_text, OPS_TEXT, KIND_TEXT, false},
    [IND_FIELD_APP] = {"app", of_text, OPS_TEXT, KIND_TEXT, false},
    [IND_FIELD_PROCID] = {"procid", of_text, OPS_TEXT, KIND_TEXT, false},
    [IND_FIELD_MSGID] = {"msgid", of_text, OPS_TEXT, KIND_TEXT, false},
    [IND_FIELD_TEXT] = {"text", of_text, OPS_TEXT, KIND_TEXT, false},
    [IND_FIELD_ORIGINAL] = {"original", of_text, OPS_TEXT, KIND_TEXT, false},
    [IND_FIELD_PATTERN] = {"pattern", of_pattern, OP_IS | OP_STARTS | OP_ENDS | OP_CONTAINS | OP_PRESENT,
                           KIND_TEXT, false},
    [IND_FIELD_LAG] = {"lag", of_lag, OPS_NUMBERS | OP_PRESENT, KIND_NUMBER, false},
    [IND_FIELD_LABEL] = {"label", of_value, OPS_TEXT | OP_WITHIN, KIND_TEXT, false},
    [IND_FIELD_DATA] = {"data", of_value, OPS_TEXT | OP_WITHIN, KIND_TEXT, true},
    [IND_FIELD_FIELD] = {"field", of_value, OPS_TEXT | OP_WITHIN, KIND_TEXT, true},
    [IND_FIELD_TIME] = {"time", of_time, OP_DURING, KIND_TIME, false},
    [IND_FIELD_DAY] = {"day", of_facility, OP_IS, KIND_DAY, false},
};

struct ind_slice ind_field_name(enum ind_field field)
{
    return ind_slice_of(ind_field_rows[field].name);
}

int ind_field_read(struct ind_slice name)
{
    for (int i = 0; i < IND_FIELDS; i++)
        if (ind_slice_equal(name, ind_slice_of(ind_field_rows[i].name)))
            return i;
    return -1;
}

bool ind_field_is_text(enum ind_field field)
{
    return field >= IND_FIELD_HOST && field <= IND_FIELD_ORIGINAL;
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
    case IND_FIELD_LISTENER:
        return message->listener;
    case IND_FIELD_TRANSPORT:
        return ind_transport_name(message->transport);
    case IND_FIELD_APP:
        return message->app;
    case IND_FIELD_PROCID:
        return message->procid;
    case IND_FIELD_MSGID:
        return message->msgid;
    case IND_FIELD_TEXT:
        return message->text;
    case IND_FIELD_ORIGINAL:
        return message->original;
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

struct ind_conditions *ind_conditions_new(struct ind_slice domain, const struct ind_zone *zone,
                                          const struct ind_patterns *patterns)
{
    struct ind_conditions *set = calloc(1, sizeof *set);
    if (!set)
        return NULL;
    set->zone = zone;
    set->patterns = patterns && ind_patterns_layout_count(patterns) ? patterns : NULL;
    ind_node_add(set, NODE_ALWAYS, 0, 0, 0);
    set->domain = ind_set_keep(set, domain.at, domain.length);
    if (set->out_of_memory) {
        ind_conditions_free(set);
        return NULL;
    }
    return set;
}

void ind_test_free(struct test *test)
{
    pcre2_code_free(test->regex);
    free(test->texts);
    free(test->finders);
    free(test->networks);
    free(test->spans);
}

void ind_conditions_free(struct ind_conditions *set)
{
    if (!set)
        return;
    for (size_t i = 0; i < set->test_count; i++)
        ind_test_free(&set->tests[i]);
    for (size_t i = 0; i < set->kept_count; i++)
        free(set->kept[i]);
    free(set->kept);
    free(set->tests);
    free(set->nodes);
    free(set);
}

uint32_t ind_node_add(struct ind_conditions *set, enum node_kind kind, uint32_t source, size_t at,
                      size_t length)
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
    set->nodes[set->node_count] = (struct node){
        .kind = (uint8_t)kind, .source = source, .at = (uint32_t)at, .length = (uint32_t)length};
    return (uint32_t)set->node_count++;
}

static bool same_test(const struct test *a, const struct test *b)
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

uint32_t ind_test_add(struct ind_conditions *set, struct test *test)
{
    for (size_t i = 0; i < set->test_count; i++)
        if (same_test(&set->tests[i], test)) {
            ind_test_free(test);
            return (uint32_t)i;
        }
    if (set->test_count == set->test_room) {
        size_t room = set->test_room ? set->test_room * 2 : 16;
        struct test *tests = realloc(set->tests, room * sizeof *tests);
        if (!tests) {
            ind_test_free(test);
            set->out_of_memory = true;
            return 0;
        }
        set->tests = tests;
        set->test_room = room;
    }
    set->fields |= 1u << test->field;
    set->regexes |= test->op == OP_MATCHES;
    set->tests[set->test_count] = *test;
    return (uint32_t)set->test_count++;
}

size_t ind_conditions_tests(const struct ind_conditions *set)
{
    return set->test_count;
}

bool ind_condition_holds(const struct ind_conditions *set, ind_condition condition,
                         const struct ind_message *message, struct ind_answers *answers)
{
    const struct node *node = &set->nodes[condition];
    switch (node->kind) {
    case NODE_TEST: {
        uint32_t *answer = &answers->of_test[node->test];
        if ((*answer & ~1u) != answers->round)
            *answer = answers->round | ind_test_ask(set, &set->tests[node->test], message, answers);
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
        const unsigned ops = OP_IS | OP_CONTAINS | OP_MENTIONS | OP_STARTS | OP_ENDS;
        bool literal = (test->field == IND_FIELD_TEXT || test->field == IND_FIELD_APP) && (test->op & ops) &&
                       test->count == 1 && !test->nocase;
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

struct ind_slice ind_condition_text(const struct ind_conditions *set, ind_condition condition)
{
    const struct node *node = &set->nodes[condition];
    return node->kind == NODE_ALWAYS ? IND_NOTHING
                                     : (struct ind_slice){set->kept[node->source] + node->at, node->length};
}
