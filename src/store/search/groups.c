#include "store/search/groups.h"

#include "core/base/escape.h"
#include "core/message/names.h"
#include <stdlib.h>
#include <uthash.h>

enum { GROUPS = 1000000 };

struct ind_group_kept {
    UT_hash_handle hh;
    uint64_t count;
    size_t length;
    char key[]; /* values with a NUL behind each */
};

static const char *const extra_names[] = {"minute", "hour", "day", "weekday", "date"};
static const char *const weekdays[] = {"mon", "tue", "wed", "thu", "fri", "sat", "sun"};

static bool is_time(const struct ind_search_by *by)
{
    return by->what >= IND_BY_MINUTE;
}

struct ind_slice ind_search_by_name(unsigned by)
{
    return by < IND_FIELDS ? ind_field_name((enum ind_field)by) : ind_slice_of(extra_names[by - IND_FIELDS]);
}

bool ind_search_by_read(struct ind_slice text, struct ind_search_by *by)
{
    static const unsigned named[] = {IND_FIELD_LABEL, IND_FIELD_FIELD};
    for (size_t i = 0; i < 2; i++) {
        struct ind_slice word = ind_search_by_name(named[i]);
        if (text.length > word.length + 1 && ind_slice_starts(text, word) && text.at[word.length] == ' ') {
            *by = (struct ind_search_by){named[i], ind_slice_from(text, word.length + 1), text};
            return true;
        }
    }
    for (unsigned what = 0; what < IND_BY_END; what++)
        if (ind_slice_equal(text, ind_search_by_name(what)) &&
            (what <= IND_FIELD_SEVERITY || what >= IND_FIELDS || what == IND_FIELD_PATTERN ||
             ind_field_is_text((enum ind_field)what))) {
            *by = (struct ind_search_by){what, IND_NOTHING, text};
            return true;
        }
    return false;
}

static struct ind_slice value_of(struct ind_answers *answers, const struct ind_message *message,
                                 const struct ind_search_by *by)
{
    struct ind_slice value = IND_NOTHING;
    size_t from = 0;
    switch (by->what) {
    case IND_FIELD_FACILITY:
        return ind_facility_name(message->facility);
    case IND_FIELD_SEVERITY:
        return ind_severity_name(message->severity);
    case IND_FIELD_PATTERN:
        return ind_answers_pattern(answers, message);
    case IND_FIELD_LABEL:
        return ind_device_label(message->configured, by->name);
    case IND_FIELD_FIELD:
        (void)ind_payload_find(ind_answers_payload(answers, message), by->name, &from, &value);
        return value;
    default:
        return by->what < IND_FIELDS ? ind_field_text(message, (enum ind_field)by->what) : value;
    }
}

/* "2026-11-23 04:45", as far as it is told apart; or the weekday. */
static void add_time(struct ind_path_clock *clock, ind_time time, unsigned what, struct ind_buffer *key)
{
    struct ind_civil local;
    char text[64];
    ind_zone_civil(clock->zone, time, &local);
    if (what == IND_BY_WEEKDAY) {
        ind_buffer_text(key, weekdays[local.weekday]);
        return;
    }
    snprintf(text, sizeof text, "%04d-%02d-%02d %02d:%02d", local.year, local.month, local.day, local.hour,
             local.minute);
    ind_buffer_add(key, text, what == IND_BY_MINUTE ? 16 : what == IND_BY_HOUR ? 13 : 10);
}

static void add_value(struct ind_answers *answers, struct ind_path_clock *clock,
                      const struct ind_message *message, const struct ind_search_by *by,
                      struct ind_buffer *key)
{
    struct ind_slice value = value_of(answers, message, by);
    if (is_time(by)) {
        add_time(clock, message->time, by->what, key);
    } else if (value.length) {
        value.length = value.length < IND_GROUP_VALUE_MOST ? value.length : IND_GROUP_VALUE_MOST;
        ind_escape_text(key, value);
    } else {
        ind_buffer_byte(key, '-');
    }
    ind_buffer_byte(key, '\0');
}

void ind_group_key(const struct ind_search_settings *settings, const struct ind_message *message,
                   struct ind_answers *answers, struct ind_path_clock *clock, struct ind_buffer *key)
{
    for (size_t i = 0; i < settings->by_count; i++)
        add_value(answers, clock, message, &settings->by[i], key);
}

void ind_groups_add(struct ind_groups *groups, struct ind_slice key, uint64_t count)
{
    struct ind_group_kept *group;
    HASH_FIND(hh, groups->table, key.at, (unsigned)key.length, group);
    if (!group) {
        group = HASH_COUNT(groups->table) < GROUPS ? calloc(1, sizeof *group + key.length) : NULL;
        if (!group) {
            groups->cut = true;
            return;
        }
        group->length = key.length;
        memcpy(group->key, key.at, key.length);
        HASH_ADD_KEYPTR(hh, groups->table, group->key, (unsigned)key.length, group);
    }
    group->count += count;
}

void ind_groups_join(struct ind_groups *groups, struct ind_groups *others)
{
    groups->cut |= others->cut;
    for (const struct ind_group_kept *group = others->table; group; group = group->hh.next)
        ind_groups_add(groups, (struct ind_slice){group->key, group->length}, group->count);
    ind_groups_free(others);
}

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

/* Times are written so that the order of their texts is theirs, but for weekdays. */
static const char *time_text(const char *value)
{
    static const char *const order[] = {"0", "1", "2", "3", "4", "5", "6"};
    for (size_t i = 0; i < 7; i++)
        if (strcmp(value, weekdays[i]) == 0)
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

void ind_groups_list(const struct ind_groups *groups, const struct ind_search_settings *settings,
                     struct ind_search_result *result)
{
    size_t count = HASH_COUNT(groups->table), i = 0;
    result->groups = calloc(count ? count : 1, sizeof *result->groups);
    if (!result->groups) {
        result->failed = true;
        return;
    }
    for (struct ind_group_kept *group = groups->table; group; group = group->hh.next, i++) {
        struct ind_search_group *listed = &result->groups[i];
        const char *at = group->key;
        listed->count = group->count;
        for (size_t v = 0; v < settings->by_count; v++, at += strlen(at) + 1) {
            listed->values[v] = at;
            if (is_time(&settings->by[v]))
                listed->times[listed->time_count++] = (uint8_t)v;
        }
    }
    result->group_count = count;
    result->groups_cut = groups->cut;
    qsort(result->groups, count, sizeof *result->groups, most_first);
    if (settings->top && settings->top < count)
        result->group_count = settings->top;
    if (count && result->groups[0].time_count)
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
}
