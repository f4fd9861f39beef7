/* Literals are put into groups by their length. A group looks at every `step`th place of the text, at `width`
 * bytes there. A literal of `width + step - 1` bytes or more covers one such place wholly wherever it stands,
 * so `step` windows of it are enough. A bit filter says for almost all places that no window begins there;
 * what it lets pass is looked up, and compared whole. */
#include "core/literals.h"

#include "core/find.h"
#include <stdlib.h>

enum { GROUPS = 5, MOST_CHOICES = 64, FEWEST_BITS = 12, MOST_BITS = 20, NOBODY = 0 };

/* By the shortest literal that a group takes: the last that fits is a literal's. */
static const struct shape {
    uint8_t shortest, width, step;
} shapes[GROUPS] = {{1, 1, 1}, {2, 2, 1}, {3, 3, 1}, {4, 3, 2}, {7, 4, 4}};

/* One window of one literal. */
struct entry {
    uint32_t literal, offset, next; /* next with the same value: index + 1 */
};

struct slot {
    uint32_t value, first; /* first entry: index + 1; NOBODY: free */
};

struct group {
    struct shape shape;
    uint32_t mask, fold; /* of a window's bytes */
    unsigned filter_shift, slot_shift;
    uint64_t *filter;
    struct slot *slots;
    struct entry *entries;
    uint32_t entry_count;
};

struct ind_literals {
    const struct ind_slice *texts;
    struct ind_slice *own; /* what `texts` is */
    bool nocase;
    unsigned group_count;
    struct group groups[GROUPS];
};

static uint32_t hash_of(uint32_t value)
{
    return value * UINT32_C(0x9E3779B1);
}

static uint32_t load(const char *at, unsigned width)
{
    unsigned char bytes[4] = {0};
    memcpy(bytes, at, width);
    return bytes[0] | (uint32_t)bytes[1] << 8 | (uint32_t)bytes[2] << 16 | (uint32_t)bytes[3] << 24;
}

static uint32_t load_four(const char *at)
{
#if defined(__BYTE_ORDER__) && __BYTE_ORDER__ == __ORDER_LITTLE_ENDIAN__
    uint32_t value;
    memcpy(&value, at, sizeof value);
    return value;
#else
    return load(at, 4);
#endif
}

static struct slot *slot_of(const struct group *group, uint32_t value)
{
    const uint32_t last = UINT32_MAX >> group->slot_shift;
    uint32_t place = hash_of(value) >> group->slot_shift;
    while (group->slots[place].first != NOBODY && group->slots[place].value != value)
        place = (place + 1) & last;
    return &group->slots[place];
}

static void add_entry(struct group *group, uint32_t value, uint32_t literal, size_t offset)
{
    struct slot *slot = slot_of(group, value);
    group->entries[group->entry_count] = (struct entry){literal, (uint32_t)offset, slot->first};
    slot->value = value;
    slot->first = ++group->entry_count;
    uint32_t bit = hash_of(value) >> group->filter_shift;
    group->filter[bit / 64] |= UINT64_C(1) << bit % 64;
}

static uint32_t window(const struct group *group, struct ind_slice text, size_t at)
{
    return (load(text.at + at, group->shape.width) | group->fold) & group->mask;
}

/* How bad it is to have the windows from here on: literals that share a window are all compared where it
 * stands, and common bytes stand everywhere. */
static unsigned long badness(const struct group *group, struct ind_slice text, size_t from)
{
    unsigned long sum = 0;
    for (size_t i = 0; i < group->shape.step; i++) {
        const struct slot *slot = slot_of(group, window(group, text, from + i));
        unsigned shared = 0;
        for (uint32_t entry = slot->first; entry && shared < 64; entry = group->entries[entry - 1].next)
            shared++;
        sum += shared * 4000ul;
        unsigned long common = 1;
        for (size_t k = 0; k < group->shape.width; k++)
            common = common * ind_byte_commonness((unsigned char)text.at[from + i + k]) / 64 + 1;
        sum += common;
    }
    return sum;
}

