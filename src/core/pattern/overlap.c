/* Which layouts fit one text both.
 *
 * Pairs that part at literal bytes have nothing in common; the tree leaves those that part at a field. For
 * each, a walk through both at once, with every type widened to the bytes it may hold, shows that there is no
 * common text, or finds the shortest that could be one with types narrowed to a common form of theirs. That
 * text counts only when both layouts take it. What neither settles could not be compared. */
#include "core/pattern/pattern_private.h"

#include <stdlib.h>

enum { CELLS = IND_SYNTAX_BYTES * 4, MOST_WORK = 50 * 1000 * 1000, PROOF = 3000 };

/* Bytes that may stand at a place: `repeat` any number of times, `maybe` also none. */
struct cell {
    unsigned char bytes[32];
    bool repeat, maybe;
};

struct cells {
    struct cell list[CELLS];
    size_t count;
};

/* ---- Types as cells ---- */

/* "[…]" is one of these bytes, `+` behind it: or more; `*`: any number; `?`: or none. `.` in it is any byte,
 * `s` any but a space, `d` a digit, `x` a hexadecimal digit, `a` a letter; what follows a `\` is itself. */
static const char *const wide[IND_TYPES] = {
    [IND_TYPE_TIME] = "[a\\,\\ ]*[d][da\\:\\,\\-\\+\\/\\ \\.]+",
    [IND_TYPE_IP] = "[x]*[\\:\\.][da\\:\\%\\_\\-\\.]+",
    [IND_TYPE_MAC] = "[x][x]+[\\:\\-\\.][x\\:\\-\\.]+",
    [IND_TYPE_INT] = "[\\+\\-]?[d]+",
    [IND_TYPE_DECIMAL] = "[\\+\\-]?[d][d\\.]*",
    [IND_TYPE_HEX] = "[x][x\\x\\X]*",
    [IND_TYPE_DURATION] = "[d][da\\:\\,\\ \\.]*",
    [IND_TYPE_INTERFACE] = "[da\\/\\:\\.\\_\\-]*[d]",
    [IND_TYPE_PATH] = "[da\\.\\~\\:]*[\\/\\\\][s]*",
    [IND_TYPE_HOST] = "[da\\:\\_][da\\:\\%\\_\\-\\.]*",
    [IND_TYPE_QUOTED] = "[\\\"\\'][.]*[\\\"\\']",
    [IND_TYPE_PAIRS] = "[a\\_][.]*[\\=][.]*",
    [IND_TYPE_JSON] = "[\\{][.]*[\\}]",
    [IND_TYPE_RE] = "[.]+",
    [IND_TYPE_WORD] = "[s]+",
    [IND_TYPE_TEXT] = "[.]+",
    [IND_TYPE_REMAINDER] = "[.]*",
};

static const char *const narrow[IND_TYPES] = {
    [IND_TYPE_TIME] = "[\\0][d][\\:][\\0][d][\\:][\\0][d]",
    [IND_TYPE_IP] = "[d]+[\\.][d]+[\\.][d]+[\\.][d]+",
    [IND_TYPE_MAC] = "[x][x][\\:][x][x][\\:][x][x][\\:][x][x][\\:][x][x][\\:][x][x]",
    [IND_TYPE_INT] = "[d]+",
    [IND_TYPE_DECIMAL] = "[d]+",
    [IND_TYPE_HEX] = "[x]+",
    [IND_TYPE_DURATION] = "[d]+[\\s\\m\\h\\d]",
    [IND_TYPE_INTERFACE] = "[a]+[d]+",
    [IND_TYPE_PATH] = "[\\/][da\\_\\-]+",
    [IND_TYPE_HOST] = "[a][da\\-]*",
    [IND_TYPE_QUOTED] = "[\\\"][s]*[\\\"]",
    [IND_TYPE_PAIRS] = "[a]+[\\=][da]+",
    [IND_TYPE_JSON] = "[\\{][\\\"][a][\\\"][\\:][d][\\}]",
    [IND_TYPE_RE] = "[.]+",
    [IND_TYPE_WORD] = "[s]+",
    [IND_TYPE_TEXT] = "[.]+",
    [IND_TYPE_REMAINDER] = "[.]*",
};

static void allow(struct cell *cell, unsigned byte)
{
    cell->bytes[byte / 8] |= (unsigned char)(1u << byte % 8);
}

static void allow_kind(struct cell *cell, char kind)
{
    for (unsigned byte = 0; byte < 256; byte++) {
        char c = (char)byte;
        bool good = kind == '.' || (kind == 's' && !ind_type_byte(c, IND_TYPE_BLANK)) ||
                    (kind == 'd' && ind_is_digit(c)) || (kind == 'a' && ind_is_alpha(c)) ||
                    (kind == 'x' && ind_type_byte(c, IND_TYPE_HEX_DIGIT));
        if (good)
            allow(cell, byte);
    }
}

