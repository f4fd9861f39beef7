/* Tests of one operator on one field, answered together: equality by hash, beginnings and networks by a
 * sorted table with links, literals in one pass. What an index finds to hold is marked; all other tests of it
 * do not hold. */
#include "core/condition/condition_private.h"
#include "core/find/literals.h"
#include "core/find/prefixes.h"
#include "core/message/device.h"

#define XXH_INLINE_ALL
#include <stdlib.h>
#include <xxhash.h>

enum kind { INDEX_NONE, INDEX_EQUAL, INDEX_PREFIX, INDEX_NETWORK, INDEX_LITERAL };

/* A text or a network, and the tests that ask for it: members[from], … */
struct key {
    struct ind_slice bytes;
    uint32_t bits; /* of a network; otherwise of all bytes */
    uint32_t from, count;
};

struct ind_index {
    enum kind kind;
    bool nocase;
    uint32_t like; /* one of its tests: whose value is asked for */
    struct key *keys;
    size_t key_count;
    uint32_t *members;
    size_t member_count;
    char *folded; /* the keys' bytes, where they are not the tests' own */
    size_t shortest, longest;
    uint32_t *slots; /* INDEX_EQUAL: key + 1, by hash */
    size_t slot_count;
    struct ind_prefixes prefixes;
    struct ind_literals *literals;
};

/* Longer texts are not folded beforehand: who asks for such a text asks for it alone. */
enum { LONGEST_FOLDED = 200, FAMILY_AND_ADDRESS = 17 };

/* Fewer tests are quicker asked one by one. */
static size_t fewest(enum kind kind)
{
    return kind == INDEX_LITERAL ? 3 : 2;
}

static enum kind kind_of(const struct ind_test *test)
{
    if (!test->texts && !test->networks)
        return INDEX_NONE; /* facilities, severities, days: a bit of a mask each */
    for (size_t i = 0; test->texts && test->nocase && i < test->count; i++)
        if (test->texts[i].length > LONGEST_FOLDED)
            return INDEX_NONE;
    switch (test->op) {
    case IND_OP_IS:
        return INDEX_EQUAL;
    case IND_OP_STARTS:
        return INDEX_PREFIX;
    case IND_OP_WITHIN:
        return INDEX_NETWORK;
    case IND_OP_CONTAINS:
    case IND_OP_MENTIONS:
        return INDEX_LITERAL;
    default:
        return INDEX_NONE;
    }
}

/* A test on its way into an index. */
struct item {
    const struct ind_test *test;
    uint32_t number;
    enum kind kind;
};

static int compare_items(const void *a, const void *b)
{
    const struct item *x = a, *y = b;
    int order = x->kind != y->kind                   ? (int)x->kind - (int)y->kind
                : x->test->field != y->test->field   ? (int)x->test->field - (int)y->test->field
                : x->test->nocase != y->test->nocase ? (int)x->test->nocase - (int)y->test->nocase
                                                     : ind_slice_compare(x->test->id, y->test->id);
    order = order ? order : ind_slice_compare(x->test->name, y->test->name);
    return order ? order : (x->number > y->number) - (x->number < y->number);
}

static bool same_index(const struct item *a, const struct item *b)
{
    return a->kind == b->kind && a->test->field == b->test->field && a->test->nocase == b->test->nocase &&
           ind_slice_equal(a->test->id, b->test->id) && ind_slice_equal(a->test->name, b->test->name);
}

/* ---- Keys ---- */

struct pair {
    struct ind_slice bytes;
    uint32_t bits, test;
};

static int compare_pairs(const void *a, const void *b)
{
    const struct pair *x = a, *y = b;
    int order = ind_slice_compare(x->bytes, y->bytes);
    order = order ? order : (x->bits > y->bits) - (x->bits < y->bits);
    return order ? order : (x->test > y->test) - (x->test < y->test);
}

static void put_address(char to[FAMILY_AND_ADDRESS], const struct ind_address *address)
{
    to[0] = (char)address->bits;
    memcpy(to + 1, address->bytes, sizeof address->bytes);
}

static struct ind_slice value_to_compare(const struct ind_conditions *set, const struct ind_test *test,
                                         struct ind_slice text)
{
    bool host = ind_field_rows[test->field].kind == IND_KIND_NAME && test->op == IND_OP_IS;
    return host ? ind_without_domain(text, set->domain) : text;
}

static size_t fill_pairs(const struct ind_conditions *set, struct ind_index *index, const struct item *items,
                         size_t count, struct pair *pairs)
{
    size_t made = 0, used = 0;
    for (size_t i = 0; i < count; i++)
        for (size_t k = 0; k < items[i].test->count; k++) {
            const struct ind_test *test = items[i].test;
            struct pair *pair = &pairs[made++];
            char *at = index->folded + used;
            if (test->networks) {
                const struct ind_network *network = &test->networks[k];
                put_address(at, &network->address);
                *pair = (struct pair){
                    {at, (size_t)(1 + (network->prefix + 7) / 8)}, 8u + network->prefix, items[i].number};
                used += FAMILY_AND_ADDRESS;
                continue;
            }
            struct ind_slice text = value_to_compare(set, test, test->texts[k]);
            if (index->nocase) {
                ind_lower_all(at, text);
                used += text.length;
                text.at = at;
            }
            *pair = (struct pair){text, (uint32_t)text.length * 8, items[i].number};
        }
    return made;
}

