#include "store/search/groups.h"

#include "core/base/number.h"
#include <stdlib.h>
#define XXH_INLINE_ALL
#include <xxhash.h>

/* BYTES: of all groups; PAGE: that are taken at once. Keys are made up by strangers: there is an end. */
enum { BYTES = 72 << 20, PAGE = 256 << 10, FIRST_SLOTS = 256, DISTINCT = 1000000, FIRST_DISTINCT = 1024 };

struct ind_group_kept {
    struct ind_search_group told; /* its key lies behind */
    uint64_t hash;
    uint32_t length;
};

struct ind_group_page {
    struct ind_group_page *next;
    size_t used, room;
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
        measured->has_number =
            ind_number_read(ind_search_by_value(&settings->sum, message, answers, reader), &measured->number);
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
    group->told.distinct++;
}

/* ---- Groups ---- */

/* Room for a group and its key; NULL where there is none. */
static struct ind_group_kept *make(struct ind_groups *groups, size_t length)
{
    const size_t align = sizeof(double),
                 needed = (sizeof(struct ind_group_kept) + length + align - 1) / align * align;
    struct ind_group_page *page = groups->pages;
    if (!page || page->room - page->used < needed) {
        const size_t room = needed > PAGE ? needed : PAGE;
        if (groups->bytes + room > BYTES || !(page = malloc(sizeof *page + room)))
            return NULL;
        *page = (struct ind_group_page){groups->pages, 0, room};
        groups->pages = page;
        groups->bytes += room;
    }
    struct ind_group_kept *group = (void *)((char *)(page + 1) + page->used);
    page->used += needed;
    return group;
}

static bool grow_slots(struct ind_groups *groups)
{
    const size_t count = groups->slot_count ? groups->slot_count * 2 : FIRST_SLOTS;
    struct ind_group_kept **slots = calloc(count, sizeof(struct ind_group_kept *));
    if (!slots)
        return false;
    for (size_t i = 0; i < groups->slot_count; i++) {
        struct ind_group_kept *group = groups->slots[i];
        size_t at = group ? (size_t)group->hash & (count - 1) : 0;
        while (group && slots[at])
            at = (at + 1) & (count - 1);
        if (group)
            slots[at] = group;
    }
    free(groups->slots);
    groups->slots = slots;
    groups->slot_count = count;
    return true;
}

static struct ind_group_kept *group_of(struct ind_groups *groups, struct ind_slice key)
{
    const uint64_t hash = XXH3_64bits(key.at, key.length);
    if (2 * groups->count >= groups->slot_count && !grow_slots(groups))
        return NULL;
    size_t at = (size_t)hash & (groups->slot_count - 1);
    for (struct ind_group_kept *group; (group = groups->slots[at]) != NULL;
         at = (at + 1) & (groups->slot_count - 1))
        if (group->hash == hash && group->length == key.length &&
            memcmp(group->told.key, key.at, key.length) == 0)
            return group;
    struct ind_group_kept *made = make(groups, key.length);
    if (!made)
        return NULL;
    char *copy = (char *)(made + 1);
    memcpy(copy, key.at, key.length);
    *made = (struct ind_group_kept){.told = {.key = copy}, .hash = hash, .length = (uint32_t)key.length};
    groups->slots[at] = made;
    groups->count++;
    return made;
}

void ind_groups_add(struct ind_groups *groups, struct ind_slice key, uint64_t count,
                    const struct ind_measured *measured)
{
    struct ind_group_kept *group = group_of(groups, key);
    if (!group) {
        groups->cut = true;
        groups->lost += count;
        return;
    }
    group->told.count += count;
    if (measured && measured->has_number)
        group->told.sum += measured->number;
    if (measured && measured->has_value)
        add_value(groups, group, measured->value);
}

void ind_groups_join(struct ind_groups *groups, struct ind_groups *others)
{
    groups->distinct_cut |= others->distinct_cut;
    groups->cut |= others->cut;
    groups->lost += others->lost;
    for (size_t i = 0; i < others->slot_count; i++) {
        const struct ind_group_kept *other = others->slots[i];
        struct ind_group_kept *mine =
            other ? group_of(groups, (struct ind_slice){other->told.key, other->length}) : NULL;
        if (mine) {
            mine->told.count += other->told.count;
            mine->told.sum += other->told.sum;
        } else if (other) {
            groups->cut = true;
            groups->lost += other->told.count;
        }
    }
    for (size_t i = 0; i < others->distinct_room; i++) {
        const struct ind_group_kept *other = others->distinct[i].group;
        struct ind_group_kept *mine =
            other ? group_of(groups, (struct ind_slice){other->told.key, other->length}) : NULL;
        if (mine)
            add_value(groups, mine, others->distinct[i].value);
    }
    ind_groups_free(others);
}

/* ---- In order ---- */

const char *ind_group_value(const struct ind_search_group *group, size_t field)
{
    const char *at = group->key;
    while (field-- > 0)
        at += strlen(at) + 1;
    return at;
}

