#include "store/search/groups.h"

#include "core/base/number.h"
#include <stdlib.h>
#define XXH_INLINE_ALL
#include <xxhash.h>
/* Keys may be whatever strangers send; this one is quick, too. */
#define HASH_FUNCTION(at, length, hash) ((hash) = (unsigned)XXH3_64bits(at, length))
#include <uthash.h>

enum { GROUPS = 1000000, DISTINCT = 1000000, FIRST_DISTINCT = 1024 };

struct ind_group_kept {
    UT_hash_handle hh;
    uint64_t count, distinct;
    double sum;
    uint64_t numbers; /* messages that had one */
    size_t length;
    char key[]; /* values with a NUL behind each */
};

void ind_group_key(const struct ind_search_settings *settings, const struct ind_message *message,
                   struct ind_answers *answers, struct ind_by_reader *reader, struct ind_buffer *key)
{
    for (size_t i = 0; i < settings->by_count; i++) {
        ind_search_by_write(&settings->by[i], message, answers, reader, key);
        ind_buffer_byte(key, '\0');
    }
}

void ind_group_measure(const struct ind_search_settings *settings, const struct ind_message *message,
                       struct ind_answers *answers, struct ind_by_reader *reader,
                       struct ind_measured *measured)
{
    memset(measured, 0, sizeof *measured); /* it is written as it lies in memory */
    if (settings->sum.what != IND_BY_NOTHING)
        measured->has_number = ind_number_read(
            ind_search_by_value(&settings->sum, message, answers, reader), &measured->number);
    if (settings->distinct.what == IND_BY_NOTHING)
        return;
    const struct ind_slice value = ind_search_by_value(&settings->distinct, message, answers, reader);
    measured->has_value = value.length > 0;
    measured->value = XXH3_64bits(value.at, value.length);
}

/* ---- Values that differ ---- */

static size_t place_of(const struct ind_distinct *places, size_t room, uint64_t value,
                       const struct ind_group_kept *group)
{
    size_t at = (size_t)(value ^ ((uintptr_t)group * UINT64_C(0x9E3779B97F4A7C15))) & (room - 1);
    while (places[at].group && (places[at].group != group || places[at].value != value))
        at = (at + 1) & (room - 1);
    return at;
}

static bool grow_distinct(struct ind_groups *groups)
{
    const size_t room = groups->distinct_room ? groups->distinct_room * 2 : FIRST_DISTINCT;
    struct ind_distinct *places = groups->distinct_count < DISTINCT ? calloc(room, sizeof *places) : NULL;
    if (!places)
        return false;
    for (size_t i = 0; i < groups->distinct_room; i++)
        if (groups->distinct[i].group)
            places[place_of(places, room, groups->distinct[i].value, groups->distinct[i].group)] =
                groups->distinct[i];
    free(groups->distinct);
    groups->distinct = places;
    groups->distinct_room = room;
    return true;
}

static void add_value(struct ind_groups *groups, struct ind_group_kept *group, uint64_t value)
{
    if (2 * groups->distinct_count >= groups->distinct_room && !grow_distinct(groups)) {
        groups->distinct_cut = true;
        return;
    }
    struct ind_distinct *place =
        &groups->distinct[place_of(groups->distinct, groups->distinct_room, value, group)];
    if (place->group)
        return;
    *place = (struct ind_distinct){value, group};
    groups->distinct_count++;
    group->distinct++;
}

/* ---- Groups ---- */

static struct ind_group_kept *group_of(struct ind_groups *groups, struct ind_slice key)
{
    struct ind_group_kept *group;
    HASH_FIND(hh, groups->table, key.at, (unsigned)key.length, group);
    if (group)
        return group;
    group = HASH_COUNT(groups->table) < GROUPS ? calloc(1, sizeof *group + key.length) : NULL;
    if (!group) {
        groups->cut = true;
        return NULL;
    }
    group->length = key.length;
    memcpy(group->key, key.at, key.length);
    HASH_ADD_KEYPTR(hh, groups->table, group->key, (unsigned)key.length, group);
    return group;
}

void ind_groups_add(struct ind_groups *groups, struct ind_slice key, uint64_t count,
                    const struct ind_measured *measured)
{
    struct ind_group_kept *group = group_of(groups, key);
    if (!group) {
        groups->lost += count;
        return;
    }
    group->count += count;
    if (measured && measured->has_number) {
        group->sum += measured->number;
        group->numbers++;
    }
    if (measured && measured->has_value)
        add_value(groups, group, measured->value);
}

