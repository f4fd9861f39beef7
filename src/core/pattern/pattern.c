/* Filling a set of patterns: each layout becomes a way through a tree of twigs, which shares its beginning
 * with the layouts that begin alike. */
#include "core/pattern/pattern.h"

#include "core/message/names.h"
#include "core/pattern/pattern_private.h"
#include <stdlib.h>

/* Room for one more of `count`; false where memory is out. */
static bool grow(void *array, size_t count, size_t *room, size_t size)
{
    void **list = array;
    if (count < *room)
        return true;
    size_t wanted = *room ? *room * 2 : 16;
    void *grown = realloc(*list, wanted * size);
    if (!grown)
        return false;
    *list = grown;
    *room = wanted;
    return true;
}

/* A terminated copy that lives as long as the set; NULL where memory is out. */
static char *keep(struct ind_patterns *set, struct ind_slice text)
{
    char *copy = malloc(text.length + 1);
    if (!copy || !grow(&set->kept, set->kept_count, &set->kept_room, sizeof *set->kept)) {
        free(copy);
        return NULL;
    }
    if (text.length)
        memcpy(copy, text.at, text.length);
    copy[text.length] = '\0';
    return set->kept[set->kept_count++] = copy;
}

/* Replaces *text by a copy of the set; by nothing, and false, where memory is out. */
static bool keep_slice(struct ind_patterns *set, struct ind_slice *text)
{
    const char *copy = keep(set, *text);
    *text = copy ? (struct ind_slice){copy, text->length} : IND_NOTHING;
    return copy != NULL;
}

/* 0, which is the root, where memory is out. */
static uint32_t add_twig(struct ind_patterns *set, struct ind_slice text, enum ind_type type)
{
    if (!grow(&set->twigs, set->twig_count, &set->twig_room, sizeof *set->twigs))
        return 0;
    set->twigs[set->twig_count] = (struct ind_pattern_twig){.text = text, .type = type};
    return (uint32_t)set->twig_count++;
}

struct ind_patterns *ind_patterns_new(void)
{
    struct ind_patterns *set = calloc(1, sizeof *set);
    if (!set)
        return NULL;
    (void)add_twig(set, IND_NOTHING, IND_TYPES);
    if (set->twig_count == 1)
        return set;
    ind_patterns_free(set);
    return NULL;
}

static void free_tree(struct ind_patterns *set)
{
    for (size_t i = 0; i < set->code_count; i++)
        ind_regex_free(set->codes[i]);
    free(set->codes);
    free(set->nodes);
    free(set->subtree_ends);
    free(set->bytes);
    free(set->links);
    free(set->small_fans);
    free(set->wide_fans);
    free(set->ends);
    free(set->end_layouts);
}

void ind_patterns_free(struct ind_patterns *set)
{
    if (!set)
        return;
    free_tree(set);
    for (size_t i = 0; i < set->pattern_count; i++)
        free(set->patterns[i].apps);
    for (size_t i = 0; i < set->layout_count; i++)
        free((void *)(uintptr_t)set->layouts[i].fields);
    for (size_t i = 0; i < set->kept_count; i++)
        free(set->kept[i]);
    free(set->kept);
    free(set->patterns);
    free(set->layouts);
    free(set->twigs);
    free(set->leaves);
    free(set);
}

bool ind_patterns_add(struct ind_patterns *set, struct ind_slice name, const struct ind_slice *apps,
                      size_t app_count, uint32_t *number)
{
    struct ind_pattern_entry pattern = {.name = keep(set, name), .app_count = app_count};
    bool good =
        pattern.name && grow(&set->patterns, set->pattern_count, &set->pattern_room, sizeof *set->patterns);
    pattern.apps = good ? calloc(app_count + 1, sizeof *pattern.apps) : NULL;
    if (!pattern.apps)
        return false;
    for (size_t i = 0; i < app_count && good; i++) {
        pattern.apps[i] = apps[i];
        good = keep_slice(set, &pattern.apps[i]);
    }
    set->patterns[set->pattern_count] = pattern;
    *number = (uint32_t)set->pattern_count++;
    return good;
}

/* ---- The way of one layout ---- */

static uint32_t child_field(struct ind_patterns *set, uint32_t at, const struct ind_syntax_piece *piece)
{
    for (uint32_t child = set->twigs[at].first; child; child = set->twigs[child].next)
        if (set->twigs[child].type == piece->type &&
            (piece->type != IND_TYPE_RE || ind_slice_equal(set->twigs[child].text, piece->text)))
            return child;
    uint32_t child = add_twig(set, piece->text, piece->type);
    if (child) {
        set->twigs[child].next = set->twigs[at].first;
        set->twigs[at].first = child;
    }
    return child;
}