static struct cell *add_cell(struct cells *cells)
{
    if (cells->count == CELLS)
        return NULL;
    struct cell *cell = &cells->list[cells->count++];
    *cell = (struct cell){.repeat = false};
    return cell;
}

static bool add_type(struct cells *cells, const char *form)
{
    while (*form == '[') {
        struct cell *cell = add_cell(cells);
        if (!cell)
            return false;
        for (form++; *form != ']'; form++)
            if (*form == '\\')
                allow(cell, (unsigned char)*++form);
            else
                allow_kind(cell, *form);
        form++;
        cell->repeat = *form == '+' || *form == '*';
        cell->maybe = *form == '?' || *form == '*';
        form += cell->repeat || cell->maybe;
    }
    return true;
}

static bool make_cells(const struct ind_pattern_syntax *layout, bool narrowed, struct ind_syntax_text *text,
                       struct cells *cells)
{
    struct ind_mistake mistake = {0};
    cells->count = 0;
    if (!ind_syntax_parse(layout->source, text, &mistake))
        return false;
    for (size_t i = 0; i < text->count; i++) {
        const struct ind_syntax_piece *piece = &text->pieces[i];
        if (piece->field) {
            if (!add_type(cells, (narrowed ? narrow : wide)[piece->type]))
                return false;
            continue;
        }
        for (size_t j = 0; j < piece->text.length; j++) {
            struct cell *cell = add_cell(cells);
            if (!cell)
                return false;
            allow(cell, (unsigned char)piece->text.at[j]);
            if (piece->text.at[j] == ' ') {
                allow(cell, '\t');
                cell->repeat = true;
            }
        }
    }
    return true;
}

/* ---- The walk through both ---- */

struct state {
    uint32_t from; /* place of the one before, counted from 1 */
    uint16_t a, b;
    char byte; /* that led here */
    bool silent;
};

struct comparing {
    const struct ind_patterns *set;
    struct cells *a, *b;
    struct ind_syntax_text *text;
    unsigned char *seen;
    struct state *states;
    size_t room;
    size_t work; /* states looked at so far, over all pairs; a proof counts as many */
    struct single {
        struct ind_patterns *set;
        struct ind_matcher *matcher;
    } * singles; /* a set of its own for each layout that has been asked */
    const struct ind_slice *examples;
    void (*report)(void *context, const struct ind_overlap *overlap);
    void *context;
    size_t left_out;
    bool out_of_memory;
};

/* A byte that both may have, a readable one where there is one; -1. */
static int common_byte(const struct cell *a, const struct cell *b)
{
    static const char liked[] = "x1abcdefghijklmnopqrstuvwyz023456789.:-/= ABCDEFGHIJKLMNOPQRSTUVWXYZ";
    for (const char *c = liked; *c; c++) {
        unsigned byte = (unsigned char)*c;
        if (a->bytes[byte / 8] & b->bytes[byte / 8] & 1u << byte % 8)
            return (int)byte;
    }
    for (unsigned byte = 1; byte < 256; byte++)
        if (a->bytes[byte / 8] & b->bytes[byte / 8] & 1u << byte % 8)
            return (int)byte;
    return -1;
}

static void reach(struct comparing *comparing, size_t *count, uint32_t from, size_t a, size_t b, int byte)
{
    size_t place = a * (comparing->b->count + 1) + b;
    if (comparing->seen[place / 8] & 1u << place % 8)
        return;
    comparing->seen[place / 8] |= (unsigned char)(1u << place % 8);
    comparing->states[(*count)++] = (struct state){from, (uint16_t)a, (uint16_t)b, (char)byte, byte < 0};
}

static void step(struct comparing *comparing, size_t *count, size_t at)
{
    struct state state = comparing->states[at];
    const struct cell *a = state.a < comparing->a->count ? &comparing->a->list[state.a] : NULL,
                      *b = state.b < comparing->b->count ? &comparing->b->list[state.b] : NULL;
    uint32_t from = (uint32_t)at + 1;
    if (a && a->maybe)
        reach(comparing, count, from, state.a + 1u, state.b, -1);
    if (b && b->maybe)
        reach(comparing, count, from, state.a, state.b + 1u, -1);
    int byte = a && b ? common_byte(a, b) : -1;
    if (byte < 0)
        return;
    reach(comparing, count, from, state.a + 1u, state.b + 1u, byte);
    if (a->repeat)
        reach(comparing, count, from, state.a, state.b + 1u, byte);
    if (b->repeat)
        reach(comparing, count, from, state.a + 1u, state.b, byte);
}

