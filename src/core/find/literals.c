/* Literals are put into groups by their length. A group looks at every `step`th place of the text, at `width`
 * bytes there. A literal of `width + step - 1` bytes or more covers one such place wholly wherever it stands,
 * so `step` windows of it are enough. A bit filter says for almost all places that no window begins there;
 * what it lets pass is looked up. Literals that share a window ("port 17 down", "port 18 down") are told
 * apart by what follows it, in a sorted table: there may be thousands of them.
 *
 * Where there are only a few, and the machine can shuffle 32 bytes at once, one window each of three bytes is
 * enough, and all places are looked at, 32 at a time: for each half byte of each of three bytes a table says
 * which of eight sets of windows have it there; what all six tables have in common is looked up. */
#include "core/find/find.h"
#include "core/find/literals_private.h"

#include <stdlib.h>

/* By the shortest literal that a group takes: the last that fits is a literal's. */
static const struct ind_literal_shape shapes[IND_LITERAL_GROUPS] = {
    {1, 1, 1}, {2, 2, 1}, {3, 3, 1}, {4, 3, 2}, {7, 4, 4}};

static void add_entry(struct ind_literal_group *group, uint32_t value, uint32_t literal, size_t offset)
{
    struct ind_literal_slot *slot = slot_of(group, value);
    group->entries[group->entry_count] = (struct ind_literal_entry){literal, (uint32_t)offset, slot->first};
    slot->value = value;
    slot->count++;
    slot->first = ++group->entry_count;
    uint32_t bit = hash_of(value) >> (32 - group->filter_bits);
    group->filter[bit / 64] |= UINT64_C(1) << bit % 64;
}

/* A literal from its window on. */
static struct ind_slice behind(const struct ind_literals *literals, const struct ind_literal_entry *entry)
{
    return ind_slice_from(literals->texts[entry->literal], entry->offset);
}

static uint32_t window(const struct ind_literal_group *group, struct ind_slice text, size_t at)
{
    return (load(text.at + at, group->shape.width) | group->fold) & group->mask;
}

/* How bad it is to have the windows from here on: those that share a window and what follows it are all
 * compared where it stands, and common bytes stand everywhere. */
static unsigned long badness(const struct ind_literals *literals, const struct ind_literal_group *group,
                             struct ind_slice text, size_t from)
{
    unsigned long sum = 0;
    for (size_t i = 0; i < group->shape.step; i++) {
        const struct ind_literal_slot *slot = slot_of(group, window(group, text, from + i));
        unsigned compared = 0;
        for (uint32_t next = slot->first; next && compared < IND_LITERAL_MOST_COMPARED; compared++) {
            const struct ind_literal_entry *entry = &group->entries[next - 1];
            if (ind_slice_equal(behind(literals, entry), ind_slice_from(text, from + i)))
                sum += 4000;
            next = entry->next;
        }
        unsigned long common = 1;
        for (size_t k = 0; k < group->shape.width; k++)
            common = common * ind_byte_commonness((unsigned char)text.at[from + i + k]) / 64 + 1;
        sum += common;
    }
    return sum;
}

static void add_literal(const struct ind_literals *literals, struct ind_literal_group *group, uint32_t number)
{
    const struct ind_slice text = literals->texts[number];
    size_t choices = text.length - (size_t)(group->shape.width + group->shape.step - 1) + 1, best = 0;
    unsigned long least = (unsigned long)-1;
    for (size_t from = 0; from < choices && from < IND_LITERAL_MOST_CHOICES; from++) {
        unsigned long bad = badness(literals, group, text, from);
        if (bad < least) {
            least = bad;
            best = from;
        }
    }
    for (size_t i = 0; i < group->shape.step; i++)
        add_entry(group, window(group, text, best + i), number, best + i);
}

/* On its way into its place. */
struct placed {
    struct ind_slice behind;
    struct ind_literal_entry entry;
};

static int by_text_behind(const void *a, const void *b)
{
    return ind_slice_compare(((const struct placed *)a)->behind, ((const struct placed *)b)->behind);
}

/* A table for the entries of a slot, which stand in the order of what is behind them. */
static bool make_table(struct ind_literal_group *group, struct ind_literal_slot *slot, struct placed *placed)
{
    struct ind_prefix *list = calloc(slot->count, sizeof *list);
    size_t count = 0;
    for (uint32_t i = 0, to; list && i < slot->count; i = to) {
        for (to = i + 1; to < slot->count && ind_slice_equal(placed[i].behind, placed[to].behind); to++)
            ;
        placed[i].entry.next = to - i;
        list[count++] = (struct ind_prefix){placed[i].behind, (uint32_t)placed[i].behind.length * 8, i, 0};
    }
    slot->table = ++group->table_count;
    return list && ind_prefixes_make(&group->tables[slot->table - 1], list, count);
}