/* As their keys are: in these a NUL stands before all else. */
static int by_values(const struct ind_search_group *a, const struct ind_search_group *b)
{
    const struct ind_group_kept *x = (const void *)a, *y = (const void *)b;
    const size_t shorter = x->length < y->length ? x->length : y->length;
    const int order = memcmp(a->key, b->key, shorter);
    return order ? order : (x->length > y->length) - (x->length < y->length);
}

static int most_first(const void *left, const void *right)
{
    const struct ind_search_group *a = *(void *const *)left, *b = *(void *const *)right;
    return a->count != b->count ? (a->count > b->count ? -1 : 1) : by_values(a, b);
}

static int most_distinct_first(const void *left, const void *right)
{
    const struct ind_search_group *a = *(void *const *)left, *b = *(void *const *)right;
    return a->distinct != b->distinct ? (a->distinct > b->distinct ? -1 : 1) : most_first(left, right);
}

static int greatest_sum_first(const void *left, const void *right)
{
    const struct ind_search_group *a = *(void *const *)left, *b = *(void *const *)right;
    return a->sum > b->sum ? -1 : a->sum < b->sum ? 1 : most_first(left, right);
}

static int by_name(const void *left, const void *right)
{
    return by_values(*(void *const *)left, *(void *const *)right);
}

static int (*const orders[])(const void *left, const void *right) = {
    [IND_BY_USUAL] = most_first,
    [IND_BY_COUNT] = most_first,
    [IND_BY_NAME] = by_name,
    [IND_BY_SUM] = greatest_sum_first,
    [IND_BY_DISTINCT] = most_distinct_first,
};

/* Times are written so that the order of their texts is theirs, but for weekdays. */
static int weekday_of(const char *value)
{
    static const char *const days[] = {"mon", "tue", "wed", "thu", "fri", "sat", "sun"};
    for (int i = 0; i < 7; i++)
        if (strcmp(value, days[i]) == 0)
            return i;
    return -1;
}

static int compare_times(const char *a, const char *b)
{
    const int day_a = weekday_of(a), day_b = weekday_of(b);
    return day_a >= 0 && day_b >= 0 ? day_a - day_b : strcmp(a, b);
}

/* Each group with its times, so that those are found once. */
struct timed {
    const struct ind_search_group *group;
    const char *times[IND_SEARCH_FIELDS + 1];
    size_t count;
};

static int earliest_first(const void *left, const void *right)
{
    const struct timed *a = left, *b = right;
    for (size_t i = 0; i < a->count; i++) {
        const int order = compare_times(a->times[i], b->times[i]);
        if (order)
            return order;
    }
    return most_first(&a->group, &b->group);
}

static bool put_in_order_of_time(const struct ind_search_settings *settings, struct ind_search_result *result)
{
    struct timed *list = calloc(result->group_count + 1, sizeof *list);
    for (size_t i = 0; list && i < result->group_count; i++) {
        list[i].group = result->groups[i];
        for (size_t f = 0; f < settings->by_count; f++)
            if (ind_search_by_is_time(&settings->by[f]))
                list[i].times[list[i].count++] = ind_group_value(list[i].group, f);
    }
    if (list && list[0].count)
        qsort(list, result->group_count, sizeof *list, earliest_first);
    for (size_t i = 0; list && i < result->group_count; i++)
        result->groups[i] = list[i].group;
    free(list);
    return list != NULL;
}

static bool has_times(const struct ind_search_settings *settings)
{
    for (size_t i = 0; i < settings->by_count; i++)
        if (ind_search_by_is_time(&settings->by[i]))
            return true;
    return false;
}

void ind_groups_list(const struct ind_groups *groups, const struct ind_search_settings *settings,
                     struct ind_search_result *result)
{
    size_t count = 0;
    result->groups_cut = groups->cut;
    result->not_grouped = groups->lost;
    result->distinct_cut = groups->distinct_cut;
    result->groups = calloc(groups->count + 1, sizeof(const struct ind_search_group *));
    if (!result->groups) {
        result->failed = true;
        return;
    }
    for (size_t i = 0; i < groups->slot_count; i++)
        if (groups->slots[i])
            result->groups[count++] = &groups->slots[i]->told;
    result->group_count = result->all_groups = count;
    qsort(result->groups, count, sizeof(const struct ind_search_group *), orders[settings->order]);
    if (settings->top && settings->top < count)
        result->group_count = settings->top;
    if (settings->order == IND_BY_USUAL && has_times(settings))
        result->failed |= !put_in_order_of_time(settings, result);
}

void ind_groups_free(struct ind_groups *groups)
{
    struct ind_group_page *next;
    for (struct ind_group_page *page = groups->pages; page; page = next) {
        next = page->next;
        free(page);
    }
    free(groups->slots);
    free(groups->distinct);
    *groups = (struct ind_groups){0};
}
