/* Literals are put into groups by their length. A group looks at every `step`th place of the text, at `width`
 * bytes there. A literal of `width + step - 1` bytes or more covers one such place wholly wherever it stands,
 * so `step` windows of it are enough. A bit filter says for almost all places that no window begins there;
 * what it lets pass is looked up. Literals that share a window ("port 17 down", "port 18 down") are told
 * apart by what follows it, in a sorted table: there may be thousands of them.
 *
 * Where there are only a few, and the machine can shuffle 32 bytes at once, one window each of three bytes is
 * enough, and all places are looked at, 32 at a time: for each half byte of each of three bytes a table says
 * which of eight sets of windows have it there; what all six tables have in common is looked up. */
#include "core/literals.h"

#include "core/find.h"
#include "core/prefixes.h"
#include <stdlib.h>

#if defined(__x86_64__) && (defined(__GNUC__) || defined(__clang__))
#define IND_X86 1
#include <immintrin.h>
#endif

/* Two sizes of filters, so that the compiler knows them: one stays in the nearest cache, the other is for
 * thousands of literals. */
enum {
    GROUPS = 5,
    MOST_CHOICES = 24,
    MOST_COMPARED = 8,
    FEW = 4,
    LONGEST_FOLDED = 200,
    FEW_WIDTH = 3,
    FEW_LITERALS = 64,
    FEW_SHAPE = 2,
    SMALL_BITS = 16,
    LARGE_BITS = 20,
    WINDOWS_IN_SMALL = 4096,
    NOBODY = 0
};

/* By the shortest literal that a group takes: the last that fits is a literal's. */
static const struct shape {
    uint8_t shortest, width, step;
} shapes[GROUPS] = {{1, 1, 1}, {2, 2, 1}, {3, 3, 1}, {4, 3, 2}, {7, 4, 4}};

/* One window of one literal. */
struct entry {
    uint32_t literal, offset;
    uint32_t next; /* while the group is made: the next with the same value: index + 1; then, of those that
                      are told apart by a table: how many from here on have the same text behind the window */
};

/* All windows of one value. */
struct slot {
    uint32_t value, first; /* first entry: index + 1; NOBODY: free */
    uint32_t count;
    uint32_t table; /* index + 1 of what tells them apart; 0: they are few */
};

struct group {
    struct shape shape;
    uint32_t mask, fold; /* of a window's bytes */
    unsigned filter_bits, slot_shift;
    uint64_t *filter;
    struct slot *slots;
    struct entry *entries;
    uint32_t entry_count;
    struct ind_prefixes *tables;
    uint32_t table_count;
    char *folded; /* the tables' texts, where case does not matter */
    bool few;
    uint8_t low[FEW_WIDTH][16], high[FEW_WIDTH][16]; /* a bit for each of eight sets, by half byte */
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
    slot->count++;
    slot->first = ++group->entry_count;
    uint32_t bit = hash_of(value) >> (32 - group->filter_bits);
    group->filter[bit / 64] |= UINT64_C(1) << bit % 64;
}

/* A literal from its window on. */
static struct ind_slice behind(const struct ind_literals *literals, const struct entry *entry)
{
    return ind_slice_from(literals->texts[entry->literal], entry->offset);
}

static uint32_t window(const struct group *group, struct ind_slice text, size_t at)
{
    return (load(text.at + at, group->shape.width) | group->fold) & group->mask;
}

/* How bad it is to have the windows from here on: those that share a window and what follows it are all
 * compared where it stands, and common bytes stand everywhere. */
