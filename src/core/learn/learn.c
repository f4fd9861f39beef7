#include "core/learn/learn_private.h"

#include <stdlib.h>
#include <xxhash.h>

/* 60,000 shapes of 136 bytes, 150,000 variants of 64 and their texts of 600 at most: 120 MB. */
enum { MOST_SHAPES = 60000, MOST_VARIANTS = 150000, MOST_OF_A_SHAPE = 32768, SLOTS = 1 << 19, LAYOUT = 2000 };

struct ind_learner {
    struct ind_shape *shapes;
    struct ind_variant *variants;
    size_t shape_count, variant_count; /* that were ever made: free ones have hash 0 and count 0 */
    size_t shapes_kept, variants_kept;
    uint32_t *free_variants, *free_shapes;
    size_t free_variant_count, free_shape_count;
    uint32_t *shape_slots, *variant_slots; /* places by hash; 0: free, else index + 1 */
    uint8_t shape_level, level;            /* as for a shape, for all of them */
    uint64_t texts, long_ones;
    struct ind_token tokens[IND_LEARN_TOKENS];
};

struct ind_learner *ind_learner_new(void)
{
    struct ind_learner *learner = calloc(1, sizeof *learner);
    if (!learner)
        return NULL;
    learner->shapes = calloc(MOST_SHAPES + 1, sizeof *learner->shapes);
    learner->variants = calloc(MOST_VARIANTS + 1, sizeof *learner->variants);
    learner->free_variants = calloc(MOST_VARIANTS + 1, sizeof *learner->free_variants);
    learner->free_shapes = calloc(MOST_SHAPES + 1, sizeof *learner->free_shapes);
    learner->shape_slots = calloc(SLOTS, sizeof *learner->shape_slots);
    learner->variant_slots = calloc(SLOTS, sizeof *learner->variant_slots);
    if (learner->shapes && learner->variants && learner->free_variants && learner->free_shapes &&
        learner->shape_slots && learner->variant_slots)
        return learner;
    ind_learner_free(learner);
    return NULL;
}

static void empty_variant(struct ind_variant *variant)
{
    free(variant->text);
    free(variant->types);
    *variant = (struct ind_variant){0};
}

void ind_learner_free(struct ind_learner *learner)
{
    if (!learner)
        return;
    for (size_t i = 0; learner->variants && i < learner->variant_count; i++)
        empty_variant(&learner->variants[i]);
    free(learner->shapes);
    free(learner->variants);
    free(learner->free_variants);
    free(learner->free_shapes);
    free(learner->shape_slots);
    free(learner->variant_slots);
    free(learner);
}

/* ---- What is kept ---- */

/* Whether a hash begins with so many zeros: half as many do for each. */
static bool is_kept(uint64_t hash, uint8_t level)
{
    return level == 0 || hash >> (64 - level) == 0;
}

static uint64_t shape_hash_at(const struct ind_learner *learner, uint32_t index)
{
    return learner->shapes[index].hash;
}

static uint64_t variant_hash_at(const struct ind_learner *learner, uint32_t index)
{
    return learner->variants[index].hash;
}

/* The slot of a hash, or the free one where it belongs. */
static uint32_t *find_slot(const struct ind_learner *learner, uint32_t *slots, uint64_t hash,
                           uint64_t (*hash_at)(const struct ind_learner *, uint32_t))
{
    for (size_t at = hash * UINT64_C(0x9E3779B97F4A7C15) >> 45;; at = (at + 1) % SLOTS) {
        const uint32_t slot = slots[at];
        if (slot == 0 || hash_at(learner, slot - 1) == hash)
            return &slots[at];
    }
}

/* After some were taken out. */
static void place_all(struct ind_learner *learner)
{
    memset(learner->shape_slots, 0, SLOTS * sizeof *learner->shape_slots);
    memset(learner->variant_slots, 0, SLOTS * sizeof *learner->variant_slots);
    for (uint32_t i = 0; i < learner->shape_count; i++)
        if (learner->shapes[i].count)
            *find_slot(learner, learner->shape_slots, learner->shapes[i].hash, shape_hash_at) = i + 1;
    for (uint32_t i = 0; i < learner->variant_count; i++)
        if (learner->variants[i].count)
            *find_slot(learner, learner->variant_slots, learner->variants[i].hash, variant_hash_at) = i + 1;
}

