/* Which variants of a shape are one layout.
 *
 * Words of a layout go together: nearly wherever one of them stands, the others do, and nearly nowhere else.
 * So where most texts with one word at a place have one word at another place, and most texts with that have
 * the first, the two tell a layout from the others of its shape (texts without any order are in the way of
 * "all"). Where many words at two places come in pairs, both are names of the same things, and vary. What
 * cannot be told apart so is one layout; the words that are not always the same become fields. */
#include "core/learn/learn_private.h"

#include <stdlib.h>
#include <xxhash.h>

enum {
    MOST_PAIRS = 24 /* of words at two places that belong to layouts */,
    DEPTH = 200,
    WORDS = IND_LEARN_TOKENS
};

/* A word at a place. */
struct word {
    uint64_t hash;        /* 0: a free place of the table */
    uint64_t texts, both; /* both: with the word at the other place */
    int64_t votes;        /* for that, while it is looked for */
    uint64_t other;       /* the word at the other place that most have; at first the one that leads */
    uint64_t marked;      /* the word that goes with it, at `where`; 0: none, 1: any */
    size_t where;
};

struct dividing {
    const struct ind_shape *shape;
    uint64_t at_least;
    size_t places;   /* words of the shape */
    uint64_t *words; /* hashes: of each variant, `places` of them; 1: one that is never literal */
    struct ind_variant **all;
    size_t count;
    uint32_t *order; /* indexes of variants: each part is a run of it */
    uint32_t *scratch;
    struct word *table, *others; /* `slots` of them */
    size_t slots;
    bool (*found)(void *context, const struct ind_learned_group *group);
    void *context;
    struct ind_variant **group;
};

static struct word *find(struct word *table, size_t slots, uint64_t hash)
{
    size_t at = hash & (slots - 1);
    while (table[at].hash && table[at].hash != hash)
        at = (at + 1) & (slots - 1);
    return &table[at];
}

static uint64_t word_of(const struct dividing *run, uint32_t variant, size_t place)
{
    return run->words[(size_t)variant * run->places + place];
}

/* How large a table a part needs. */
static size_t slots_for(size_t count)
{
    size_t slots = 16;
    while (slots < 2 * count)
        slots *= 2;
    return slots;
}

/* Counts the words of a place into `table`. How many there are. */
static size_t count_words(const struct dividing *run, const uint32_t *part, size_t count, size_t place,
                          struct word *table, size_t slots)
{
    size_t distinct = 0;
    memset(table, 0, slots * sizeof *table);
    for (size_t i = 0; i < count; i++) {
        const uint64_t hash = word_of(run, part[i], place);
        struct word *word = find(table, slots, hash);
        distinct += word->hash == 0;
        word->hash = hash;
        word->texts += run->all[part[i]]->count;
    }
    return distinct;
}

/* For each word of `place`: the one of `other` that more than half of its texts have, if there is such. */
static void find_leaders(const struct dividing *run, const uint32_t *part, size_t count, size_t place,
                         size_t other, size_t slots)
{
    for (size_t i = 0; i < slots; i++)
        run->table[i].votes = 0, run->table[i].both = 0;
    for (size_t i = 0; i < count; i++) {
        struct word *word = find(run->table, slots, word_of(run, part[i], place));
        const uint64_t with = word_of(run, part[i], other);
        const int64_t texts = run->all[part[i]]->count;
        if (word->votes == 0)
            word->other = with;
        word->votes += word->other == with ? texts : -texts;
        if (word->votes < 0) {
            word->other = with;
            word->votes = -word->votes;
        }
    }
    for (size_t i = 0; i < count; i++) {
        struct word *word = find(run->table, slots, word_of(run, part[i], place));
        if (word->other == word_of(run, part[i], other))
            word->both += run->all[part[i]]->count;
    }
}

static bool is_most(uint64_t part, uint64_t all)
{
    return part * 10 >= all * 9;
}

static bool is_pair(const struct dividing *run, const struct word *word, size_t slots)
{
    return word->hash > 1 && word->other > 1 && word->both >= run->at_least &&
           is_most(word->both, word->texts) &&
           is_most(word->both, find(run->others, slots, word->other)->texts);
}

/* Marks the words of `place` that go together with one of `other`; not where nearly all do, and they are
 * many. */
static bool mark_pairs(const struct dividing *run, const uint32_t *part, size_t count, size_t place,
                       size_t other, size_t slots)
{
    size_t pairs = 0, frequent = 0;
    (void)count_words(run, part, count, other, run->others, slots);
    find_leaders(run, part, count, place, other, slots);
    for (size_t i = 0; i < slots; i++) {
        frequent += run->table[i].hash > 1 && run->table[i].texts >= run->at_least;
        pairs += is_pair(run, &run->table[i], slots);
    }
    if (pairs == 0 || (pairs > MOST_PAIRS && pairs * 5 >= frequent * 4))
        return false;
    for (size_t i = 0; i < slots; i++) {
        struct word *word = &run->table[i];
        if (word->marked || !is_pair(run, word, slots))
            continue;
        word->marked = word->other;
        word->where = other;
    }
    return true;
}

/* Whether words at that place tell layouts: they are marked. */
static bool tells_layouts(const struct dividing *run, const uint32_t *part, size_t count, size_t place,
                          const size_t *distinct, size_t slots)
{
    bool any = false;
    (void)count_words(run, part, count, place, run->table, slots);
    for (size_t other = 0; other < run->places; other++)
        if (other != place && distinct[other] > 1)
            any |= mark_pairs(run, part, count, place, other, slots);
    return any;
}

