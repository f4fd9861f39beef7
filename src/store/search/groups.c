#include "store/search/groups.h"

#include "core/base/escape.h"
#include "core/message/names.h"
#include <stdlib.h>
#include <uthash.h>

enum {
    GROUPS = 1000000,
    VALUE_MOST = 200, /* bytes of a value that groups are told apart by */
    KEY_ROOM = IND_SEARCH_FIELDS * (4 * VALUE_MOST + 8)
};

struct ind_group_kept {
    UT_hash_handle hh;
    uint64_t count;
    size_t length;
    char key[]; /* values with a NUL behind each */
};

static const char *const extra_names[] = {"date", "hour"};

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

static void add_value(struct ind_answers *answers, struct ind_path_clock *clock,
                      const struct ind_message *message, const struct ind_search_by *by,
                      struct ind_buffer *key)
{
    struct ind_slice value = value_of(answers, message, by);
    if (by->what == IND_BY_DATE || by->what == IND_BY_HOUR) {
        struct ind_mistake unused = {0};
        struct ind_template template;
        (void)ind_template_read(by->what == IND_BY_DATE ? IND_SLICE("{date}") : IND_SLICE("{hour}"),
                                IND_TEMPLATE_LINE, &template, &unused);
        ind_template_line(&template, message, clock, key);
    } else if (value.length) {
        value.length = value.length < VALUE_MOST ? value.length : VALUE_MOST;
        ind_escape_text(key, value);
    } else {
        ind_buffer_byte(key, '-');
    }
    ind_buffer_byte(key, '\0');
}

static void add(struct ind_groups *groups, const char *key, size_t length, uint64_t count)
{
    struct ind_group_kept *group;
    HASH_FIND(hh, groups->table, key, (unsigned)length, group);
    if (!group) {
        group = HASH_COUNT(groups->table) < GROUPS ? calloc(1, sizeof *group + length) : NULL;
        if (!group) {
            groups->cut = true;
            return;
        }
        group->length = length;
        memcpy(group->key, key, length);
        HASH_ADD_KEYPTR(hh, groups->table, group->key, (unsigned)length, group);
    }
    group->count += count;
}

void ind_groups_count(struct ind_groups *groups, const struct ind_search_settings *settings,
                      const struct ind_message *message, struct ind_answers *answers,
                      struct ind_path_clock *clock)
{
    char text[KEY_ROOM];
    struct ind_buffer key = ind_buffer_on(text, sizeof text);
    for (size_t i = 0; i < settings->by_count; i++)
        add_value(answers, clock, message, &settings->by[i], &key);
    add(groups, text, key.length, 1);
}

void ind_groups_join(struct ind_groups *groups, struct ind_groups *others)
{
    struct ind_group_kept *group, *next;
    groups->cut |= others->cut;
    HASH_ITER(hh, others->table, group, next)
    {
        add(groups, group->key, group->length, group->count);
        HASH_DEL(others->table, group);
        free(group);
    }
}

static int most_first(const void *left, const void *right)
{
    const struct ind_search_group *a = left, *b = right;
    if (a->count != b->count)
        return a->count > b->count ? -1 : 1;
    for (size_t i = 0; i < IND_SEARCH_FIELDS && a->values[i] && b->values[i]; i++) {
        int order = strcmp(a->values[i], b->values[i]);
        if (order)
            return order;
    }
    return 0;
}

void ind_groups_list(const struct ind_groups *groups, size_t values, struct ind_search_result *result)
{
    size_t count = HASH_COUNT(groups->table), i = 0;
    result->groups = calloc(count ? count : 1, sizeof *result->groups);
    if (!result->groups) {
        result->failed = true;
        return;
    }
    for (struct ind_group_kept *group = groups->table; group; group = group->hh.next, i++) {
        const char *at = group->key;
        result->groups[i].count = group->count;
        for (size_t v = 0; v < values; v++, at += strlen(at) + 1)
            result->groups[i].values[v] = at;
    }
    result->group_count = count;
    result->groups_cut = groups->cut;
    qsort(result->groups, count, sizeof *result->groups, most_first);
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