/* Lets the variants of a shape go that are not kept any more. */
static void thin(struct ind_learner *learner, struct ind_shape *shape, bool all)
{
    const uint8_t level = shape->level > learner->level ? shape->level : learner->level;
    uint32_t *link = &shape->first;
    while (*link) {
        const uint32_t index = *link - 1;
        struct ind_variant *variant = &learner->variants[index];
        if (!all && is_kept(variant->hash, level)) {
            link = &variant->next;
            continue;
        }
        *link = variant->next;
        empty_variant(variant);
        learner->free_variants[learner->free_variant_count++] = index;
        learner->variants_kept--;
        shape->variants--;
    }
}

static void make_room_for_variants(struct ind_learner *learner)
{
    while (learner->variants_kept >= MOST_VARIANTS) {
        learner->level++;
        for (size_t i = 0; i < learner->shape_count; i++)
            thin(learner, &learner->shapes[i], false);
    }
    place_all(learner);
}

static void make_room_for_shapes(struct ind_learner *learner)
{
    while (learner->shapes_kept >= MOST_SHAPES) {
        learner->shape_level++;
        for (uint32_t i = 0; i < learner->shape_count; i++) {
            struct ind_shape *shape = &learner->shapes[i];
            if (!shape->count || is_kept(shape->hash, learner->shape_level))
                continue;
            thin(learner, shape, true);
            *shape = (struct ind_shape){0};
            learner->free_shapes[learner->free_shape_count++] = i;
            learner->shapes_kept--;
        }
    }
    place_all(learner);
}

/* ---- Adding ---- */

/* What the texts of one shape share: the app, kinds and signs. */
static uint64_t hash_of_shape(const struct ind_learner *learner, size_t count, struct ind_slice app,
                              struct ind_slice text)
{
    char room[2 * IND_LEARN_TOKENS + 1];
    size_t length = 0;
    for (size_t i = 0; i < count; i++) {
        const struct ind_token *token = &learner->tokens[i];
        room[length++] = (char)(token->kind == IND_TOKEN_SECRET ? IND_TOKEN_WORD : token->kind);
        if (token->kind == IND_TOKEN_SIGN)
            room[length++] = text.at[token->at];
    }
    const uint64_t hash = XXH3_64bits_withSeed(room, length, XXH3_64bits(app.at ? app.at : "", app.length));
    return hash ? hash : 1;
}

/* Its words, but for those that are never literal. */
static uint64_t hash_of_words(const struct ind_learner *learner, size_t count, struct ind_slice text,
                              uint64_t shape)
{
    char room[IND_LEARN_TEXT + IND_LEARN_TOKENS];
    size_t length = 0;
    for (size_t i = 0; i < count; i++) {
        const struct ind_token *token = &learner->tokens[i];
        if (token->kind != IND_TOKEN_WORD && token->kind != IND_TOKEN_SECRET)
            continue;
        if (token->kind == IND_TOKEN_WORD) {
            memcpy(room + length, text.at + token->at, token->length);
            length += token->length;
        }
        room[length++] = '\0';
    }
    const uint64_t hash = XXH3_64bits_withSeed(room, length, shape);
    return hash ? hash : 1;
}

static struct ind_shape *find_shape(struct ind_learner *learner, uint64_t hash, struct ind_slice app,
                                    size_t count)
{
    if (!is_kept(hash, learner->shape_level))
        return NULL;
    uint32_t *slot = find_slot(learner, learner->shape_slots, hash, shape_hash_at);
    if (*slot)
        return &learner->shapes[*slot - 1];
    if (learner->shapes_kept >= MOST_SHAPES) {
        make_room_for_shapes(learner);
        if (!is_kept(hash, learner->shape_level))
            return NULL;
        slot = find_slot(learner, learner->shape_slots, hash, shape_hash_at);
    }
    const uint32_t index = learner->free_shape_count ? learner->free_shapes[--learner->free_shape_count]
                                                     : (uint32_t)learner->shape_count++;
    struct ind_shape *shape = &learner->shapes[index];
    *shape = (struct ind_shape){.hash = hash, .app_length = (uint8_t)app.length};
    if (app.length)
        memcpy(shape->app, app.at, app.length);
    for (size_t i = 0; i < count; i++) {
        const unsigned kind = learner->tokens[i].kind;
        if (kind == IND_TOKEN_WORD || kind == IND_TOKEN_SECRET)
            shape->words++;
        else if (kind == IND_TOKEN_VALUE)
            shape->values++;
    }
    *slot = index + 1;
    learner->shapes_kept++;
    return shape;
}

