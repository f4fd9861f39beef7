#include "trial/learn.h"

#include "core/base/escape.h"
#include "core/edit/edit.h"
#include "core/line/line.h"

#include <stdlib.h>
#include <uthash.h>

enum { MOST_APPS = 5000, MOST_LAYOUTS = 2000, CHECK_TEXT = 400 };

struct app {
    UT_hash_handle hh;
    struct ind_learned_app counts;
};

struct ind_learning {
    const struct ind_config *config;
    struct ind_patterns
        *without; /* those of the configuration but the one that is looked at; NULL: all of them */
    struct ind_matcher *matcher, *all;
    uint32_t check; /* its number among all; UINT32_MAX: none */
    struct ind_learner *learner;
    struct ind_masker masker;
    bool masks;
    char *room[2];
    struct app *apps;
    uint64_t messages, fit, checked;
    char check_texts[IND_CHECK_EXAMPLES][CHECK_TEXT];
    size_t check_lengths[IND_CHECK_EXAMPLES], check_count;

    /* The result */
    struct ind_learned_all learned;
    struct ind_proposed_layout *layouts;
    struct ind_proposed_pattern *patterns;
    struct ind_proposed_field *fields; /* their names live in `final` */
    size_t layout_count, pattern_count, field_count;
    struct ind_patterns *final; /* what is there, and what is proposed */
    struct ind_matcher *final_matcher;
};

/* ---- Patterns that are there ---- */

/* Adds those of the configuration but `left_out`. */
static bool add_known(const struct ind_config *config, uint32_t left_out, struct ind_patterns *set)
{
    const struct ind_patterns *known = config->patterns;
    uint32_t *numbers = calloc(ind_patterns_count(known) + 1, sizeof *numbers);
    bool good = numbers != NULL;
    for (uint32_t i = 0; good && i < ind_patterns_count(known); i++) {
        struct ind_slice apps[64];
        size_t count = ind_pattern_app_count(known, i);
        count = count < 64 ? count : 64;
        for (size_t k = 0; k < count; k++)
            apps[k] = ind_pattern_app(known, i, k);
        if (i != left_out)
            good = ind_patterns_add(set, ind_pattern_name(known, i), apps, count, &numbers[i]);
    }
    for (size_t i = 0; good && i < ind_patterns_syntax_count(known); i++) {
        const struct ind_pattern_syntax *syntax = ind_patterns_syntax(known, i);
        struct ind_mistake mistake = {0};
        if (syntax->pattern != left_out)
            good = ind_patterns_add_syntax(set, numbers[syntax->pattern], syntax->source, &mistake) ||
                   mistake.made;
    }
    free(numbers);
    return good;
}

/* ---- Taking ---- */

struct ind_learning *ind_learning_new(const struct ind_config *config, struct ind_slice check, bool *unknown)
{
    struct ind_learning *learning = calloc(1, sizeof *learning);
    if (!learning)
        return NULL;
    learning->config = config;
    learning->check = UINT32_MAX;
    *unknown = check.length && !ind_pattern_named(config->patterns, check, &learning->check);
    bool good =
        !*unknown && (learning->learner = ind_learner_new()) != NULL && ind_masker_begin(&learning->masker);
    if (good && check.length) {
        learning->without = ind_patterns_new();
        good = learning->without && add_known(config, learning->check, learning->without) &&
               ind_patterns_compile(learning->without) &&
               (learning->all = ind_matcher_new(config->patterns)) != NULL;
    }
    if (good)
        learning->matcher = ind_matcher_new(learning->without ? learning->without : config->patterns);
    for (size_t i = 0; i < config->edits.count; i++)
        learning->masks |= config->edits.list[i].kind == IND_EDIT_MASK;
    for (int i = 0; good && learning->masks && i < 2; i++)
        good = (learning->room[i] = malloc(IND_LINE_MOST)) != NULL;
    if (good && learning->matcher)
        return learning;
    ind_learning_free(learning);
    return NULL;
}