static bool make_states(struct comparing *comparing, size_t wanted)
{
    if (wanted > comparing->room) {
        free(comparing->states);
        free(comparing->seen);
        comparing->room = wanted * 2;
        comparing->states = malloc(comparing->room * sizeof *comparing->states);
        comparing->seen = malloc(comparing->room / 8 + 1);
    }
    comparing->out_of_memory |= !comparing->states || !comparing->seen;
    if (!comparing->out_of_memory)
        memset(comparing->seen, 0, wanted / 8 + 1);
    else
        comparing->room = 0;
    return !comparing->out_of_memory;
}

/* The shortest text that both cells allow into `text` (at least 240 bytes); false where there is none. One
 * that does not fit there is empty. */
static bool common_text(struct comparing *comparing, char *text)
{
    size_t end = (comparing->a->count + 1) * (comparing->b->count + 1), count = 0, length = 0;
    text[0] = '\0';
    if (!make_states(comparing, end))
        return false;
    reach(comparing, &count, 0, 0, 0, -1);
    for (size_t at = 0; at < count; at++) {
        comparing->work++;
        if (comparing->states[at].a == comparing->a->count &&
            comparing->states[at].b == comparing->b->count) {
            for (uint32_t from = (uint32_t)at + 1; from; from = comparing->states[from - 1].from)
                length += !comparing->states[from - 1].silent;
            if (length >= 240)
                return true;
            text[length] = '\0';
            for (uint32_t from = (uint32_t)at + 1; from; from = comparing->states[from - 1].from)
                if (!comparing->states[from - 1].silent)
                    text[--length] = comparing->states[from - 1].byte;
            return true;
        }
        step(comparing, &count, at);
    }
    return false;
}

/* ---- Proofs ---- */

static struct ind_patterns *set_of(const struct ind_patterns *set, const uint32_t *layouts, size_t count)
{
    struct ind_patterns *small = ind_patterns_new();
    struct ind_mistake mistake = {0};
    uint32_t pattern;
    bool good = small != NULL;
    for (size_t i = 0; good && i < count; i++)
        good = ind_patterns_add(small, IND_SLICE("?"), NULL, 0, &pattern) &&
               ind_patterns_add_syntax(small, pattern, set->layouts[layouts[i]].source, &mistake);
    if (good && ind_patterns_compile(small))
        return small;
    ind_patterns_free(small);
    return NULL;
}

static bool accepts(struct comparing *comparing, uint32_t layout, struct ind_slice text)
{
    struct single *single = &comparing->singles[layout];
    if (!single->matcher) {
        single->set = set_of(comparing->set, &layout, 1);
        single->matcher = single->set ? ind_matcher_new(single->set) : NULL;
        if (!single->matcher) {
            comparing->out_of_memory = true;
            return false;
        }
    }
    ind_matcher_next(single->matcher);
    return ind_match(single->matcher, text, IND_NOTHING, true) != NULL;
}

/* Tells the overlap if both take the text; which one wins shows in a set of the two. */
static bool prove(struct comparing *comparing, uint32_t a, uint32_t b, struct ind_slice text)
{
    const uint32_t both[] = {a, b};
    struct ind_overlap overlap = {.kind = IND_OVERLAP, .a = a, .b = b};
    comparing->work += PROOF;
    if (text.length == 0 || text.length >= sizeof overlap.text || !accepts(comparing, a, text) ||
        !accepts(comparing, b, text))
        return false;
    struct ind_patterns *set = set_of(comparing->set, both, 2);
    struct ind_matcher *matcher = set ? ind_matcher_new(set) : NULL;
    if (matcher)
        ind_matcher_next(matcher);
    const struct ind_pattern_syntax *winner = matcher ? ind_match(matcher, text, IND_NOTHING, true) : NULL;
    if (winner && winner->pattern == 1) {
        overlap.a = b;
        overlap.b = a;
    }
    ind_matcher_free(matcher);
    ind_patterns_free(set);
    memcpy(overlap.text, text.at, text.length);
    comparing->report(comparing->context, &overlap);
    return true;
}

static bool share_an_app(const struct ind_pattern_entry *a, const struct ind_pattern_entry *b)
{
    for (size_t i = 0; i < a->app_count; i++)
        for (size_t j = 0; j < b->app_count; j++)
            if (ind_slice_equal(a->apps[i], b->apps[j]))
                return true;
    return a->app_count == 0 || b->app_count == 0;
}