static bool give(struct dividing *run, const uint32_t *part, size_t count)
{
    struct ind_learned_group group = {.shape = run->shape, .list = run->group, .count = count};
    for (size_t i = 0; i < count; i++) {
        run->group[i] = run->all[part[i]];
        group.texts += run->group[i]->count;
    }
    return run->found(run->context, &group);
}

static bool divide(struct dividing *run, uint32_t *part, size_t count, unsigned depth);

/* Puts the variants of the next marked word in front; how many there are. */
static size_t take_marked(struct dividing *run, uint32_t *part, size_t count, size_t place, size_t slots)
{
    struct word *taking = NULL;
    size_t taken = 0, left = 0;
    for (size_t i = 0; i < count; i++) {
        struct word *word = find(run->table, slots, word_of(run, part[i], place));
        const bool marked =
            word->marked && (word->marked == 1 || word_of(run, part[i], word->where) == word->marked);
        taking = taking ? taking : marked ? word : NULL;
        if (marked && word == taking)
            part[taken++] = part[i];
        else
            run->scratch[left++] = part[i];
    }
    memcpy(part + taken, run->scratch, left * sizeof *part);
    if (taking)
        taking->marked = 0;
    return taken;
}

/* Each marked word's texts, and what is left. The tables are used by what is inside: so first all are told.
 */
static bool divide_by(struct dividing *run, uint32_t *part, size_t count, size_t place, size_t slots,
                      unsigned depth)
{
    size_t ends[512], parts = 0, at = 0, taken;
    while (parts < sizeof ends / sizeof *ends &&
           (taken = take_marked(run, part + at, count - at, place, slots)) > 0) {
        at += taken;
        ends[parts++] = at;
    }
    bool good = true;
    for (size_t i = 0, from = 0; good && i < parts; from = ends[i++])
        good = divide(run, part + from, ends[i] - from, depth + 1);
    return good && (at == count || divide(run, part + at, count - at, depth + 1));
}

/* Of the only word that a shape has: each that is frequent is a layout, where they are few. */
static bool mark_frequent(const struct dividing *run, const uint32_t *part, size_t count, size_t place,
                          size_t slots)
{
    size_t frequent = 0;
    (void)count_words(run, part, count, place, run->table, slots);
    for (size_t i = 0; i < slots; i++) {
        run->table[i].marked = run->table[i].hash > 1 && run->table[i].texts >= run->at_least;
        frequent += run->table[i].marked;
    }
    return frequent > 0 && frequent <= MOST_PAIRS;
}

static bool divide(struct dividing *run, uint32_t *part, size_t count, unsigned depth)
{
    size_t distinct[WORDS], order[WORDS], varying = 0;
    const size_t slots = slots_for(count);
    for (size_t place = 0; place < run->places; place++) {
        distinct[place] = count_words(run, part, count, place, run->table, slots);
        if (distinct[place] > 1)
            order[varying++] = place;
    }
    for (size_t i = 1; i < varying; i++) /* those with few words first */
        for (size_t j = i; j > 0 && distinct[order[j]] < distinct[order[j - 1]]; j--) {
            const size_t swap = order[j];
            order[j] = order[j - 1];
            order[j - 1] = swap;
        }
    for (size_t i = 0; varying > 1 && depth < DEPTH && i < varying; i++)
        if (tells_layouts(run, part, count, order[i], distinct, slots))
            return divide_by(run, part, count, order[i], slots, depth);
    if (varying == 1 && varying == run->places && depth < DEPTH &&
        mark_frequent(run, part, count, order[0], slots))
        return divide_by(run, part, count, order[0], slots, depth);
    return give(run, part, count);
}

static void read_words(struct dividing *run)
{
    struct ind_token tokens[IND_LEARN_TOKENS];
    for (size_t i = 0; i < run->count; i++) {
        const struct ind_variant *variant = run->all[i];
        const struct ind_slice text = {variant->text, variant->length};
        const size_t count = ind_tokens_read(text, tokens);
        uint64_t *words = run->words + i * run->places;
        for (size_t k = 0, place = 0; k < count && place < run->places; k++) {
            if (tokens[k].kind != IND_TOKEN_WORD && tokens[k].kind != IND_TOKEN_SECRET)
                continue;
            const uint64_t hash = XXH3_64bits(text.at + tokens[k].at, tokens[k].length);
            words[place++] = tokens[k].kind == IND_TOKEN_SECRET ? 1 : hash < 2 ? 2 : hash;
        }
    }
}

bool ind_learn_divide(const struct ind_shape *shape, struct ind_variant **list, size_t count,
                      uint64_t at_least, bool (*found)(void *context, const struct ind_learned_group *group),
                      void *context)
{
    struct dividing run = {.shape = shape,
                           .at_least = at_least,
                           .places = shape->words,
                           .all = list,
                           .count = count,
                           .slots = slots_for(count),
                           .found = found,
                           .context = context};
    run.words = calloc(count * run.places + 1, sizeof *run.words);
    run.order = calloc(count + 1, sizeof *run.order);
    run.scratch = calloc(count + 1, sizeof *run.scratch);
    run.table = calloc(run.slots, sizeof *run.table);
    run.others = calloc(run.slots, sizeof *run.others);
    run.group = calloc(count + 1, sizeof(struct ind_variant *));
    bool good = run.words && run.order && run.scratch && run.table && run.others && run.group;
    if (good && count) {
        read_words(&run);
        for (uint32_t i = 0; i < count; i++)
            run.order[i] = i;
        good = divide(&run, run.order, count, 0);
    }
    free(run.words);
    free(run.order);
    free(run.scratch);
    free(run.table);
    free(run.others);
    free(run.group);
    return good;
}