void ind_learning_free(struct ind_learning *learning)
{
    struct app *app, *next;
    if (!learning)
        return;
    HASH_ITER(hh, learning->apps, app, next)
    {
        HASH_DEL(learning->apps, app);
        free(app);
    }
    ind_learned_free(&learning->learned);
    free(learning->layouts);
    free(learning->patterns);
    free(learning->fields);
    ind_matcher_free(learning->matcher);
    ind_matcher_free(learning->all);
    ind_matcher_free(learning->final_matcher);
    ind_patterns_free(learning->final);
    ind_patterns_free(learning->without);
    ind_learner_free(learning->learner);
    ind_masker_end(&learning->masker);
    free(learning->room[0]);
    free(learning->room[1]);
    free(learning);
}

/* As all masks would leave it, whatever their conditions: what is hidden somewhere is shown nowhere. */
static struct ind_slice hide(struct ind_learning *learning, struct ind_slice text)
{
    const struct ind_edits *edits = &learning->config->edits;
    unsigned which = 0;
    if (!learning->masks)
        return text;
    ind_regex_room_next(&learning->masker.regex);
    for (size_t i = 0; i < edits->count && text.length; i++) {
        struct ind_buffer out = ind_buffer_on(learning->room[which], IND_LINE_MOST);
        if (edits->list[i].kind != IND_EDIT_MASK ||
            !ind_mask_write(&edits->list[i], IND_IN_TEXT, text, &learning->masker, &out))
            continue;
        text = ind_buffer_view(&out);
        which = 1 - which;
    }
    return text;
}

/* Apps that strangers make up come together as "(others)". */
static bool count_app(struct ind_learning *learning, struct ind_slice app, bool fits)
{
    struct app *known;
    struct ind_slice name = app.length < IND_LEARN_APP ? app : IND_SLICE("(others)");
    HASH_FIND(hh, learning->apps, name.at ? name.at : "", name.length, known);
    if (!known && HASH_COUNT(learning->apps) >= MOST_APPS) {
        name = IND_SLICE("(others)");
        HASH_FIND(hh, learning->apps, name.at, name.length, known);
    }
    if (!known) {
        known = calloc(1, sizeof *known);
        if (!known)
            return false;
        if (name.length)
            memcpy(known->counts.app, name.at, name.length);
        HASH_ADD(hh, learning->apps, counts.app, name.length, known);
    }
    known->counts.messages++;
    known->counts.unfit += !fits;
    return true;
}

static void look_at_checked(struct ind_learning *learning, struct ind_slice app, struct ind_slice text)
{
    ind_matcher_next(learning->all);
    const struct ind_pattern_syntax *layout = ind_match(learning->all, text, app, false);
    if (!layout || layout->pattern != learning->check)
        return;
    learning->checked++;
    if (learning->check_count == IND_CHECK_EXAMPLES)
        return;
    const struct ind_slice hidden = hide(learning, text);
    const size_t length = hidden.length < CHECK_TEXT ? hidden.length : CHECK_TEXT;
    memcpy(learning->check_texts[learning->check_count], hidden.at, length);
    learning->check_lengths[learning->check_count++] = length;
}

/* UTF-8 without control characters: what can stand in a file of patterns. */
static bool is_printable(struct ind_slice text)
{
    for (size_t at = ind_printable_run(text.at, text.length), length; at < text.length; at += length) {
        bool control;
        length = ind_utf8_character(text.at + at, text.length - at, &control);
        if (length == 0 || control)
            return false;
    }
    return true;
}

bool ind_learning_take(struct ind_learning *learning, struct ind_slice app, struct ind_slice text)
{
    ind_matcher_next(learning->matcher);
    const bool fits = ind_match(learning->matcher, text, app, false) != NULL;
    learning->messages++;
    learning->fit += fits;
    if (!count_app(learning, app, fits))
        return false;
    if (fits)
        return true;
    if (learning->check != UINT32_MAX) {
        look_at_checked(learning, app, text);
        return true;
    }
    const struct ind_slice shown = hide(learning, text);
    return ind_learner_add(learning->learner, app, is_printable(shown) ? shown : IND_NOTHING);
}

/* ---- What is left out ---- */

