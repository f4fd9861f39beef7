/* What is known of a condition without a message. */
#include "core/condition/condition_private.h"

enum { MOST_STEPS = 100000 };

static void set_all(uint64_t bits[IND_PRI_WORDS], uint64_t value)
{
    for (int i = 0; i < IND_PRI_WORDS; i++)
        bits[i] = value;
}

static void of_test(const struct ind_test *test, struct ind_condition_facts *facts)
{
    facts->fields = 1u << test->field;
    if (test->field != IND_FIELD_FACILITY && test->field != IND_FIELD_SEVERITY)
        return;
    for (unsigned pri = 0; pri < IND_PRIS; pri++) {
        unsigned value = test->field == IND_FIELD_FACILITY ? pri / 8 : pri % 8;
        uint64_t *bits = test->numbers >> value & 1 ? facts->yes : facts->no;
        bits[pri / 64] |= UINT64_C(1) << pri % 64;
    }
}

/* Parts joined by "and" hold where all do, and fail where one does; by "or" it is the other way round. */
static void join(struct ind_condition_facts *facts, const struct ind_condition_facts *part, bool any)
{
    uint64_t *both = any ? facts->no : facts->yes, *one = any ? facts->yes : facts->no;
    const uint64_t *part_both = any ? part->no : part->yes, *part_one = any ? part->yes : part->no;
    for (int i = 0; i < IND_PRI_WORDS; i++) {
        both[i] &= part_both[i];
        one[i] |= part_one[i];
    }
    facts->fields |= part->fields;
}

/* No deeper than one text may be nested: names have been settled when they were read. */
void ind_facts_settle(struct ind_conditions *set, uint32_t number)
{
    const struct ind_condition_node *node = &set->nodes[number];
    struct ind_condition_facts facts = {.name = set->facts[number].name};
    switch (node->kind) {
    case IND_CONDITION_NODE_TEST:
        of_test(&set->tests[node->test], &facts);
        break;
    case IND_CONDITION_NODE_NOT:
        ind_facts_settle(set, node->first);
        memcpy(facts.yes, set->facts[node->first].no, sizeof facts.yes);
        memcpy(facts.no, set->facts[node->first].yes, sizeof facts.no);
        facts.fields = set->facts[node->first].fields;
        break;
    case IND_CONDITION_NODE_NAME:
        memcpy(facts.yes, set->facts[node->first].yes, sizeof facts.yes);
        memcpy(facts.no, set->facts[node->first].no, sizeof facts.no);
        facts.fields = set->facts[node->first].fields;
        break;
    case IND_CONDITION_NODE_ALL:
    case IND_CONDITION_NODE_ANY:
        set_all(node->kind == IND_CONDITION_NODE_ALL ? facts.yes : facts.no, UINT64_MAX);
        for (uint32_t part = node->first; part; part = set->nodes[part].next) {
            ind_facts_settle(set, part);
            join(&facts, &set->facts[part], node->kind == IND_CONDITION_NODE_ANY);
        }
        break;
    default:
        set_all(facts.yes, UINT64_MAX);
        break;
    }
    set->facts[number] = facts;
}

enum ind_verdict ind_condition_by_pri(const struct ind_conditions *set, ind_condition condition,
                                      unsigned facility, unsigned severity)
{
    const struct ind_condition_facts *facts = &set->facts[condition];
    unsigned pri = facility * 8 + severity;
    return facts->yes[pri / 64] >> pri % 64 & 1  ? IND_YES
           : facts->no[pri / 64] >> pri % 64 & 1 ? IND_NO
                                                 : IND_OPEN;
}

void ind_condition_pris(const struct ind_conditions *set, ind_condition condition, struct ind_pris *pris)
{
    for (int i = 0; i < IND_PRI_WORDS; i++)
        pris->bits[i] |= ~set->facts[condition].no[i];
}

unsigned ind_condition_fields(const struct ind_conditions *set, ind_condition condition)
{
    return set->facts[condition].fields;
}

/* ---- Literals ---- */

struct gathering {
    const struct ind_conditions *set;
    struct ind_slice *list;
    size_t room;
    unsigned steps; /* names are gone through wherever they are used: not forever */
};

static size_t of_node(struct gathering *gathering, uint32_t number, size_t from);

/* The texts of a test that stand in the text or the app as they are. */
static size_t texts_of(struct gathering *gathering, const struct ind_test *test, size_t from)
{
    if (test->op == IND_OP_MATCHES && test->needs.length &&
        (test->field == IND_FIELD_TEXT || test->field == IND_FIELD_APP) && from < gathering->room) {
        gathering->list[from] = test->needs;
        return 1;
    }
    const unsigned ops = IND_OP_IS | IND_OP_CONTAINS | IND_OP_MENTIONS | IND_OP_STARTS | IND_OP_ENDS;
    bool literal =
        (test->field == IND_FIELD_TEXT || test->field == IND_FIELD_APP) && (test->op & ops) && !test->nocase;
    if (!literal || from + test->count > gathering->room)
        return 0;
    for (size_t i = 0; i < test->count; i++)
        gathering->list[from + i] = test->texts[i];
    return test->count;
}

static size_t shortest(const struct ind_slice *list, size_t count)
{
    size_t least = list[0].length;
    for (size_t i = 1; i < count; i++)
        least = list[i].length < least ? list[i].length : least;
    return least;
}

/* Of several parts that all must hold, the one whose literals are the best to look for. */
static size_t best_of(struct gathering *gathering, uint32_t first, size_t from)
{
    size_t best = 0;
    for (uint32_t part = first; part; part = gathering->set->nodes[part].next) {
        size_t count = of_node(gathering, part, from + best);
        struct ind_slice *list = gathering->list + from;
        bool better = count > 0 && (best == 0 || count < best ||
                                    (count == best && shortest(list + best, count) > shortest(list, best)));
        if (better) {
            memmove(list, list + best, count * sizeof *list);
            best = count;
        }
    }
    return best;
}

static size_t all_of(struct gathering *gathering, uint32_t first, size_t from)
{
    size_t sum = 0;
    for (uint32_t part = first; part; part = gathering->set->nodes[part].next) {
        size_t count = of_node(gathering, part, from + sum);
        if (count == 0)
            return 0;
        sum += count;
    }
    return sum;
}

static size_t of_node(struct gathering *gathering, uint32_t number, size_t from)
{
    const struct ind_condition_node *node = &gathering->set->nodes[number];
    if (++gathering->steps > MOST_STEPS)
        return 0;
    switch (node->kind) {
    case IND_CONDITION_NODE_TEST:
        return texts_of(gathering, &gathering->set->tests[node->test], from);
    case IND_CONDITION_NODE_NAME:
        return of_node(gathering, node->first, from);
    case IND_CONDITION_NODE_ALL:
        return best_of(gathering, node->first, from);
    case IND_CONDITION_NODE_ANY:
        return all_of(gathering, node->first, from);
    default:
        return 0;
    }
}

size_t ind_condition_literals(const struct ind_conditions *set, ind_condition condition,
                              struct ind_slice *literals, size_t room)
{
    struct gathering gathering = {set, literals, room, 0};
    size_t count = of_node(&gathering, condition, 0);
    return gathering.steps > MOST_STEPS ? 0 : count;
}