static unsigned long badness(const struct ind_literals *literals, const struct group *group,
                             struct ind_slice text, size_t from)
{
    unsigned long sum = 0;
    for (size_t i = 0; i < group->shape.step; i++) {
        const struct slot *slot = slot_of(group, window(group, text, from + i));
        unsigned compared = 0;
        for (uint32_t next = slot->first; next && compared < MOST_COMPARED; compared++) {
            const struct entry *entry = &group->entries[next - 1];
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

static void add_literal(const struct ind_literals *literals, struct group *group, uint32_t number)
{
    const struct ind_slice text = literals->texts[number];
    size_t choices = text.length - (size_t)(group->shape.width + group->shape.step - 1) + 1, best = 0;
    unsigned long least = (unsigned long)-1;
    for (size_t from = 0; from < choices && from < MOST_CHOICES; from++) {
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
    struct entry entry;
};

static int by_text_behind(const void *a, const void *b)
{
    return ind_slice_compare(((const struct placed *)a)->behind, ((const struct placed *)b)->behind);
}

static void fold(char *to, struct ind_slice text)
{
    for (size_t i = 0; i < text.length; i++)
        to[i] = ind_lower(text.at[i]);
}

/* A table for the entries of a slot, which stand in the order of what is behind them. */
static bool make_table(struct group *group, struct slot *slot, struct placed *placed)
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
static bool settle(struct ind_literals *literals, struct group *group)
{
    struct placed *placed = calloc(group->entry_count + 1, sizeof *placed);
    struct entry *entries = calloc(group->entry_count + 1, sizeof *entries);
    group->tables = calloc(group->entry_count / FEW + 1, sizeof *group->tables);
    size_t folded = 0, length = 0;
    for (uint32_t i = 0; literals->nocase && i < group->entry_count; i++)
        length += behind(literals, &group->entries[i]).length;
    group->folded = malloc(length + 1);
    bool good = placed && entries && group->tables && group->folded;
    uint32_t used = 0;
    for (uint32_t s = 0; good && s <= UINT32_MAX >> group->slot_shift; s++) {
        struct slot *slot = &group->slots[s];
        uint32_t count = 0;
        for (uint32_t next = slot->first; next; next = group->entries[next - 1].next) {
            struct placed *here = &placed[count++];
            *here = (struct placed){behind(literals, &group->entries[next - 1]), group->entries[next - 1]};
            if (literals->nocase) {
                fold(group->folded + folded, here->behind);
                here->behind.at = group->folded + folded;
                folded += here->behind.length;
            }
        }
        bool long_ones = false;
        for (uint32_t i = 0; i < count; i++)
            long_ones |= literals->nocase && placed[i].behind.length > LONGEST_FOLDED;
        if (count > FEW && !long_ones) {
            qsort(placed, count, sizeof *placed, by_text_behind);
            good = make_table(group, slot, placed);
        }
        slot->first = count ? used + 1 : NOBODY;
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
static void make_sets(struct group *group)
{
    uint32_t values[FEW_LITERALS];
    size_t count = 0;
    for (uint32_t s = 0; s <= UINT32_MAX >> group->slot_shift; s++)
        if (group->slots[s].first != NOBODY)
            values[count++] = group->slots[s].value;
    qsort(values, count, sizeof *values, by_value);
    for (size_t i = 0; i < count; i++)
        for (unsigned k = 0; k < FEW_WIDTH; k++) {
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
#ifdef IND_X86
    bool few = count <= FEW_LITERALS && __builtin_cpu_supports("avx2");
    for (size_t i = 0; i < count && few; i++)
        few = texts[i].length >= FEW_WIDTH;
    return few;
#else
    (void)texts;
    (void)count;
    return false;
#endif
}

static bool make_group(struct ind_literals *literals, unsigned shape, size_t count, size_t in_group)
{
    struct group *group = &literals->groups[literals->group_count++];
    group->shape = shapes[shape];
    group->mask = UINT32_MAX >> (32 - 8 * group->shape.width);
    group->fold = literals->nocase ? UINT32_C(0x20202020) : 0;
    size_t windows = in_group * group->shape.step, slots = 64;
    unsigned slot_bits = 6;
    for (; slots < windows * 2; slots *= 2)
        slot_bits++;
    group->filter_bits = windows <= WINDOWS_IN_SMALL ? SMALL_BITS : LARGE_BITS;
    group->slot_shift = 32 - slot_bits;
    group->filter = calloc(((size_t)1 << group->filter_bits) / 64, sizeof *group->filter);
    group->slots = calloc(slots, sizeof *group->slots);
    group->entries = calloc(windows, sizeof *group->entries);
    if (!group->filter || !group->slots || !group->entries)
        return false;
    for (size_t i = 0; i < count; i++) {
        size_t length = literals->texts[i].length;
        bool of_shape =
            length >= shapes[shape].shortest && (shape + 1 == GROUPS || length < shapes[shape + 1].shortest);
        if (of_shape || in_group == count)
            add_literal(literals, group, (uint32_t)i);
    }
    return settle(literals, group);
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
    bool few = are_few(texts, count);
    for (size_t i = 0; i < count; i++) {
        unsigned shape = few ? FEW_SHAPE : 0;
        while (!few && shape + 1 < GROUPS && texts[i].length >= shapes[shape + 1].shortest)
            shape++;
        in_shape[shape]++;
    }
    for (unsigned shape = 0; shape < GROUPS; shape++)
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

/* Some entries whose window stands at a place. False where enough is found. */
static bool compare(const struct pass *pass, const struct entry *entries, uint32_t count, size_t place)
{
    for (uint32_t i = 0; i < count; i++) {
        const struct entry *entry = &entries[i];
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

/* Only those whose text behind the window is there. */
static bool look_up_many(const struct pass *pass, const struct slot *slot, size_t place)
{
    const struct ind_prefixes *table = &pass->group->tables[slot->table - 1];
    const struct entry *entries = &pass->group->entries[slot->first - 1];
    struct ind_slice here = ind_slice_from(pass->text, place);
    char folded[LONGEST_FOLDED];
    if (pass->literals->nocase) {
        here.length = here.length < LONGEST_FOLDED ? here.length : LONGEST_FOLDED;
        fold(folded, here);
        here.at = folded;
    }
    for (uint32_t at = ind_prefixes_find(table, here); at; at = table->list[at - 1].above) {
        uint32_t first = table->list[at - 1].number;
        if (!compare(pass, &entries[first], entries[first].next, place))
            return false;
    }
    return true;
}

/* The filter has let a place pass. */
static IND_COLD bool look_up(const struct pass *pass, uint32_t value, size_t place)
{
    const struct slot *slot = slot_of(pass->group, value);
    if (slot->table)
        return look_up_many(pass, slot, place);
    return slot->first == NOBODY || compare(pass, &pass->group->entries[slot->first - 1], slot->count, place);
}

static IND_INLINE bool passes(const uint64_t *filter, unsigned bits, uint32_t value)
{
    uint32_t bit = hash_of(value) >> (32 - bits);
    return filter[bit / 64] >> bit % 64 & 1;
}

/* The window at a place behind which less than four bytes may be left. */
static IND_INLINE uint32_t load_near_end(const char *text, size_t length, size_t place, unsigned width)
{
    if (length < 4)
        return load(text + place, width);
    return place + 4 <= length ? load_four(text + place)
                               : load_four(text + length - 4) >> 8 * (place + 4 - length);
}

/* Four places of which the first is given; all of their bytes are there. False where enough is found. */
static IND_INLINE bool try_four(const struct pass *pass, size_t place, size_t step, uint32_t mask,
                                uint32_t fold, unsigned bits)
{
    const uint64_t *filter = pass->group->filter;
    const char *text = pass->text.at + place;
    uint32_t a = (load_four(text) | fold) & mask, b = (load_four(text + step) | fold) & mask;
    uint32_t c = (load_four(text + 2 * step) | fold) & mask, d = (load_four(text + 3 * step) | fold) & mask;
    bool in_a = passes(filter, bits, a), in_b = passes(filter, bits, b);
    bool in_c = passes(filter, bits, c), in_d = passes(filter, bits, d);
    if (!(in_a | in_b | in_c | in_d))
        return true;
    return (!in_a || look_up(pass, a, place)) && (!in_b || look_up(pass, b, place + step)) &&
           (!in_c || look_up(pass, c, place + 2 * step)) && (!in_d || look_up(pass, d, place + 3 * step));
}

/* The last four places end with the text, and are not in step with those before: a place too many does no
 * harm, and a loop over the rest would cost more. */
static IND_INLINE bool pass_over(const struct pass *pass, size_t step, uint32_t mask, uint32_t fold,
                                 unsigned bits)
{
    const size_t length = pass->text.length, turn = 3 * step + 4;
    const unsigned width = pass->group->shape.width;
    size_t place = 0;
    if (length >= turn) {
        for (; place + turn <= length; place += 4 * step)
            if (!try_four(pass, place, step, mask, fold, bits))
                return false;
        if (!try_four(pass, length - turn, step, mask, fold, bits))
            return false;
        if (step > 1)
            return true;
        place = length - 3; /* windows of less than four bytes begin there too */
    }
    for (; place + width <= length; place += step) {
        uint32_t value = (load_near_end(pass->text.at, length, place, width) | fold) & mask;
        if (passes(pass->group->filter, bits, value) && !look_up(pass, value, place))
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

#ifdef IND_X86
__attribute__((target("avx2"))) static bool pass_over_few(const struct pass *pass)
{
    const struct group *group = pass->group;
    const char *text = pass->text.at;
    const size_t length = pass->text.length, turn = 32 + FEW_WIDTH - 1;
    const __m256i half = _mm256_set1_epi8(15), none = _mm256_setzero_si256();
    __m256i low[FEW_WIDTH], high[FEW_WIDTH];
    for (int k = 0; k < FEW_WIDTH; k++) {
        low[k] = _mm256_broadcastsi128_si256(_mm_loadu_si128((const __m128i *)(const void *)group->low[k]));
        high[k] = _mm256_broadcastsi128_si256(_mm_loadu_si128((const __m128i *)(const void *)group->high[k]));
    }
    /* The last 32 places end with the text: some are looked at twice, which does no harm. */
    for (size_t next = 0, place; next + FEW_WIDTH <= length; next = place + 32) {
        place = next + turn <= length ? next : length - turn;
        __m256i sets = _mm256_set1_epi8(-1);
        for (int k = 0; k < FEW_WIDTH; k++) {
            __m256i bytes = _mm256_loadu_si256((const __m256i *)(const void *)(text + place + k));
            __m256i upper = _mm256_and_si256(_mm256_srli_epi16(bytes, 4), half);
            sets = _mm256_and_si256(sets, _mm256_shuffle_epi8(low[k], _mm256_and_si256(bytes, half)));
            sets = _mm256_and_si256(sets, _mm256_shuffle_epi8(high[k], upper));
        }
        uint32_t hits = ~(uint32_t)_mm256_movemask_epi8(_mm256_cmpeq_epi8(sets, none));
        for (; hits; hits &= hits - 1) {
            size_t at = place + (size_t)__builtin_ctz(hits);
            uint32_t value = (load_near_end(text, length, at, FEW_WIDTH) | group->fold) & group->mask;
            if (passes(group->filter, SMALL_BITS, value) && !look_up(pass, value, at))
                return false;
        }
    }
    return true;
}
#endif

static bool run(const struct pass *pass)
{
    const struct group *group = pass->group;
#ifdef IND_X86
    if (group->few && pass->text.length >= 32 + FEW_WIDTH - 1)
        return pass_over_few(pass);
#endif
    /* The common cases with constants for the compiler. */
    if (group->filter_bits == LARGE_BITS)
        return pass_over(pass, group->shape.step, group->mask, group->fold, LARGE_BITS);
    if (group->shape.step == 4)
        return pass_over(pass, 4, UINT32_MAX, group->fold, SMALL_BITS);
    if (group->shape.step == 2)
        return pass_over(pass, 2, UINT32_MAX >> 8, group->fold, SMALL_BITS);
    return pass_over(pass, 1, group->mask, group->fold, SMALL_BITS);
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