static size_t common(struct ind_slice a, struct ind_slice b)
{
    size_t n = 0;
    while (n < a.length && n < b.length && a.at[n] == b.at[n])
        n++;
    return n;
}

/* The twig keeps its first `length` bytes; the rest, and all that hangs on it, moves to a new one below. */
static bool split(struct ind_patterns *set, uint32_t at, size_t length)
{
    uint32_t rest = add_twig(set, ind_slice_from(set->twigs[at].text, length), IND_TYPES);
    if (!rest)
        return false;
    struct ind_pattern_twig *upper = &set->twigs[at], *lower = &set->twigs[rest];
    lower->first = upper->first;
    lower->leaf = upper->leaf;
    upper->first = rest;
    upper->leaf = 0;
    upper->text.length = length;
    return true;
}

static uint32_t way_of_literal(struct ind_patterns *set, uint32_t at, struct ind_slice text)
{
    while (text.length) {
        uint32_t child = set->twigs[at].first;
        while (child && (set->twigs[child].type != IND_TYPES || set->twigs[child].text.at[0] != text.at[0]))
            child = set->twigs[child].next;
        if (!child) {
            child = add_twig(set, text, IND_TYPES);
            if (!child)
                return 0;
            set->twigs[child].next = set->twigs[at].first;
            set->twigs[at].first = child;
            return child;
        }
        size_t same = common(set->twigs[child].text, text);
        if (same < set->twigs[child].text.length && !split(set, child, same))
            return 0;
        text = ind_slice_from(text, same);
        at = child;
    }
    return at;
}

static void already(struct ind_patterns *set, const struct ind_pattern_leaf *leaf, uint32_t pattern,
                    struct ind_slice source, struct ind_mistake *mistake)
{
    const struct ind_pattern_syntax *other = &set->layouts[leaf->layout];
    if (other->pattern == pattern)
        ind_mistake_say(mistake, 0, source.length, "this layout fits just what \"", other->source,
                        "\" above fits; leave one out", IND_NOTHING, "");
    else
        ind_mistake_say(mistake, 0, source.length, "this layout fits just what \"", other->source,
                        "\" of the pattern \"", ind_pattern_name(set, other->pattern),
                        "\" fits; leave one out, or tell them apart by app:");
}

/* The layout ends at a twig, for one app. */
static bool add_leaf(struct ind_patterns *set, uint32_t at, struct ind_slice app, struct ind_slice source,
                     struct ind_mistake *mistake)
{
    if (!grow(&set->leaves, set->leaf_count, &set->leaf_room, sizeof *set->leaves))
        return false;
    uint32_t *place = &set->twigs[at].leaf, layout = (uint32_t)set->layout_count;
    uint32_t pattern = set->layouts[layout].pattern;
    while (*place && set->leaves[*place - 1].app.length &&
           (app.length == 0 || !ind_slice_equal(set->leaves[*place - 1].app, app)))
        place = &set->leaves[*place - 1].next; /* the one without an app stays last */
    if (*place && ind_slice_equal(set->leaves[*place - 1].app, app)) {
        already(set, &set->leaves[*place - 1], pattern, source, mistake);
        return false;
    }
    set->leaves[set->leaf_count] = (struct ind_pattern_leaf){app, layout, *place};
    *place = (uint32_t)++set->leaf_count;
    return true;
}

/* ---- A layout ---- */

static bool check_expressions(const struct ind_syntax_text *text, struct ind_mistake *mistake)
{
    for (size_t i = 0; i < text->count; i++) {
        const struct ind_syntax_piece *piece = &text->pieces[i];
        struct ind_regex_error error;
        if (!piece->field || piece->type != IND_TYPE_RE)
            continue;
        struct ind_regex *regex = ind_regex_new(piece->text, 0, &error);
        ind_regex_free(regex);
        if (regex)
            continue;
        size_t start = piece->at + piece->length - 2 - piece->text.length;
        ind_mistake_say(mistake, start + error.offset, 1,
                        "the regular expression breaks off here: ", ind_slice_of(error.reason), "",
                        IND_NOTHING, "");
        return false;
    }
    return true;
}