struct comparing {
    size_t known;  /* layouts that were there */
    size_t *index; /* of each that was added: in the list of what was learned */
    const struct ind_learned *list;
    bool *out; /* of each that was learned */
};

/* Of two that were learned the more frequent stays; what was there stays in any case. */
static void on_overlap(void *context, const struct ind_overlap *overlap)
{
    struct comparing *comparing = context;
    const bool a = overlap->a >= comparing->known, b = overlap->b >= comparing->known;
    if (overlap->kind != IND_OVERLAP || (!a && !b))
        return;
    const size_t one = a ? comparing->index[overlap->a - comparing->known] : SIZE_MAX,
                 other = b ? comparing->index[overlap->b - comparing->known] : SIZE_MAX;
    if ((a && comparing->out[one]) || (b && comparing->out[other]))
        return;
    const bool a_goes = a && (!b || comparing->list[one].count < comparing->list[other].count ||
                              (comparing->list[one].count == comparing->list[other].count && one > other));
    comparing->out[a_goes ? one : other] = true;
}

/* All that was there, and each of what was learned that is not out as a pattern of its own, by its number.
 * New; NULL where memory is out. `index` is filled in, and *count. */
static struct ind_patterns *make_set(struct ind_learning *learning, bool *out, size_t *index, size_t *count)
{
    struct ind_patterns *set = ind_patterns_new();
    bool good = set && add_known(learning->config, UINT32_MAX, set);
    *count = 0;
    for (size_t i = 0; good && i < learning->learned.count; i++) {
        const struct ind_learned *learned = &learning->learned.list[i];
        struct ind_mistake mistake = {0};
        char name[32];
        uint32_t number;
        if (out[i])
            continue;
        snprintf(name, sizeof name, "%zu", i);
        good = ind_patterns_add(set, ind_slice_of(name), &learned->app, learned->app.length > 0, &number);
        if (good && !ind_patterns_add_syntax(set, number, learned->layout, &mistake)) {
            out[i] = mistake.made; /* it fits just what another does */
            good = mistake.made;
        } else if (good) {
            index[(*count)++] = i;
        }
    }
    if (good && ind_patterns_compile(set))
        return set;
    ind_patterns_free(set);
    return NULL;
}

static bool leave_out_overlaps(struct ind_learning *learning, bool *out, size_t *index)
{
    size_t count;
    struct ind_patterns *set = make_set(learning, out, index, &count);
    if (!set)
        return false;
    const size_t all = ind_patterns_syntax_count(set);
    struct comparing comparing = {all - count, index, learning->learned.list, out};
    struct ind_slice *examples = calloc(all + 1, sizeof *examples);
    bool good = examples != NULL;
    for (size_t i = 0; good && i < count; i++)
        examples[comparing.known + i] = learning->learned.list[index[i]].examples[0];
    good = good && ind_patterns_overlaps(set, examples, on_overlap, &comparing) != SIZE_MAX;
    free(examples);
    ind_patterns_free(set);
    return good;
}

/* ---- Patterns ---- */

static bool is_named(const struct ind_pattern_field *field)
{
    return field->name.length && field->type != IND_TYPE_PAIRS && field->type != IND_TYPE_JSON;
}

/* Its examples, all of which it takes itself now that the others are there; false where it does not: it is no
 * layout of all that it was made of. */
static bool try_examples(struct ind_learning *learning, size_t number, struct ind_proposed_layout *layout)
{
    const struct ind_learned *learned = &learning->learned.list[number];
    char name[32];
    snprintf(name, sizeof name, "%zu", number);
    *layout =
        (struct ind_proposed_layout){.learned = learned, .fields = learning->fields + learning->field_count};
    for (size_t i = 0; i < learned->example_count; i++) {
        struct ind_slice values[IND_SYNTAX_FIELDS];
        ind_matcher_next(learning->final_matcher);
        const struct ind_pattern_syntax *found =
            ind_match(learning->final_matcher, learned->examples[i], learned->app, false);
        if (!found || !ind_slice_equal(ind_pattern_name(learning->final, found->pattern), ind_slice_of(name)))
            return false;
        if (i == 0)
            ind_match_fields(learning->final_matcher, found, values);
        for (size_t k = 0; i == 0 && k < found->field_count; k++)
            if (is_named(&found->fields[k]))
                layout->fields[layout->field_count++] =
                    (struct ind_proposed_field){found->fields[k].name, values[k]};
        layout->examples[layout->example_count++] = learned->examples[i];
    }
    learning->field_count += layout->field_count;
    return layout->example_count > 0;
}