/* *variant is NULL where it is not kept. False where memory is out. */
static bool find_variant(struct ind_learner *learner, struct ind_shape *shape, uint64_t hash,
                         struct ind_variant **variant)
{
    *variant = NULL;
    if (!is_kept(hash, shape->level > learner->level ? shape->level : learner->level))
        return true;
    uint32_t *slot = find_slot(learner, learner->variant_slots, hash, variant_hash_at);
    if (*slot) {
        *variant = &learner->variants[*slot - 1];
        return true;
    }
    if (shape->variants >= MOST_OF_A_SHAPE || learner->variants_kept >= MOST_VARIANTS) {
        while (shape->variants >= MOST_OF_A_SHAPE) {
            shape->level++;
            thin(learner, shape, false);
        }
        make_room_for_variants(learner);
        if (!is_kept(hash, shape->level > learner->level ? shape->level : learner->level))
            return true;
        slot = find_slot(learner, learner->variant_slots, hash, variant_hash_at);
    }
    const uint32_t index = learner->free_variant_count ? learner->free_variants[--learner->free_variant_count]
                                                       : (uint32_t)learner->variant_count++;
    struct ind_variant *made = &learner->variants[index];
    *made = (struct ind_variant){.hash = hash, .next = shape->first};
    made->types = calloc(shape->values + 1u, sizeof *made->types);
    made->text_hash = UINT64_MAX;
    *slot = index + 1;
    shape->first = index + 1;
    shape->variants++;
    learner->variants_kept++;
    *variant = made;
    return made->types != NULL;
}

static bool keep_example(struct ind_variant *variant, struct ind_slice text)
{
    const uint64_t hash = XXH3_64bits(text.at, text.length);
    if (hash >= variant->text_hash && variant->text)
        return true;
    char *kept = realloc(variant->text, text.length + 1);
    if (!kept)
        return false;
    memcpy(kept, text.at, text.length);
    kept[text.length] = '\0';
    variant->text = kept;
    variant->length = (uint16_t)text.length;
    variant->text_hash = hash;
    return true;
}

bool ind_learner_add(struct ind_learner *learner, struct ind_slice app, struct ind_slice text)
{
    struct ind_variant *variant;
    const size_t count = ind_tokens_read(text, learner->tokens);
    learner->texts++;
    if (count == 0 || app.length >= IND_LEARN_APP) {
        learner->long_ones++;
        return true;
    }
    const uint64_t hash = hash_of_shape(learner, count, app, text);
    struct ind_shape *shape = find_shape(learner, hash, app, count);
    if (!shape)
        return true;
    shape->count++;
    if (!find_variant(learner, shape, hash_of_words(learner, count, text, hash), &variant))
        return false;
    if (!variant)
        return true;
    variant->count += variant->count < UINT32_MAX;
    for (size_t i = 0, value = 0; i < count; i++)
        if (learner->tokens[i].kind == IND_TOKEN_VALUE)
            variant->types[value++] |= 1u << learner->tokens[i].type;
    return keep_example(variant, text);
}

/* ---- What was found ---- */

struct finding {
    struct ind_learned_all *all;
    size_t room;
};

static void add_example(struct ind_learned *learned, struct ind_slice text)
{
    if (learned->example_count < IND_LEARN_EXAMPLES)
        learned->examples[learned->example_count++] = text;
}

/* The variant with the smallest text hash first, so that it is the same whatever their order. */
static int by_text_hash(const void *a, const void *b)
{
    const struct ind_variant *one = *(struct ind_variant *const *)a, *other = *(struct ind_variant *const *)b;
    return (one->text_hash > other->text_hash) - (one->text_hash < other->text_hash);
}

static bool on_group(void *context, const struct ind_learned_group *group)
{
    struct finding *finding = context;
    struct ind_learned_all *all = finding->all;
    char room[LAYOUT];
    size_t literals;
    struct ind_buffer out = ind_buffer_on(room, sizeof room);
    const struct ind_slice app = {group->shape->app, group->shape->app_length};
    const uint8_t level = group->shape->level;
    if (!ind_learn_write(group, &out, &literals))
        return true;
    if (all->count == finding->room) {
        finding->room = finding->room * 2 + 64;
        struct ind_learned *grown = realloc(all->list, finding->room * sizeof *grown);
        if (!grown)
            return false;
        all->list = grown;
    }
    char *layout = malloc(out.length + 1);
    if (!layout)
        return false;
    memcpy(layout, room, out.length);
    struct ind_learned *learned = &all->list[all->count++];
    *learned = (struct ind_learned){.app = app, .layout = {layout, out.length}, .literals = literals};
    learned->count += group->texts << level;
    learned->estimated |= level > 0;
    qsort(group->list, group->count, sizeof(struct ind_variant *), by_text_hash);
    for (size_t i = 0; i < group->count; i++)
        add_example(learned, (struct ind_slice){group->list[i]->text, group->list[i]->length});
    return true;
}