static void add_literal(struct group *group, struct ind_slice text, uint32_t number)
{
    size_t choices = text.length - (size_t)(group->shape.width + group->shape.step - 1) + 1, best = 0;
    unsigned long least = (unsigned long)-1;
    for (size_t from = 0; from < choices && from < MOST_CHOICES; from++) {
        unsigned long bad = badness(group, text, from);
        if (bad < least) {
            least = bad;
            best = from;
        }
    }
    for (size_t i = 0; i < group->shape.step; i++)
        add_entry(group, window(group, text, best + i), number, best + i);
}

static unsigned bits_for(size_t windows, unsigned a_window)
{
    unsigned bits = FEWEST_BITS;
    while (bits < MOST_BITS && (size_t)1 << bits < windows * a_window)
        bits++;
    return bits;
}

static bool make_group(struct ind_literals *literals, unsigned shape, size_t count, size_t in_group)
{
    struct group *group = &literals->groups[literals->group_count++];
    group->shape = shapes[shape];
    group->mask = UINT32_MAX >> (32 - 8 * group->shape.width);
    group->fold = literals->nocase ? UINT32_C(0x20202020) : 0;
    size_t windows = in_group * group->shape.step, slots = 64;
    unsigned filter_bits = bits_for(windows, 32), slot_bits = 6;
    for (; slots < windows * 2; slots *= 2)
        slot_bits++;
    group->filter_shift = 32 - filter_bits;
    group->slot_shift = 32 - slot_bits;
    group->filter = calloc(((size_t)1 << filter_bits) / 64, sizeof *group->filter);
    group->slots = calloc(slots, sizeof *group->slots);
    group->entries = calloc(windows, sizeof *group->entries);
    if (!group->filter || !group->slots || !group->entries)
        return false;
    for (size_t i = 0; i < count; i++) {
        size_t length = literals->texts[i].length;
        if (length >= shapes[shape].shortest && (shape + 1 == GROUPS || length < shapes[shape + 1].shortest))
            add_literal(group, literals->texts[i], (uint32_t)i);
    }
    return true;
}

struct ind_literals *ind_literals_new(const struct ind_slice *texts, size_t count, bool nocase)
{
    struct ind_literals *literals = calloc(1, sizeof *literals);
    struct ind_slice *own = calloc(count ? count : 1, sizeof *own);
    size_t in_shape[GROUPS] = {0};
    if (!literals || !own) {
        free(literals);
        free(own);
        return NULL;
    }
    memcpy(own, texts, count * sizeof *own);
    literals->texts = literals->own = own;
    literals->nocase = nocase;
    for (size_t i = 0; i < count; i++) {
        unsigned shape = 0;
        while (shape + 1 < GROUPS && texts[i].length >= shapes[shape + 1].shortest)
            shape++;
        in_shape[shape]++;
    }
    for (unsigned shape = 0; shape < GROUPS; shape++)
        if (in_shape[shape] > 0 && !make_group(literals, shape, count, in_shape[shape])) {
            ind_literals_free(literals);
            return NULL;
        }
    return literals;
}

void ind_literals_free(struct ind_literals *literals)
{
    if (!literals)
        return;
    for (unsigned i = 0; i < literals->group_count; i++) {
        free(literals->groups[i].filter);
        free(literals->groups[i].slots);
        free(literals->groups[i].entries);
    }
    free(literals->own);
    free(literals);
}

/* ---- Looking ---- */

struct pass {
    const struct ind_literals *literals;
    const struct group *group;
    struct ind_slice text;
    bool (*found)(void *context, uint32_t literal, const char *at);
    void *context;
};