/* "sshd-failed-password": the app, and the first words that are always there. */
static void add_words(struct ind_slice text, size_t most, char *name, size_t *length)
{
    size_t words = 0;
    unsigned depth = 0;
    for (size_t i = 0; i < text.length && *length < 60 && words < most; i++) {
        const char c = ind_lower(text.at[i]);
        depth += c == '{';
        if (depth == 0 && ind_is_alpha(c)) {
            name[(*length)++] = c;
        } else if (*length && name[*length - 1] != '-') {
            name[(*length)++] = '-';
            words++;
        }
        depth -= c == '}' && depth > 0;
    }
    if (*length && name[*length - 1] != '-')
        name[(*length)++] = '-';
}

static void make_name(const struct ind_learning *learning, const struct ind_proposed_pattern *pattern,
                      char name[80])
{
    size_t length = 0;
    uint32_t number;
    add_words(pattern->app, 2, name, &length);
    add_words(pattern->layouts[0].learned->layout, 4, name, &length);
    while (length && name[length - 1] == '-')
        length--;
    if (length == 0)
        length = strlen(strcpy(name, "learned"));
    name[length] = '\0';
    for (unsigned again = 2;; again++) {
        bool taken = ind_pattern_named(learning->config->patterns, ind_slice_of(name), &number);
        for (size_t i = 0; i < learning->pattern_count && !taken; i++)
            taken = &learning->patterns[i] != pattern && strcmp(learning->patterns[i].name, name) == 0;
        if (!taken)
            return;
        snprintf(name + length, 80 - length, "-%u", again);
    }
}

/* Whether one is the other with something left out in the middle, or at an end. */
static bool is_variant(struct ind_slice one, struct ind_slice other)
{
    const struct ind_slice shorter = one.length < other.length ? one : other,
                           longer = one.length < other.length ? other : one;
    size_t front = 0, back = 0;
    while (front < shorter.length && shorter.at[front] == longer.at[front])
        front++;
    while (back < shorter.length - front &&
           shorter.at[shorter.length - 1 - back] == longer.at[longer.length - 1 - back])
        back++;
    return front + back == shorter.length && front >= 12;
}

/* Variants of one layout are put behind it, so that each pattern's are a run. */
static void order_layouts(struct ind_learning *learning)
{
    for (size_t i = 0; i < learning->layout_count; i++) {
        const struct ind_proposed_layout *first = &learning->layouts[i];
        struct ind_proposed_pattern *pattern = &learning->patterns[learning->pattern_count++];
        *pattern = (struct ind_proposed_pattern){.app = first->learned->app,
                                                 .layouts = &learning->layouts[i],
                                                 .layout_count = 1,
                                                 .count = first->learned->count};
        for (size_t k = i + 1; k < learning->layout_count; k++) {
            const struct ind_proposed_layout layout = learning->layouts[k];
            if (!ind_slice_equal(layout.learned->app, pattern->app) ||
                !is_variant(pattern->layouts[0].learned->layout, layout.learned->layout))
                continue;
            memmove(&learning->layouts[i + 2], &learning->layouts[i + 1], (k - i - 1) * sizeof layout);
            learning->layouts[++i] = layout;
            pattern->layout_count++;
            pattern->count += layout.learned->count;
        }
    }
}

static int by_count(const void *a, const void *b)
{
    const struct ind_proposed_pattern *one = a, *other = b;
    if (one->count != other->count)
        return one->count < other->count ? 1 : -1;
    return ind_slice_compare(one->layouts[0].learned->layout, other->layouts[0].learned->layout);
}