void ind_groups_join(struct ind_groups *groups, struct ind_groups *others)
{
    groups->cut |= others->cut;
    groups->lost += others->lost;
    groups->distinct_cut |= others->distinct_cut;
    for (const struct ind_group_kept *group = others->table; group; group = group->hh.next) {
        struct ind_group_kept *mine = group_of(groups, (struct ind_slice){group->key, group->length});
        if (!mine) {
            groups->lost += group->count;
            continue;
        }
        mine->count += group->count;
        mine->sum += group->sum;
        mine->numbers += group->numbers;
    }
    for (size_t i = 0; i < others->distinct_room; i++) {
        const struct ind_group_kept *group = others->distinct[i].group;
        struct ind_group_kept *mine =
            group ? group_of(groups, (struct ind_slice){group->key, group->length}) : NULL;
        if (mine)
            add_value(groups, mine, others->distinct[i].value);
    }
    ind_groups_free(others);
}

/* ---- In order ---- */

static int by_values(const struct ind_search_group *a, const struct ind_search_group *b)
{
    for (size_t i = 0; i < IND_SEARCH_FIELDS && a->values[i] && b->values[i]; i++) {
        int order = strcmp(a->values[i], b->values[i]);
        if (order)
            return order;
    }
    return 0;
}

static int most_first(const void *left, const void *right)
{
    const struct ind_search_group *a = left, *b = right;
    return a->count != b->count ? (a->count > b->count ? -1 : 1) : by_values(a, b);
}

static int most_distinct_first(const void *left, const void *right)
{
    const struct ind_search_group *a = left, *b = right;
    return a->distinct != b->distinct ? (a->distinct > b->distinct ? -1 : 1) : most_first(a, b);
}

static int greatest_sum_first(const void *left, const void *right)
{
    const struct ind_search_group *a = left, *b = right;
    return a->sum > b->sum ? -1 : a->sum < b->sum ? 1 : most_first(a, b);
}

static int by_name(const void *left, const void *right)
{
    return by_values(left, right);
}

/* Times are written so that the order of their texts is theirs, but for weekdays. */
static const char *time_text(const char *value)
{
    static const char *const days[] = {"mon", "tue", "wed", "thu", "fri", "sat", "sun"};
    static const char *const order[] = {"0", "1", "2", "3", "4", "5", "6"};
    for (size_t i = 0; i < 7; i++)
        if (strcmp(value, days[i]) == 0)
            return order[i];
    return value;
}

static int earliest_first(const void *left, const void *right)
{
    const struct ind_search_group *a = left, *b = right;
    for (size_t i = 0; i < a->time_count; i++) {
        int order = strcmp(time_text(a->values[a->times[i]]), time_text(b->values[b->times[i]]));
        if (order)
            return order;
    }
    return most_first(left, right);
}

static int (*const orders[])(const void *left, const void *right) = {
    [IND_BY_USUAL] = most_first,       [IND_BY_COUNT] = most_first,
    [IND_BY_NAME] = by_name,
    [IND_BY_SUM] = greatest_sum_first,
    [IND_BY_DISTINCT] = most_distinct_first,
};

static void take_out(const struct ind_search_settings *settings, const struct ind_group_kept *group,
                     struct ind_search_group *listed)
{
    const char *at = group->key;
    listed->count = group->count;
    listed->distinct = group->distinct;
    listed->sum = group->sum;
    listed->numbers = group->numbers;
    for (size_t v = 0; v < settings->by_count; v++, at += strlen(at) + 1) {
        listed->values[v] = at;
        if (ind_search_by_is_time(&settings->by[v]))
            listed->times[listed->time_count++] = (uint8_t)v;
    }
}

void ind_groups_list(const struct ind_groups *groups, const struct ind_search_settings *settings,
                     struct ind_search_result *result)
{
    size_t count = HASH_COUNT(groups->table), i = 0;
    result->groups_cut = groups->cut;
    result->not_grouped = groups->lost;
    result->distinct_cut = groups->distinct_cut;
    result->group_count = result->all_groups = count;
    result->groups = calloc(count ? count : 1, sizeof *result->groups);
    if (!result->groups) {
        result->failed = true;
        result->group_count = 0;
        return;
    }
    for (const struct ind_group_kept *group = groups->table; group; group = group->hh.next)
        take_out(settings, group, &result->groups[i++]);
    qsort(result->groups, count, sizeof *result->groups, orders[settings->order]);
    if (settings->top && settings->top < count)
        result->group_count = settings->top;
    if (count && result->groups[0].time_count && settings->order == IND_BY_USUAL)
        qsort(result->groups, result->group_count, sizeof *result->groups, earliest_first);
}

void ind_groups_free(struct ind_groups *groups)
{
    struct ind_group_kept *group, *next;
    HASH_ITER(hh, groups->table, group, next)
    {
        HASH_DEL(groups->table, group);
        free(group);
    }
    free(groups->distinct);
    *groups = (struct ind_groups){0};
}