/* The filter has let a place pass. False where enough is found. */
static IND_COLD bool look_up(const struct pass *pass, uint32_t value, size_t place)
{
    const struct slot *slot = slot_of(pass->group, value);
    for (uint32_t next = slot->first; next;) {
        const struct entry *entry = &pass->group->entries[next - 1];
        next = entry->next;
        if (entry->offset > place)
            continue;
        struct ind_slice here = ind_slice_from(pass->text, place - entry->offset);
        struct ind_slice literal = pass->literals->texts[entry->literal];
        bool stands =
            pass->literals->nocase ? ind_slice_starts_nocase(here, literal) : ind_slice_starts(here, literal);
        if (stands && !pass->found(pass->context, entry->literal, here.at))
            return false;
    }
    return true;
}

static IND_INLINE bool passes(const struct group *group, uint32_t value)
{
    uint32_t bit = hash_of(value) >> group->filter_shift;
    return group->filter[bit / 64] >> bit % 64 & 1;
}

static IND_INLINE bool pass_over(const struct pass *pass, size_t step, uint32_t mask, uint32_t fold)
{
    const struct group *group = pass->group;
    const char *text = pass->text.at;
    size_t length = pass->text.length, place = 0;
    const unsigned width = group->shape.width;
    /* Four bytes are loaded wherever they are there, four places a turn. */
    for (; place + 3 * step + 4 <= length; place += 4 * step) {
        uint32_t a = (load_four(text + place) | fold) & mask;
        uint32_t b = (load_four(text + place + step) | fold) & mask;
        uint32_t c = (load_four(text + place + 2 * step) | fold) & mask;
        uint32_t d = (load_four(text + place + 3 * step) | fold) & mask;
        bool in_a = passes(group, a), in_b = passes(group, b), in_c = passes(group, c),
             in_d = passes(group, d);
        if (!(in_a | in_b | in_c | in_d))
            continue;
        if ((in_a && !look_up(pass, a, place)) || (in_b && !look_up(pass, b, place + step)) ||
            (in_c && !look_up(pass, c, place + 2 * step)) || (in_d && !look_up(pass, d, place + 3 * step)))
            return false;
    }
    for (; place + width <= length; place += step) {
        uint32_t value = (load(text + place, width) | fold) & mask;
        if (passes(group, value) && !look_up(pass, value, place))
            return false;
    }
    return true;
}

static bool keep_place(void *context, uint32_t literal, const char *at)
{
    (void)literal;
    *(const char **)context = at;
    return false;
}

static bool run(const struct pass *pass)
{
    const struct group *group = pass->group;
    /* The common cases with constants for the compiler. */
    if (group->shape.step == 4 && !group->fold)
        return pass_over(pass, 4, UINT32_MAX, 0);
    if (group->shape.step == 2 && !group->fold)
        return pass_over(pass, 2, UINT32_MAX >> 8, 0);
    return pass_over(pass, group->shape.step, group->mask, group->fold);
}

void ind_literals_scan(const struct ind_literals *literals, struct ind_slice text,
                       bool (*found)(void *context, uint32_t literal, const char *at), void *context)
{
    for (unsigned i = 0; i < literals->group_count; i++) {
        const struct pass pass = {literals, &literals->groups[i], text, found, context};
        if (!run(&pass))
            return;
    }
}

/* What a group has found ahead stays good until the walk has come so far: no part of the text is gone over
 * twice by one group. */
const char *ind_literals_next(const struct ind_literals *literals, struct ind_literals_walk *walk,
                              const char *at, const char *end)
{
    const char *first = end;
    for (unsigned i = 0; i < literals->group_count; i++) {
        if (!walk->next[i] || walk->next[i] < at) {
            walk->next[i] = end;
            const struct pass pass = {
                literals, &literals->groups[i], {at, (size_t)(end - at)}, keep_place, (void *)&walk->next[i]};
            (void)run(&pass);
        }
        if (walk->next[i] < first)
            first = walk->next[i];
    }
    return first < end ? first : NULL;
}