static int by_count(const void *a, const void *b)
{
    const struct ind_learned *one = a, *other = b;
    if (one->count != other->count)
        return one->count < other->count ? 1 : -1;
    const int order = ind_slice_compare(one->app, other->app);
    return order ? order : ind_slice_compare(one->layout, other->layout);
}

static int by_layout(const void *a, const void *b)
{
    const struct ind_learned *one = a, *other = b;
    const int order = ind_slice_compare(one->app, other->app),
              layout = ind_slice_compare(one->layout, other->layout);
    if (order || layout)
        return order ? order : layout;
    return one->example_count && other->example_count
               ? ind_slice_compare(one->examples[0], other->examples[0])
               : 0;
}

/* Shapes that differ by how many words vary may come to one layout. */
static void join_alike(struct ind_learned_all *all)
{
    size_t kept = 0;
    if (all->count)
        qsort(all->list, all->count, sizeof *all->list, by_layout);
    for (size_t i = 0; i < all->count; i++) {
        struct ind_learned *last = kept ? &all->list[kept - 1] : NULL, *one = &all->list[i];
        if (!last || !ind_slice_equal(last->app, one->app) || !ind_slice_equal(last->layout, one->layout)) {
            all->list[kept++] = *one;
            continue;
        }
        last->count += one->count;
        last->estimated |= one->estimated;
        for (size_t k = 0; k < one->example_count; k++)
            add_example(last, one->examples[k]);
        free((char *)(uintptr_t)one->layout.at);
    }
    all->count = kept;
}

static int by_shape_hash(const void *a, const void *b)
{
    const struct ind_shape *one = *(struct ind_shape *const *)a, *other = *(struct ind_shape *const *)b;
    return (one->hash > other->hash) - (one->hash < other->hash);
}

static int by_hash(const void *a, const void *b)
{
    const struct ind_variant *one = *(struct ind_variant *const *)a, *other = *(struct ind_variant *const *)b;
    return (one->hash > other->hash) - (one->hash < other->hash);
}

static bool divide_shape(struct ind_learner *learner, const struct ind_shape *shape, uint64_t at_least,
                         struct finding *finding, struct ind_variant **list)
{
    size_t count = 0;
    for (uint32_t next = shape->first; next; next = learner->variants[next - 1].next)
        list[count++] = &learner->variants[next - 1];
    qsort(list, count, sizeof *list, by_hash);
    return ind_learn_divide(shape, list, count, at_least, on_group, finding);
}

bool ind_learner_finish(struct ind_learner *learner, uint64_t at_least, struct ind_learned_all *all)
{
    struct finding finding = {.all = all};
    struct ind_shape **shapes = calloc(learner->shape_count + 1, sizeof *shapes);
    struct ind_variant **list = calloc(MOST_OF_A_SHAPE + 1, sizeof *list);
    size_t count = 0, kept = 0;
    *all = (struct ind_learned_all){.texts = learner->texts, .long_ones = learner->long_ones};
    bool good = shapes && list;
    for (size_t i = 0; good && i < learner->shape_count; i++)
        if (learner->shapes[i].count >= at_least) {
            struct ind_shape *shape = &learner->shapes[i];
            shape->level = shape->level > learner->level ? shape->level : learner->level;
            shapes[count++] = shape;
        }
    if (good)
        qsort(shapes, count, sizeof *shapes, by_shape_hash);
    for (size_t i = 0; good && i < count; i++)
        good = divide_shape(learner, shapes[i], at_least, &finding, list);
    free(shapes);
    free(list);
    uint64_t found = 0;
    join_alike(all);
    for (size_t i = 0; i < all->count; i++) {
        if (all->list[i].count >= at_least)
            all->list[kept++] = all->list[i];
        else
            free((char *)(uintptr_t)all->list[i].layout.at);
    }
    all->count = kept;
    for (size_t i = 0; i < kept; i++)
        found += all->list[i].count;
    all->rest = all->texts > found ? all->texts - found : 0;
    if (kept)
        qsort(all->list, kept, sizeof *all->list, by_count);
    if (!good)
        ind_learned_free(all);
    return good;
}

void ind_learned_free(struct ind_learned_all *all)
{
    for (size_t i = 0; i < all->count; i++)
        free((char *)(uintptr_t)all->list[i].layout.at);
    free(all->list);
    *all = (struct ind_learned_all){0};
}
