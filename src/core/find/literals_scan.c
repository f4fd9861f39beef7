/* Going over a text with a set of literals, see literals.c. */
#include "core/find/literals_private.h"

struct pass {
    const struct ind_literals *literals;
    const struct ind_literal_group *group;
    struct ind_slice text;
    bool (*found)(void *context, uint32_t literal, const char *at);
    void *context;
};

/* Some entries whose window stands at a place. False where enough is found. */
static bool compare(const struct pass *pass, const struct ind_literal_entry *entries, uint32_t count,
                    size_t place)
{
    for (uint32_t i = 0; i < count; i++) {
        const struct ind_literal_entry *entry = &entries[i];
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
static bool look_up_many(const struct pass *pass, const struct ind_literal_slot *slot, size_t place)
{
    const struct ind_prefixes *table = &pass->group->tables[slot->table - 1];
    const struct ind_literal_entry *entries = &pass->group->entries[slot->first - 1];
    struct ind_slice here = ind_slice_from(pass->text, place);
    char folded[IND_LITERAL_LONGEST_FOLDED];
    if (pass->literals->nocase) {
        here.length = here.length < IND_LITERAL_LONGEST_FOLDED ? here.length : IND_LITERAL_LONGEST_FOLDED;
        ind_lower_all(folded, here);
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
    const struct ind_literal_slot *slot = slot_of(pass->group, value);
    if (slot->table)
        return look_up_many(pass, slot, place);
    return slot->first == IND_LITERAL_NOBODY ||
           compare(pass, &pass->group->entries[slot->first - 1], slot->count, place);
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
    return place + 4 <= length ? ind_word4(text + place)
                               : ind_word4(text + length - 4) >> 8 * (place + 4 - length);
}

/* Four places of which the first is given; all of their bytes are there. False where enough is found. */
static IND_INLINE bool try_four(const struct pass *pass, size_t place, size_t step, uint32_t mask,
                                uint32_t fold, unsigned bits)
{
    const uint64_t *filter = pass->group->filter;
    const char *text = pass->text.at + place;
    uint32_t a = (ind_word4(text) | fold) & mask, b = (ind_word4(text + step) | fold) & mask;
    uint32_t c = (ind_word4(text + 2 * step) | fold) & mask, d = (ind_word4(text + 3 * step) | fold) & mask;
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
    const size_t length = pass->text.length, stride = 3 * step + 4;
    const unsigned width = pass->group->shape.width;
    size_t place = 0;
    if (length >= stride) {
        for (; place + stride <= length; place += 4 * step)
            if (!try_four(pass, place, step, mask, fold, bits))
                return false;
        if (!try_four(pass, length - stride, step, mask, fold, bits))
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

#ifdef IND_AVX2
__attribute__((target("avx2"))) static bool pass_over_few(const struct pass *pass)
{
    const struct ind_literal_group *group = pass->group;
    const char *text = pass->text.at;
    const size_t length = pass->text.length, stride = 32 + IND_LITERAL_FEW_WIDTH - 1;
    const __m256i half = _mm256_set1_epi8(15), none = _mm256_setzero_si256();
    __m256i low[IND_LITERAL_FEW_WIDTH], high[IND_LITERAL_FEW_WIDTH];
    for (int k = 0; k < IND_LITERAL_FEW_WIDTH; k++) {
        low[k] = _mm256_broadcastsi128_si256(_mm_loadu_si128((const __m128i *)(const void *)group->low[k]));
        high[k] = _mm256_broadcastsi128_si256(_mm_loadu_si128((const __m128i *)(const void *)group->high[k]));
    }
    /* The last 32 places end with the text: some are looked at twice, which does no harm. */
    for (size_t next = 0, place; next + IND_LITERAL_FEW_WIDTH <= length; next = place + 32) {
        place = next + stride <= length ? next : length - stride;
        __m256i sets = _mm256_set1_epi8(-1);
        for (int k = 0; k < IND_LITERAL_FEW_WIDTH; k++) {
            __m256i bytes = _mm256_loadu_si256((const __m256i *)(const void *)(text + place + k));
            __m256i upper = _mm256_and_si256(_mm256_srli_epi16(bytes, 4), half);
            sets = _mm256_and_si256(sets, _mm256_shuffle_epi8(low[k], _mm256_and_si256(bytes, half)));
            sets = _mm256_and_si256(sets, _mm256_shuffle_epi8(high[k], upper));
        }
        uint32_t hits = ~(uint32_t)_mm256_movemask_epi8(_mm256_cmpeq_epi8(sets, none));
        for (; hits; hits &= hits - 1) {
            size_t at = place + (size_t)__builtin_ctz(hits);
            uint32_t value =
                (load_near_end(text, length, at, IND_LITERAL_FEW_WIDTH) | group->fold) & group->mask;
            if (passes(group->filter, IND_LITERAL_SMALL_BITS, value) && !look_up(pass, value, at))
                return false;
        }
    }
    return true;
}
#endif

static bool run(const struct pass *pass)
{
    const struct ind_literal_group *group = pass->group;
#ifdef IND_AVX2
    if (group->few && pass->text.length >= 32 + IND_LITERAL_FEW_WIDTH - 1)
        return pass_over_few(pass);
#endif
    /* The common cases with constants for the compiler. */
    if (group->filter_bits == IND_LITERAL_LARGE_BITS)
        return pass_over(pass, group->shape.step, group->mask, group->fold, IND_LITERAL_LARGE_BITS);
    if (group->shape.step == 4)
        return pass_over(pass, 4, UINT32_MAX, group->fold, IND_LITERAL_SMALL_BITS);
    if (group->shape.step == 2)
        return pass_over(pass, 2, UINT32_MAX >> 8, group->fold, IND_LITERAL_SMALL_BITS);
    return pass_over(pass, 1, group->mask, group->fold, IND_LITERAL_SMALL_BITS);
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