static void compare(struct comparing *comparing, uint32_t a, uint32_t b)
{
    const struct ind_patterns *set = comparing->set;
    const struct ind_pattern_syntax *x = &set->layouts[a], *y = &set->layouts[b];
    char text[240];
    if (x->pattern == y->pattern || !share_an_app(&set->patterns[x->pattern], &set->patterns[y->pattern]))
        return;
    if (comparing->work > MOST_WORK || comparing->out_of_memory) {
        comparing->left_out++;
        return;
    }
    if (!make_cells(x, false, comparing->text, comparing->a) ||
        !make_cells(y, false, comparing->text, comparing->b)) {
        comparing->left_out++;
        return;
    }
    if (!common_text(comparing, text) || prove(comparing, a, b, comparing->examples[a]) ||
        prove(comparing, a, b, comparing->examples[b]))
        return;
    if (make_cells(x, true, comparing->text, comparing->a) &&
        make_cells(y, true, comparing->text, comparing->b) && common_text(comparing, text) &&
        prove(comparing, a, b, ind_slice_of(text)))
        return;
    struct ind_overlap unknown = {.kind = IND_OVERLAP_UNKNOWN, .a = a, .b = b};
    comparing->report(comparing->context, &unknown);
}

/* ---- Pairs ---- */

/* The layouts that end below a node, or at it. */
static size_t layouts_of(const struct ind_patterns *set, uint32_t from, uint32_t to, uint32_t *list)
{
    size_t count = 0;
    for (uint32_t n = from; n < to; n++)
        for (uint32_t leaf = set->nodes[n].leaf; leaf; leaf = set->ends[leaf - 1].next ? leaf + 1 : 0)
            if (count == 0 || list[count - 1] != set->ends[leaf - 1].layout)
                list[count++] = set->ends[leaf - 1].layout;
    return count;
}

struct lists {
    uint32_t *a, *b;
};

static void compare_all(struct comparing *comparing, const uint32_t *a, size_t a_count, const uint32_t *b,
                        size_t b_count)
{
    for (size_t i = 0; i < a_count; i++)
        for (size_t j = 0; j < b_count; j++)
            compare(comparing, a[i], b[j]);
}

/* What parts at this node: each field below it against all that is tried before it; `open`: somewhere below a
 * word or text, whose end is open, literals against each other too. */
static void compare_at(struct comparing *comparing, uint32_t number, bool open, struct lists *lists)
{
    const struct ind_patterns *set = comparing->set;
    const struct ind_pattern_node *node = &set->nodes[number];
    uint32_t first_field = set->subtree_ends[number];
    if (node->field_count)
        first_field = set->links[node->fields];
    for (uint32_t child = number + 1; child < set->subtree_ends[number]; child = set->subtree_ends[child]) {
        if (!open && child < first_field)
            continue;
        size_t before = layouts_of(set, number, child, lists->a);
        size_t here = layouts_of(set, child, set->subtree_ends[child], lists->b);
        compare_all(comparing, lists->a, before, lists->b, here);
    }
}

size_t ind_patterns_overlaps(const struct ind_patterns *set, const struct ind_slice *examples,
                             void (*report)(void *context, const struct ind_overlap *overlap), void *context)
{
    struct comparing comparing = {.set = set, .examples = examples, .report = report, .context = context};
    struct lists lists = {malloc((set->end_count + 1) * sizeof *lists.a),
                          malloc((set->end_count + 1) * sizeof *lists.b)};
    comparing.a = malloc(sizeof *comparing.a);
    comparing.b = malloc(sizeof *comparing.b);
    comparing.text = malloc(sizeof *comparing.text);
    comparing.singles = calloc(set->layout_count + 1, sizeof *comparing.singles);
    comparing.out_of_memory =
        !comparing.a || !comparing.b || !comparing.text || !comparing.singles || !lists.a || !lists.b;
    for (uint32_t n = 0, open_until = 0; n < set->node_count && !comparing.out_of_memory; n++) {
        if (set->nodes[n].flags & IND_PATTERN_NODE_LAZY && set->subtree_ends[n] > open_until)
            open_until = set->subtree_ends[n];
        compare_at(&comparing, n, n < open_until, &lists);
    }
    for (size_t i = 0; comparing.singles && i < set->layout_count; i++) {
        ind_matcher_free(comparing.singles[i].matcher);
        ind_patterns_free(comparing.singles[i].set);
    }
    free(lists.a);
    free(lists.b);
    free(comparing.a);
    free(comparing.b);
    free(comparing.text);
    free(comparing.singles);
    free(comparing.seen);
    free(comparing.states);
    return comparing.out_of_memory ? SIZE_MAX : comparing.left_out;
}
