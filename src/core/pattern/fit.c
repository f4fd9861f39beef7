/* Where a text stops fitting: a walk that is watched, and the places at which it got furthest. */
#include "core/pattern/watch_private.h"

#include <stdlib.h>

static int by_number(const void *a, const void *b)
{
    uint32_t x = *(const uint32_t *)a, y = *(const uint32_t *)b;
    return (x > y) - (x < y);
}

/* The layouts that end at or below a node: the first as written, and how many more there are. */
static const struct ind_pattern_syntax *layouts_below(const struct ind_patterns *set, uint32_t node,
                                                      size_t *others)
{
    size_t count = 0, distinct = 0;
    uint32_t *list = malloc((set->end_count + 1) * sizeof *list);
    for (uint32_t n = node; list && n < set->subtree_ends[node]; n++)
        for (uint32_t leaf = set->nodes[n].leaf; leaf; leaf = set->ends[leaf - 1].next ? leaf + 1 : 0)
            list[count++] = set->ends[leaf - 1].layout;
    if (count)
        qsort(list, count, sizeof *list, by_number);
    for (size_t i = 0; i < count; i++)
        distinct += i == 0 || list[i] != list[i - 1];
    const struct ind_pattern_syntax *first = count ? &set->layouts[list[0]] : NULL;
    *others = distinct ? distinct - 1 : 0;
    free(list);
    return first;
}

/* ---- What would fit ---- */

/* Whether what is below a field goes on at `at`: literal text, the end, or a remainder. */
static bool goes_on(const struct ind_patterns *set, uint32_t field, const char *start, const char *at,
                    const char *end)
{
    const struct ind_pattern_node *node = &set->nodes[field];
    unsigned state = 0;
    uint32_t child;
    size_t length;
    if (at == end && node->leaf)
        return true;
    while (ind_tree_next_literal(set, field, &state, &child)) {
        struct ind_slice literal = ind_node_literal(set, &set->nodes[child]);
        (void)ind_literal_go(literal, at, end, &length);
        if (length == literal.length)
            return true;
    }
    return node->field_count && ind_type_boundary(start, at, end);
}

/* The narrowest type that takes what stands at `at` so that the layout goes on behind it; NULL. */
static const char *would_fit(const struct ind_patterns *set, uint32_t field, const char *at, const char *end)
{
    for (int type = 0; type < IND_TYPES; type++) {
        if ((uint8_t)type == set->nodes[field].type || type == IND_TYPE_RE || type >= IND_TYPE_WORD)
            continue;
        const char *stop = ind_type_scan((enum ind_type)type, at, end);
        if (stop && goes_on(set, field, at, stop, end))
            return ind_type_name((enum ind_type)type).at;
    }
    const char *blank = ind_type_to_blank(at, end);
    for (const char *stop = at + 1; stop <= end; stop++)
        if (goes_on(set, field, at, stop, end)) {
            enum ind_type type = stop <= blank ? IND_TYPE_WORD : IND_TYPE_TEXT;
            return set->nodes[field].type == type ? NULL : ind_type_name(type).at;
        }
    return NULL;
}

/* ---- A stop ---- */

static void quote(struct ind_buffer *out, struct ind_slice text)
{
    enum { MOST = 40 };
    if (text.length == 1 && text.at[0] == ' ') {
        ind_buffer_text(out, "a space");
        return;
    }
    ind_buffer_byte(out, '"');
    ind_buffer_add(out, text.at, text.length < MOST ? text.length : MOST);
    ind_buffer_text(out, text.length < MOST ? "\"" : "…\"");
}

static const struct ind_pattern_field *field_of(const struct ind_pattern_syntax *layout, size_t slot)
{
    return layout && slot < layout->field_count ? &layout->fields[slot] : NULL;
}

/* "{port:int}" */
static void put_field(struct ind_buffer *out, const struct ind_pattern_field *field, struct ind_slice type)
{
    ind_buffer_byte(out, '{');
    ind_buffer_slice(out, field ? field->name : IND_NOTHING);
    ind_buffer_byte(out, ':');
    ind_buffer_slice(out, type);
    ind_buffer_byte(out, '}');
}

