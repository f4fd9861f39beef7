#include "core/trap/names.h"

#include "core/find/prefixes.h"
#include "core/trap/ber.h"
#include <stdlib.h>

struct ind_trap_names {
    struct ind_trap_name *list;
    size_t count;
    struct ind_prefixes prefixes; /* `number`: in the list */
    char *bytes;                  /* of all identifiers and names */
};

void ind_trap_names_free(struct ind_trap_names *names)
{
    if (!names)
        return;
    ind_prefixes_free(&names->prefixes);
    free(names->list);
    free(names->bytes);
    free(names);
}

/* For the standard ones as many bytes as their texts have are enough. */
static size_t room_for(const struct ind_trap_name *own, size_t count)
{
    size_t room = 1;
    for (size_t i = 0; i < count; i++)
        room += own[i].oid.length + own[i].name.length + own[i].values.length;
    for (size_t i = 0; i < ind_standard_name_count; i++)
        room += strlen(ind_standard_names[i].oid) + 5;
    return room;
}

static struct ind_slice keep(struct ind_buffer *room, struct ind_slice bytes)
{
    const size_t at = room->length;
    ind_buffer_slice(room, bytes);
    return (struct ind_slice){room->at + at, bytes.length};
}

static void add_own(struct ind_trap_names *names, const struct ind_trap_name *own, struct ind_buffer *room)
{
    struct ind_trap_name *name = &names->list[names->count++];
    *name = *own;
    name->oid = keep(room, own->oid);
    name->name = keep(room, own->name);
    name->values = keep(room, own->values);
}

static void add_standard(struct ind_trap_names *names, const struct ind_standard_name *standard,
                         struct ind_buffer *room)
{
    const size_t at = room->length;
    if (!ind_oid_read(ind_slice_of(standard->oid), room))
        return;
    names->list[names->count++] = (struct ind_trap_name){.oid = {room->at + at, room->length - at},
                                                         .name = ind_slice_of(standard->name),
                                                         .values = ind_slice_of(standard->values),
                                                         .facility = standard->facility,
                                                         .severity = standard->severity,
                                                         .group = standard->group};
}

static int compare(const void *a, const void *b)
{
    const struct ind_trap_name *one = *(struct ind_trap_name *const *)a,
                               *other = *(struct ind_trap_name *const *)b;
    const int order = ind_slice_compare(one->oid, other->oid);
    return order ? order : (one < other) - (one > other); /* of equal ones the last is the first */
}

/* Each identifier once. False where memory is out. */
static bool make_prefixes(struct ind_trap_names *names)
{
    struct ind_trap_name **sorted = malloc((names->count + 1) * sizeof *sorted);
    struct ind_prefix *list = calloc(names->count + 1, sizeof *list);
    size_t count = 0;
    if (!sorted || !list) {
        free(sorted);
        free(list);
        return false;
    }
    for (size_t i = 0; i < names->count; i++)
        sorted[i] = &names->list[i];
    qsort(sorted, names->count, sizeof *sorted, compare);
    for (size_t i = 0; i < names->count; i++) {
        if (i > 0 && ind_slice_equal(sorted[i - 1]->oid, sorted[i]->oid))
            continue;
        list[count++] = (struct ind_prefix){.bytes = sorted[i]->oid,
                                            .bits = (uint32_t)sorted[i]->oid.length * 8,
                                            .number = (uint32_t)(sorted[i] - names->list)};
        if (count > 1 && ind_slice_starts(sorted[i]->oid, list[count - 2].bytes))
            names->list[list[count - 2].number].group = true;
    }
    free(sorted);
    return ind_prefixes_make(&names->prefixes, list, count);
}

struct ind_trap_names *ind_trap_names_new(const struct ind_trap_name *own, size_t count)
{
    const size_t size = room_for(own, count);
    struct ind_trap_names *names = calloc(1, sizeof *names);
    if (!names)
        return NULL;
    names->list = calloc(count + ind_standard_name_count + 1, sizeof *names->list);
    names->bytes = malloc(size);
    if (names->list && names->bytes) {
        struct ind_buffer room = ind_buffer_on(names->bytes, size);
        for (size_t i = 0; i < ind_standard_name_count; i++)
            add_standard(names, &ind_standard_names[i], &room);
        for (size_t i = 0; i < count; i++)
            add_own(names, &own[i], &room);
        if (make_prefixes(names))
            return names;
    }
    ind_trap_names_free(names);
    return NULL;
}

const struct ind_trap_name *ind_trap_names_find(const struct ind_trap_names *names, struct ind_slice oid,
                                                struct ind_slice *rest)
{
    const uint32_t found = ind_prefixes_find(&names->prefixes, oid);
    *rest = oid;
    if (!found)
        return NULL;
    const struct ind_trap_name *name = &names->list[names->prefixes.list[found - 1].number];
    *rest = ind_slice_from(oid, name->oid.length);
    return name;
}

const struct ind_trap_name *ind_trap_names_named(const struct ind_trap_names *names, struct ind_slice name)
{
    for (size_t i = names->count; i > 0; i--)
        if (ind_slice_equal(names->list[i - 1].name, name))
            return &names->list[i - 1];
    return NULL;
}

/* ---- What numbers mean ---- */

/* The next "NUMBER=WORD"; false at the end. */
static bool next_value(struct ind_slice *rest, struct ind_slice *number, struct ind_slice *word)
{
    if (rest->length == 0)
        return false;
    const char *end = memchr(rest->at, ';', rest->length);
    const struct ind_slice one = {rest->at, end ? (size_t)(end - rest->at) : rest->length};
    const char *equals = one.length ? memchr(one.at, '=', one.length) : NULL;
    *rest = ind_slice_from(*rest, one.length + (end != NULL));
    if (!equals)
        return false;
    *number = (struct ind_slice){one.at, (size_t)(equals - one.at)};
    *word = ind_slice_from(one, number->length + 1);
    return true;
}

static bool read_number(struct ind_slice text, int64_t *number)
{
    const bool negative = text.length && text.at[0] == '-';
    *number = 0;
    for (size_t i = negative; i < text.length; i++) {
        if (!ind_is_digit(text.at[i]) || i > 10)
            return false;
        *number = *number * 10 + (text.at[i] - '0');
    }
    *number = negative ? -*number : *number;
    return text.length > negative;
}

struct ind_slice ind_trap_value_name(struct ind_slice values, int64_t number)
{
    struct ind_slice text, word;
    int64_t one;
    while (next_value(&values, &text, &word))
        if (read_number(text, &one) && one == number)
            return word;
    return IND_NOTHING;
}

bool ind_trap_value_number(struct ind_slice values, struct ind_slice name, int64_t *number)
{
    struct ind_slice text, word;
    while (next_value(&values, &text, &word))
        if (ind_slice_equal(word, name))
            return read_number(text, number);
    return false;
}

bool ind_trap_values_are_good(struct ind_slice values)
{
    struct ind_slice text, word;
    int64_t number;
    while (values.length > 0)
        if (!next_value(&values, &text, &word) || !read_number(text, &number) || !ind_trap_name_is_good(word))
            return false;
    return true;
}

bool ind_trap_name_is_good(struct ind_slice name)
{
    if (name.length == 0 || name.length > 100 || !ind_is_alpha(name.at[0]))
        return false;
    for (size_t i = 0; i < name.length; i++)
        if (!ind_is_alpha(name.at[i]) && !ind_is_digit(name.at[i]) && !strchr("-_.", name.at[i]))
            return false;
    return true;
}