/* Once nothing overlaps: layouts that take their own examples, as patterns. */
static bool make_patterns(struct ind_learning *learning, bool *out, size_t *index)
{
    size_t count, kept = learning->learned.count + 1;
    learning->layouts = calloc(kept, sizeof *learning->layouts);
    learning->patterns = calloc(kept, sizeof *learning->patterns);
    learning->fields = calloc(kept * IND_SYNTAX_FIELDS, sizeof *learning->fields);
    for (bool again = true; again;) {
        ind_matcher_free(learning->final_matcher);
        ind_patterns_free(learning->final);
        learning->final = make_set(learning, out, index, &count);
        learning->final_matcher = learning->final ? ind_matcher_new(learning->final) : NULL;
        if (!learning->final_matcher || !learning->layouts || !learning->patterns || !learning->fields)
            return false;
        again = false;
        learning->layout_count = learning->field_count = 0;
        for (size_t i = 0; i < count; i++) {
            if (try_examples(learning, index[i], &learning->layouts[learning->layout_count]))
                learning->layout_count++;
            else
                again = out[index[i]] = true;
        }
    }
    order_layouts(learning);
    if (learning->pattern_count)
        qsort(learning->patterns, learning->pattern_count, sizeof *learning->patterns, by_count);
    for (size_t i = 0; i < learning->pattern_count; i++)
        make_name(learning, &learning->patterns[i], learning->patterns[i].name);
    return true;
}

static int by_unfit(const void *a, const void *b)
{
    const struct app *one = *(struct app *const *)a, *other = *(struct app *const *)b;
    if (one->counts.unfit != other->counts.unfit)
        return one->counts.unfit < other->counts.unfit ? 1 : -1;
    return strcmp(one->counts.app, other->counts.app);
}

static bool list_apps(const struct ind_learning *learning, struct ind_learning_result *result)
{
    const size_t count = HASH_COUNT(learning->apps);
    struct app **list = calloc(count + 1, sizeof *list), *app, *next;
    size_t at = 0;
    if (!list)
        return false;
    HASH_ITER(hh, learning->apps, app, next)
    list[at++] = app;
    qsort(list, count, sizeof *list, by_unfit);
    for (size_t i = 0; i < count && i < IND_LEARNED_APPS && list[i]->counts.unfit; i++)
        result->apps[result->app_count++] = list[i]->counts;
    free(list);
    return true;
}

bool ind_learning_finish(struct ind_learning *learning, uint64_t at_least, size_t top,
                         struct ind_learning_result *result)
{
    *result = (struct ind_learning_result){
        .messages = learning->messages, .fit = learning->fit, .checked = learning->checked};
    if (!ind_learner_finish(learning->learner, at_least, &learning->learned))
        return false;
    if (learning->learned.count > MOST_LAYOUTS) { /* the most frequent */
        for (size_t i = MOST_LAYOUTS; i < learning->learned.count; i++)
            free((char *)(uintptr_t)learning->learned.list[i].layout.at);
        learning->learned.count = MOST_LAYOUTS;
    }
    bool *out = calloc(learning->learned.count + 1, sizeof *out);
    size_t *index = calloc(learning->learned.count + 1, sizeof *index);
    bool good = out && index && leave_out_overlaps(learning, out, index) &&
                make_patterns(learning, out, index) && list_apps(learning, result);
    for (size_t i = 0; good && i < learning->learned.count; i++)
        result->overlapping += out[i];
    free(out);
    free(index);
    for (size_t i = 0; i < learning->check_count; i++)
        result->check_examples[result->check_example_count++] =
            (struct ind_slice){learning->check_texts[i], learning->check_lengths[i]};
    result->long_ones = learning->learned.long_ones;
    result->patterns = learning->patterns;
    result->pattern_count = top && top < learning->pattern_count ? top : learning->pattern_count;
    for (size_t i = 0; i < result->pattern_count; i++)
        result->covered += result->patterns[i].count;
    const uint64_t unfit = result->messages - result->fit;
    result->covered = result->covered < unfit ? result->covered : unfit;
    result->rest = unfit - result->covered;
    return good;
}