static void describe(const struct ind_patterns *set, const struct place *place, const char *text,
                     struct ind_stop *stop)
{
    const struct ind_pattern_node *node = &set->nodes[place->node];
    struct ind_buffer out = ind_buffer_on(stop->expected, sizeof stop->expected - 1);
    switch (place->kind) {
    case IND_STOP_LITERAL: {
        struct ind_slice literal = ind_node_literal(set, node);
        size_t went;
        (void)ind_literal_go(literal, text + place->at, text + place->reached, &went);
        quote(&out, ind_slice_from(literal, went < literal.length ? went : 0));
        break;
    }
    case IND_STOP_FIELD: {
        const struct ind_pattern_field *field = field_of(stop->layout, node->slot);
        put_field(&out, field, ind_type_name(node->type));
        ind_buffer_text(&out, ", ");
        ind_buffer_text(&out, ind_type_wants(node->type));
        stop->field = field;
        break;
    }
    case IND_STOP_BEHIND: {
        unsigned state = 0;
        uint32_t child;
        for (size_t i = 0; i < 3 && ind_tree_next_literal(set, place->node, &state, &child); i++) {
            ind_buffer_text(&out, i ? " or " : "");
            quote(&out, ind_node_literal(set, &set->nodes[child]));
        }
        ind_buffer_text(&out, " further on");
        break;
    }
    case IND_STOP_END:
        ind_buffer_text(&out, "the end of the text");
        break;
    default:
        for (size_t i = 0; i < ind_pattern_app_count(set, stop->layout->pattern); i++) {
            ind_buffer_text(&out, i ? " or " : "the app ");
            quote(&out, ind_pattern_app(set, stop->layout->pattern, i));
        }
        break;
    }
    stop->expected[out.length] = '\0';
}

/* A field that ends in the middle of a word took too little: the type that would have taken all of it. */
static void look_before(const struct ind_matcher *matcher, const struct place *place, struct ind_slice text,
                        struct ind_stop *stop)
{
    const struct ind_patterns *set = matcher->set;
    uint32_t loose;
    bool behind_field = set->nodes[place->node].type != IND_TYPES; /* the layout ends with this field */
    uint32_t field = behind_field && place->kind == IND_STOP_END
                         ? place->node
                         : ind_watch_field_above(matcher, place->node, &loose);
    if (!field || place->at == 0 || ind_type_boundary(text.at, text.at + place->at, text.at + text.length))
        return;
    const struct ind_pattern_capture *taken = &matcher->captures[set->nodes[field].slot];
    if (taken->to != place->at || taken->from >= taken->to)
        return;
    stop->before = true;
    stop->field = field_of(stop->layout, set->nodes[field].slot);
    stop->took = (struct ind_slice){text.at + taken->from, taken->to - taken->from};
    stop->found_at = taken->from;
    stop->would_fit = would_fit(set, field, text.at + taken->from, text.at + text.length);
}

static void fill(const struct ind_matcher *matcher, const struct place *place, struct ind_slice text,
                 struct ind_stop *stop)
{
    const char *end = text.at + text.length;
    *stop = (struct ind_stop){.kind = place->kind, .at = place->reached, .found_at = place->reached};
    stop->layout = layouts_below(matcher->set, place->node, &stop->others);
    if (place->kind == IND_STOP_FIELD)
        stop->would_fit = would_fit(matcher->set, place->node, text.at + place->at, end);
    else if (place->kind != IND_STOP_APP && place->kind != IND_STOP_BEHIND && place->reached == place->at)
        look_before(matcher, place, text, stop);
    describe(matcher->set, place, text.at, stop);
    const char *from = text.at + stop->found_at, *past = ind_type_past_blanks(from, end);
    const char *to = ind_type_to_blank(past, end);
    stop->found = (struct ind_slice){from, (size_t)(to - from)};
}

size_t ind_match_stops(struct ind_matcher *matcher, struct ind_slice text, struct ind_slice app, bool any_app,
                       struct ind_stop stops[IND_STOPS])
{
    struct ind_pattern_watch watch = {.matcher = matcher};
    const struct ind_slice trimmed = ind_type_trim(text);
    size_t before = trimmed.length ? (size_t)(trimmed.at - text.at) : 0, count = 0;
    if (matcher->set->layout_count == 0)
        return 0;
    matcher->watch = &watch;
    (void)ind_match_watched(matcher, trimmed, app, any_app);
    matcher->watch = NULL;
    for (size_t i = 0; i < watch.count && count < IND_STOPS; i++) {
        fill(matcher, &watch.places[i], trimmed, &stops[count]);
        stops[count].at += before;
        stops[count].found_at += before;
        count += stops[count].layout != NULL;
    }
    return count;
}

void ind_stop_describe(const struct ind_stop *stop, struct ind_buffer *out)
{
    if (stop->before) {
        put_field(out, stop->field, stop->field ? ind_type_name(stop->field->type) : IND_NOTHING);
        ind_buffer_text(out, " takes only ");
        quote(out, stop->took);
        ind_buffer_text(out, " of ");
        quote(out, stop->found);
    } else if (stop->kind == IND_STOP_APP) {
        ind_buffer_text(out, "all of it fits, but is for ");
        ind_buffer_text(out, stop->expected);
        ind_buffer_text(out, " only");
    } else {
        ind_buffer_text(out, "expected ");
        ind_buffer_text(out, stop->expected);
        ind_buffer_text(out, ", found ");
        if (stop->found.length)
            quote(out, stop->found);
        else
            ind_buffer_text(out, "the end of the text");
    }
    if (stop->would_fit) {
        ind_buffer_text(out, "; ");
        put_field(out, stop->field, ind_slice_of(stop->would_fit));
        ind_buffer_text(out, " would fit");
    }
}