static bool make_keys(const struct ind_conditions *set, struct ind_index *index, const struct item *items,
                      size_t count)
{
    size_t values = 0, bytes = 0;
    for (size_t i = 0; i < count; i++)
        for (size_t k = 0; k < items[i].test->count; k++, values++)
            bytes += items[i].test->networks ? (size_t)FAMILY_AND_ADDRESS : items[i].test->texts[k].length;
    struct pair *pairs = calloc(values + 1, sizeof *pairs);
    index->folded = malloc(bytes + 1);
    index->keys = calloc(values + 1, sizeof *index->keys);
    index->members = calloc(values + 1, sizeof *index->members);
    bool good = pairs && index->folded && index->keys && index->members;
    if (good) {
        values = fill_pairs(set, index, items, count, pairs);
        qsort(pairs, values, sizeof *pairs, compare_pairs);
    }
    for (size_t i = 0; good && i < values; i++) {
        struct key *key = index->keys + index->key_count;
        if (i > 0 && key[-1].bits == pairs[i].bits && ind_slice_equal(key[-1].bytes, pairs[i].bytes)) {
            key--;
        } else {
            *key = (struct key){pairs[i].bytes, pairs[i].bits, (uint32_t)index->member_count, 0};
            index->key_count++;
        }
        if (key->count == 0 || index->members[index->member_count - 1] != pairs[i].test) {
            index->members[index->member_count++] = pairs[i].test;
            key->count++;
        }
    }
    free(pairs);
    return good;
}

/* ---- Tables ---- */

static uint64_t hash_of(struct ind_slice bytes)
{
    return XXH3_64bits(bytes.at, bytes.length);
}

static uint32_t *slot_of(const struct ind_index *index, struct ind_slice bytes)
{
    size_t last = index->slot_count - 1, place = hash_of(bytes) & last;
    while (index->slots[place] && !ind_slice_equal(index->keys[index->slots[place] - 1].bytes, bytes))
        place = (place + 1) & last;
    return &index->slots[place];
}

static bool make_equal(struct ind_index *index)
{
    for (index->slot_count = 16; index->slot_count < index->key_count * 2; index->slot_count *= 2)
        ;
    index->slots = calloc(index->slot_count, sizeof *index->slots);
    for (size_t i = 0; index->slots && i < index->key_count; i++)
        *slot_of(index, index->keys[i].bytes) = (uint32_t)i + 1;
    return index->slots != NULL;
}

static bool make_prefixes(struct ind_index *index)
{
    struct ind_prefix *list = calloc(index->key_count + 1, sizeof *list);
    for (size_t i = 0; list && i < index->key_count; i++)
        list[i] = (struct ind_prefix){index->keys[i].bytes, index->keys[i].bits, (uint32_t)i, 0};
    return list && ind_prefixes_make(&index->prefixes, list, index->key_count);
}

static bool make_literals(struct ind_index *index)
{
    struct ind_slice *texts = calloc(index->key_count + 1, sizeof *texts);
    for (size_t i = 0; texts && i < index->key_count; i++)
        texts[i] = index->keys[i].bytes;
    index->literals = texts ? ind_literals_new(texts, index->key_count, index->nocase) : NULL;
    free(texts);
    return index->literals != NULL;
}

static bool make_index(const struct ind_conditions *set, struct ind_index *index, const struct item *items,
                       size_t count)
{
    *index =
        (struct ind_index){.kind = items[0].kind, .nocase = items[0].test->nocase, .like = items[0].number};
    index->shortest = SIZE_MAX;
    if (!make_keys(set, index, items, count))
        return false;
    for (size_t i = 0; i < index->key_count; i++) {
        size_t length = index->keys[i].bytes.length;
        index->shortest = length < index->shortest ? length : index->shortest;
        index->longest = length > index->longest ? length : index->longest;
    }
    return index->kind == INDEX_EQUAL     ? make_equal(index)
           : index->kind == INDEX_LITERAL ? make_literals(index)
                                          : make_prefixes(index);
}

void ind_indexes_free(struct ind_conditions *set)
{
    for (size_t i = 0; i < set->index_count; i++) {
        struct ind_index *index = &set->indexes[i];
        free(index->keys);
        free(index->members);
        free(index->folded);
        free(index->slots);
        ind_prefixes_free(&index->prefixes);
        ind_literals_free(index->literals);
    }
    free(set->indexes);
    free(set->index_of);
    set->indexes = NULL;
    set->index_of = NULL;
    set->index_count = set->indexed = 0;
}

