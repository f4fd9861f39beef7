#include "core/trap/names.h"

#include "core/trap/ber.h"
#include <stdlib.h>

/* A place of the table: an identifier by its hash and length. */
struct place {
    uint32_t hash, length; /* length 0: free */
    const struct ind_trap_name *name;
};

/* All beginnings of an identifier are hashed in one pass over it. A filter of bits tells for most of them
 * that they have no name; the longest of the others is looked up first. */
enum { FILTER = 8192 /* bits */ };

struct ind_trap_names {
    struct ind_trap_name *list;
    size_t count;
    struct place *places; /* `slots` of them, a power of two */
    size_t slots;
    uint64_t filter[FILTER / 64];
    const struct ind_trap_name **by_name; /* all, in the order of their names; of equal ones the last first */
    char *bytes;                          /* of all identifiers and names */
};

void ind_trap_names_free(struct ind_trap_names *names)
{
    if (!names)
        return;
    free(names->list);
    free(names->by_name);
    free(names->places);
    free(names->bytes);
    free(names);
}

static inline uint32_t hash_on(uint32_t hash, char byte)
{
    return (hash ^ (unsigned char)byte) * UINT32_C(0x9E3779B1);
}

static inline uint32_t bit_of(uint32_t hash)
{
    return hash >> 19;
}

static struct place *find_place(const struct ind_trap_names *names, uint32_t hash, struct ind_slice oid)
{
    for (size_t at = (hash >> 7) & (names->slots - 1);; at = (at + 1) & (names->slots - 1)) {
        struct place *place = &names->places[at];
        if (place->length == 0 || (place->hash == hash && place->length == oid.length &&
                                   memcmp(place->name->oid.at, oid.at, oid.length) == 0))
            return place;
    }
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

static void place_name(struct ind_trap_names *names, const struct ind_trap_name *name)
{
    uint32_t hash = 0;
    for (size_t i = 0; i < name->oid.length; i++)
        hash = hash_on(hash, name->oid.at[i]);
    names->filter[bit_of(hash) / 64] |= UINT64_C(1) << bit_of(hash) % 64;
    *find_place(names, hash, name->oid) = (struct place){hash, (uint32_t)name->oid.length, name};
}

/* Each identifier once; those that others are below are groups. False where memory is out. */
static bool place_names(struct ind_trap_names *names)
{
    struct ind_trap_name **sorted = malloc((names->count + 1) * sizeof *sorted), *last = NULL;
    for (names->slots = 16; names->slots < 2 * names->count;)
        names->slots *= 2;
    names->places = calloc(names->slots, sizeof *names->places);
    for (size_t i = 0; sorted && i < names->count; i++)
        sorted[i] = &names->list[i];
    if (sorted && names->places)
        qsort(sorted, names->count, sizeof *sorted, compare);
    for (size_t i = 0; sorted && names->places && i < names->count; i++) {
        if (last && ind_slice_equal(last->oid, sorted[i]->oid))
            continue;
        if (last && ind_slice_starts(sorted[i]->oid, last->oid))
            last->group = true;
        place_name(names, sorted[i]);
        last = sorted[i];
    }
    free(sorted);
    return sorted && names->places;
}

static int compare_names(const void *a, const void *b)
{
    const struct ind_trap_name *one = *(const struct ind_trap_name *const *)a,
                               *other = *(const struct ind_trap_name *const *)b;
    const int order = ind_slice_compare(one->name, other->name);
    return order ? order : (one < other) - (one > other);
}

static bool sort_by_name(struct ind_trap_names *names)
{
    names->by_name = malloc((names->count + 1) * sizeof *names->by_name);
    for (size_t i = 0; names->by_name && i < names->count; i++)
        names->by_name[i] = &names->list[i];
    if (names->by_name)
        qsort(names->by_name, names->count, sizeof *names->by_name, compare_names);
    return names->by_name != NULL;
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
        if (place_names(names) && sort_by_name(names))
            return names;
    }
    ind_trap_names_free(names);
    return NULL;
}

const struct ind_trap_name *ind_trap_names_find(const struct ind_trap_names *names, struct ind_slice oid,
                                                struct ind_slice *rest)
{
    enum { MOST = 16 }; /* beginnings that may have names; the longest ones are kept */
    struct {
        uint32_t hash, length;
    } likely[MOST];
    uint32_t hash = 0;
    size_t count = 0;
    for (size_t i = 0; i < oid.length; i++) {
        hash = hash_on(hash, oid.at[i]);
        if (!(names->filter[bit_of(hash) / 64] >> bit_of(hash) % 64 & 1))
            continue;
        likely[count % MOST].hash = hash;
        likely[count++ % MOST].length = (uint32_t)(i + 1);
    }
    for (size_t left = count < MOST ? count : MOST; left > 0; left--) {
        count--;
        const struct ind_slice head = {oid.at, likely[count % MOST].length};
        const struct place *place = find_place(names, likely[count % MOST].hash, head);
        if (place->length == 0)
            continue;
        *rest = ind_slice_from(oid, head.length);
        return place->name;
    }
    *rest = oid;
    return NULL;
}

const struct ind_trap_name *ind_trap_names_named(const struct ind_trap_names *names, struct ind_slice name)
{
    size_t low = 0;
    for (size_t high = names->count; low < high;) {
        const size_t middle = (low + high) / 2;
        if (ind_slice_compare(names->by_name[middle]->name, name) < 0)
            low = middle + 1;
        else
            high = middle;
    }
    return low < names->count && ind_slice_equal(names->by_name[low]->name, name) ? names->by_name[low]
                                                                                  : NULL;
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

/* They are well formed: nothing is checked again. */
struct ind_slice ind_trap_value_name(struct ind_slice values, int64_t number)
{
    const char *at = values.at, *end = at ? at + values.length : at;
    while (at < end) {
        const bool negative = *at == '-';
        int64_t one = 0;
        for (at += negative; at < end && *at != '='; at++)
            one = one * 10 + (*at - '0');
        const char *word = at < end ? at + 1 : end, *stop = word;
        while (stop < end && *stop != ';')
            stop++;
        if ((negative ? -one : one) == number)
            return (struct ind_slice){word, (size_t)(stop - word)};
        at = stop + (stop < end);
    }
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