/* The layout's own copy of its fields; slots are counted along its way. */
static bool fill_layout(struct ind_patterns *set, const struct ind_syntax_text *text, struct ind_slice source,
                        struct ind_pattern_syntax *layout)
{
    struct ind_pattern_field *fields = calloc(text->fields + 1, sizeof *fields);
    layout->source = source;
    layout->fields = fields;
    layout->field_count = fields ? (uint32_t)text->fields : 0;
    if (!fields || !keep_slice(set, &layout->source))
        return false;
    uint32_t slot = 0;
    for (size_t i = 0; i < text->count; i++) {
        const struct ind_syntax_piece *piece = &text->pieces[i];
        if (!piece->field)
            continue;
        fields[slot] = (struct ind_pattern_field){piece->name, piece->type, slot};
        layout->quoted |= piece->type == IND_TYPE_QUOTED;
        if (piece->name.length && !keep_slice(set, &fields[slot].name))
            return false;
        slot++;
    }
    return true;
}

static uint32_t way_of(struct ind_patterns *set, const struct ind_syntax_text *text)
{
    uint32_t at = 0;
    for (size_t i = 0; i < text->count; i++) {
        struct ind_syntax_piece piece = text->pieces[i];
        if (piece.text.length && !keep_slice(set, &piece.text))
            return 0;
        at = piece.field ? child_field(set, at, &piece) : way_of_literal(set, at, piece.text);
        if (!at)
            return 0;
    }
    return at;
}

bool ind_patterns_add_syntax(struct ind_patterns *set, uint32_t number, struct ind_slice source,
                             struct ind_mistake *mistake)
{
    struct ind_syntax_text *text = malloc(sizeof *text);
    const struct ind_pattern_entry *pattern = &set->patterns[number];
    if (!text || !ind_syntax_parse(source, text, mistake) || !check_expressions(text, mistake) ||
        !grow(&set->layouts, set->layout_count, &set->layout_room, sizeof *set->layouts)) {
        free(text);
        return false;
    }
    struct ind_pattern_syntax *layout = &set->layouts[set->layout_count];
    *layout = (struct ind_pattern_syntax){.pattern = number};
    uint32_t at = fill_layout(set, text, source, layout) ? way_of(set, text) : 0;
    bool good = at && (pattern->app_count || add_leaf(set, at, IND_NOTHING, source, mistake));
    for (size_t i = 0; good && i < pattern->app_count; i++)
        good = add_leaf(set, at, pattern->apps[i], source, mistake);
    free(text);
    set->layout_count++; /* also where it is wrong: what was made of it stays in place */
    return good;
}

/* ---- What is in a set ---- */

size_t ind_patterns_count(const struct ind_patterns *set)
{
    return set->pattern_count;
}

struct ind_slice ind_pattern_name(const struct ind_patterns *set, uint32_t pattern)
{
    return ind_slice_of(set->patterns[pattern].name);
}

bool ind_pattern_named(const struct ind_patterns *set, struct ind_slice name, uint32_t *pattern)
{
    for (size_t i = 0; i < set->pattern_count; i++)
        if (ind_slice_equal(ind_slice_of(set->patterns[i].name), name)) {
            *pattern = (uint32_t)i;
            return true;
        }
    return false;
}

const char *ind_pattern_near(const struct ind_patterns *set, struct ind_slice name)
{
    const char **names = malloc((set->pattern_count + 1) * sizeof *names);
    for (size_t i = 0; names && i < set->pattern_count; i++)
        names[i] = set->patterns[i].name;
    const char *near = names ? ind_near(name, names, set->pattern_count) : NULL;
    free(names);
    return near;
}

size_t ind_pattern_app_count(const struct ind_patterns *set, uint32_t pattern)
{
    return set->patterns[pattern].app_count;
}

struct ind_slice ind_pattern_app(const struct ind_patterns *set, uint32_t pattern, size_t i)
{
    return set->patterns[pattern].apps[i];
}

size_t ind_patterns_syntax_count(const struct ind_patterns *set)
{
    return set->layout_count;
}

const struct ind_pattern_syntax *ind_patterns_syntax(const struct ind_patterns *set, size_t layout)
{
    return &set->layouts[layout];
}

bool ind_patterns_give(const struct ind_patterns *set, struct ind_slice name, const char **near)
{
    size_t most = set->layout_count * IND_SYNTAX_FIELDS + 1, count = 0;
    const char **names = malloc(most * sizeof *names);
    bool given = false;
    *near = NULL;
    for (size_t i = 0; names && i < set->layout_count; i++)
        for (size_t j = 0; j < set->layouts[i].field_count; j++) {
            struct ind_slice field = set->layouts[i].fields[j].name;
            given |= field.length && ind_slice_equal(field, name);
            if (field.length)
                names[count++] = field.at;
        }
    if (names && !given)
        *near = ind_near(name, names, count);
    free(names);
    return given;
}