static bool make_indexes(struct ind_conditions *set, const struct item *items, size_t count)
{
    for (size_t from = 0, to; from < count; from = to) {
        for (to = from + 1; to < count && same_index(&items[from], &items[to]); to++)
            ;
        size_t values = 0;
        for (size_t i = from; i < to; i++)
            values += items[i].test->count;
        if (values < fewest(items[from].kind))
            continue;
        struct ind_index *index = &set->indexes[set->index_count++];
        if (!make_index(set, index, items + from, to - from))
            return false;
        for (size_t i = from; i < to; i++)
            set->index_of[items[i].number] = (uint32_t)set->index_count;
    }
    return true;
}

bool ind_conditions_compile(struct ind_conditions *set)
{
    ind_indexes_free(set);
    struct item *items = calloc(set->test_count + 1, sizeof *items);
    set->indexes = calloc(set->test_count + 1, sizeof *set->indexes);
    set->index_of = calloc(set->test_count + 1, sizeof *set->index_of);
    size_t count = 0;
    bool good = items && set->indexes && set->index_of;
    for (uint32_t i = 0; good && i < set->test_count; i++)
        if (kind_of(&set->tests[i]) != INDEX_NONE)
            items[count++] = (struct item){&set->tests[i], i, kind_of(&set->tests[i])};
    if (good) {
        qsort(items, count, sizeof *items, compare_items);
        good = make_indexes(set, items, count);
    }
    free(items);
    if (good)
        set->indexed = set->test_count;
    else
        ind_indexes_free(set);
    return good;
}

unsigned ind_index_weight(const struct ind_conditions *set, uint32_t test)
{
    uint32_t index = test < set->indexed ? set->index_of[test] : 0;
    if (index == 0)
        return 0;
    enum kind kind = set->indexes[index - 1].kind;
    return kind == INDEX_EQUAL ? 1 : kind == INDEX_LITERAL ? 2 : kind == INDEX_PREFIX ? 4 : 6;
}

/* ---- Looking ---- */

struct look {
    const struct ind_conditions *set;
    const struct ind_index *index;
    struct ind_answers *answers;
    struct ind_slice value;
};

static inline void hold(struct ind_answers *answers, uint32_t test)
{
    uint32_t *answer = &answers->of_test[test];
    if (*answer == (answers->round | 1))
        return;
    *answer = answers->round | 1;
    answers->hits[answers->hit_count++] = test;
}

static inline void hold_all(const struct look *look, const struct key *key)
{
    for (uint32_t i = 0; i < key->count; i++)
        hold(look->answers, look->index->members[key->from + i]);
}

static bool literal_found(void *context, uint32_t literal, const char *at)
{
    const struct look *look = context;
    const struct key *key = &look->index->keys[literal];
    for (uint32_t i = 0; i < key->count; i++) {
        uint32_t test = look->index->members[key->from + i];
        if (look->set->tests[test].op != IND_OP_MENTIONS ||
            ind_is_whole_word(look->value, at, key->bytes.length))
            hold(look->answers, test);
    }
    return true;
}

static void look_at(const struct look *look)
{
    const struct ind_index *index = look->index;
    const struct ind_test *like = &look->set->tests[index->like];
    char scratch[LONGEST_FOLDED];
    struct ind_slice value = look->value;
    struct ind_address address;
    switch (index->kind) {
    case INDEX_EQUAL:
        value = value_to_compare(look->set, like, value);
        if (value.length < index->shortest || value.length > index->longest)
            return;
        if (index->nocase) {
            ind_lower_all(scratch, value);
            value.at = scratch;
        }
        uint32_t key = *slot_of(index, value);
        if (key)
            hold_all(look, &index->keys[key - 1]);
        return;
    case INDEX_LITERAL:
        ind_literals_scan(index->literals, value, literal_found, (void *)(uintptr_t)look);
        return;
    case INDEX_NETWORK:
        if (!ind_address_read(value, &address))
            return;
        put_address(scratch, &address);
        value = (struct ind_slice){scratch, (size_t)(1 + address.bits / 8)};
        break;
    default:
        value.length = value.length < index->longest ? value.length : index->longest;
        if (index->nocase) {
            ind_lower_all(scratch, value);
            value.at = scratch;
        }
        break;
    }
    const struct ind_prefixes *prefixes = &index->prefixes;
    for (uint32_t place = ind_prefixes_find(prefixes, value); place; place = prefixes->list[place - 1].above)
        hold_all(look, &index->keys[prefixes->list[place - 1].number]);
}

void ind_index_look(const struct ind_conditions *set, size_t number, const struct ind_message *message,
                    struct ind_answers *answers)
{
    struct look look = {set, &set->indexes[number], answers, IND_NOTHING};
    const struct ind_test *like = &set->tests[look.index->like];
    const struct ind_slice *in_place = ind_field_in_place(message, like->field);
    size_t state = 0;
    answers->looked[number] = answers->round;
    if (in_place) {
        look.value = *in_place;
        if (look.value.length)
            look_at(&look);
        return;
    }
    while (ind_test_value(like, message, answers, &state, &look.value))
        look_at(&look);
}

size_t ind_conditions_indexes(const struct ind_conditions *set)
{
    return set->index_count;
}

size_t ind_test_index(const struct ind_conditions *set, uint32_t test)
{
    return set->index_of[test] - 1;
}