/* Entries of one value come to stand side by side. */
static bool settle(struct ind_literals *literals, struct ind_literal_group *group)
{
    struct placed *placed = calloc(group->entry_count + 1, sizeof *placed);
    struct ind_literal_entry *entries = calloc(group->entry_count + 1, sizeof *entries);
    group->tables = calloc(group->entry_count / IND_LITERAL_FEW + 1, sizeof *group->tables);
    size_t folded = 0, length = 0;
    for (uint32_t i = 0; literals->nocase && i < group->entry_count; i++)
        length += behind(literals, &group->entries[i]).length;
    group->folded = malloc(length + 1);
    bool good = placed && entries && group->tables && group->folded;
    uint32_t used = 0;
    for (uint32_t s = 0; good && s <= UINT32_MAX >> group->slot_shift; s++) {
        struct ind_literal_slot *slot = &group->slots[s];
        uint32_t count = 0;
        for (uint32_t next = slot->first; next; next = group->entries[next - 1].next) {
            struct placed *here = &placed[count++];
            *here = (struct placed){behind(literals, &group->entries[next - 1]), group->entries[next - 1]};
            if (literals->nocase) {
                ind_lower_all(group->folded + folded, here->behind);
                here->behind.at = group->folded + folded;
                folded += here->behind.length;
            }
        }
        bool long_ones = false;
        for (uint32_t i = 0; i < count; i++)
            long_ones |= literals->nocase && placed[i].behind.length > IND_LITERAL_LONGEST_FOLDED;
        if (count > IND_LITERAL_FEW && !long_ones) {
            qsort(placed, count, sizeof *placed, by_text_behind);
            good = make_table(group, slot, placed);
        }
        slot->first = count ? used + 1 : IND_LITERAL_NOBODY;
        for (uint32_t i = 0; i < count; i++)
            entries[used++] = placed[i].entry;
    }
    free(placed);
    free(group->entries);
    group->entries = entries;
    return good;
}

static int by_value(const void *a, const void *b)
{
    uint32_t x = *(const uint32_t *)a, y = *(const uint32_t *)b;
    return (x > y) - (x < y);
}

/* Like windows come into one set. */
static void make_sets(struct ind_literal_group *group)
{
    uint32_t values[IND_LITERAL_FEW_LITERALS];
    size_t count = 0;
    for (uint32_t s = 0; s <= UINT32_MAX >> group->slot_shift; s++)
        if (group->slots[s].first != IND_LITERAL_NOBODY)
            values[count++] = group->slots[s].value;
    qsort(values, count, sizeof *values, by_value);
    for (size_t i = 0; i < count; i++)
        for (unsigned k = 0; k < IND_LITERAL_FEW_WIDTH; k++) {
            uint8_t byte = (uint8_t)(values[i] >> 8 * k), set = (uint8_t)(1u << i * 8 / count);
            group->low[k][byte & 15] |= set;
            group->high[k][byte >> 4] |= set;
            if (group->fold)
                group->high[k][(byte & 0xDF) >> 4] |= set;
        }
    group->few = true;
}

static bool are_few(const struct ind_slice *texts, size_t count)
{
#ifdef IND_AVX2
    bool few = count <= IND_LITERAL_FEW_LITERALS && __builtin_cpu_supports("avx2");
    for (size_t i = 0; i < count && few; i++)
        few = texts[i].length >= IND_LITERAL_FEW_WIDTH;
    return few;
#else
    (void)texts;
    (void)count;
    return false;
#endif
}

static bool make_group(struct ind_literals *literals, unsigned shape, size_t count, size_t in_group)
{
    struct ind_literal_group *group = &literals->groups[literals->group_count++];
    group->shape = shapes[shape];
    group->mask = UINT32_MAX >> (32 - 8 * group->shape.width);
    group->fold = literals->nocase ? UINT32_C(0x20202020) : 0;
    size_t windows = in_group * group->shape.step, slots = 64;
    unsigned slot_bits = 6;
    for (; slots < windows * 2; slots *= 2)
        slot_bits++;
    group->filter_bits =
        windows <= IND_LITERAL_WINDOWS_IN_SMALL ? IND_LITERAL_SMALL_BITS : IND_LITERAL_LARGE_BITS;
    group->slot_shift = 32 - slot_bits;
    group->filter = calloc(((size_t)1 << group->filter_bits) / 64, sizeof *group->filter);
    group->slots = calloc(slots, sizeof *group->slots);
    group->entries = calloc(windows, sizeof *group->entries);
    if (!group->filter || !group->slots || !group->entries)
        return false;
    for (size_t i = 0; i < count; i++) {
        size_t length = literals->texts[i].length;
        bool of_shape = length >= shapes[shape].shortest &&
                        (shape + 1 == IND_LITERAL_GROUPS || length < shapes[shape + 1].shortest);
        if (of_shape || in_group == count)
            add_literal(literals, group, (uint32_t)i);
    }
    return settle(literals, group);
}

struct ind_literals *ind_literals_new(const struct ind_slice *texts, size_t count, bool nocase)
{
    struct ind_literals *literals = calloc(1, sizeof *literals);
    struct ind_slice *own = calloc(count ? count : 1, sizeof *own);
    size_t in_shape[IND_LITERAL_GROUPS] = {0};
    if (!literals || !own) {
        free(literals);
        free(own);
        return NULL;
    }
    memcpy(own, texts, count * sizeof *own);
    literals->texts = own;
    literals->nocase = nocase;
    bool few = are_few(texts, count);
    for (size_t i = 0; i < count; i++) {
        unsigned shape = few ? IND_LITERAL_FEW_SHAPE : 0;
        while (!few && shape + 1 < IND_LITERAL_GROUPS && texts[i].length >= shapes[shape + 1].shortest)
            shape++;
        in_shape[shape]++;
    }
    for (unsigned shape = 0; shape < IND_LITERAL_GROUPS; shape++)
        if (in_shape[shape] > 0 && !make_group(literals, shape, count, in_shape[shape])) {
            ind_literals_free(literals);
            return NULL;
        }
    if (few && count > 0)
        make_sets(&literals->groups[0]);
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
        for (uint32_t k = 0; k < literals->groups[i].table_count; k++)
            ind_prefixes_free(&literals->groups[i].tables[k]);
        free(literals->groups[i].tables);
        free(literals->groups[i].folded);
    }
    free(literals->texts);
    free(literals);
}
