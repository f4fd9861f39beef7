/* The walk: down the tree as far as the text goes with it, and back to the last place where there was another
 * way. Which failures are remembered bounds the steps: a node can be reached twice at one place only behind a
 * word or text, which may end in several. */
#include "core/pattern/watch_private.h"
#define PCRE2_CODE_UNIT_WIDTH 8
#include <pcre2.h>
#include <stdlib.h>

struct ind_matcher *ind_matcher_new(const struct ind_patterns *set)
{
    struct ind_matcher *matcher = calloc(1, sizeof *matcher);
    if (!matcher)
        return NULL;
    matcher->set = set;
    matcher->frames = calloc(set->deepest + 2, sizeof *matcher->frames);
    bool failures = ind_failures_begin(matcher);
    bool regex = ind_regex_room_begin(&matcher->regex);
    if (matcher->frames && failures && regex)
        return matcher;
    ind_matcher_free(matcher);
    return NULL;
}

void ind_matcher_next(struct ind_matcher *matcher)
{
    ind_regex_room_next(&matcher->regex);
}

void ind_matcher_free(struct ind_matcher *matcher)
{
    if (!matcher)
        return;
    ind_regex_room_end(&matcher->regex);
    free(matcher->failures);
    free(matcher->frames);
    free(matcher);
}

/* ---- Literals ---- */

const char *ind_literal_go(struct ind_slice literal, const char *at, const char *end, size_t *length)
{
    size_t i = 0;
    for (; i < literal.length; i++)
        if (literal.at[i] == ' ') {
            const char *past = ind_type_past_blanks(at, end);
            if (past == at)
                break;
            at = past;
        } else if (at < end && *at == literal.at[i]) {
            at++;
        } else {
            break;
        }
    *length = i;
    return at;
}

static IND_COLD const char *go_with_blanks(const struct ind_patterns *set,
                                           const struct ind_pattern_node *node, const char *at,
                                           const char *end)
{
    size_t went;
    at = ind_literal_go(ind_node_literal(set, node), at, end, &went);
    return went == node->length ? at : NULL;
}

static IND_INLINE uint64_t eight(const char *at)
{
    uint64_t bytes;
    memcpy(&bytes, at, 8);
    return bytes;
}

/* Fewer than 8 bytes, of which not one more is there: two views that overlap. */
static IND_INLINE bool same_short(const char *a, const char *b, size_t length)
{
    uint32_t x, y, u, v;
    if (length < 4)
        return a[0] == b[0] && a[length / 2] == b[length / 2] && a[length - 1] == b[length - 1];
    memcpy(&x, a, 4);
    memcpy(&y, b, 4);
    memcpy(&u, a + length - 4, 4);
    memcpy(&v, b + length - 4, 4);
    return ((x ^ y) | (u ^ v)) == 0;
}

/* Whether the text, of which `left` bytes are left, begins with a literal. Lengths vary: where there is room,
 * bytes past the literal are looked at too and masked, so that there is no loop whose end is mispredicted. */
static IND_INLINE bool begins_with(const struct ind_patterns *set, const struct ind_pattern_node *node,
                                   const char *at, size_t left)
{
    static const char masks[16] = {-1, -1, -1, -1, -1, -1, -1, -1};
    const size_t length = node->length;
    if (left < 8)
        return length <= left && same_short(node->head, at, length);
    uint64_t differ = eight(node->head) ^ eight(at);
    if (length <= 8)
        return (differ & eight(masks + 8 - length)) == 0;
    const char *rest = set->bytes + node->literal + 8;
    if (differ || length > left)
        return false;
    return length <= 16 ? eight(rest + length - 16) == eight(at + length - 8)
                        : memcmp(rest, at + 8, length - 8) == 0;
}

/* Behind the literal, or NULL where the text does not go on with it. */
static IND_INLINE const char *fit_literal(const struct ind_patterns *set, const struct ind_pattern_node *node,
                                          const char *at, const char *end)
{
    if (begins_with(set, node, at, (size_t)(end - at))) {
        at += node->length;
        if (node->flags & IND_PATTERN_NODE_ENDS_BLANK)
            at = ind_type_past_blanks(at, end);
        return at;
    }
    return node->flags & IND_PATTERN_NODE_BLANKS ? go_with_blanks(set, node, at, end) : NULL;
}

/* ---- Fields ---- */

static IND_COLD const char *scan_expression(struct ind_matcher *matcher, const struct ind_pattern_node *node,
                                            struct ind_slice text, const char *at)
{
    size_t stop;
    enum ind_regex_found found = ind_regex_match(matcher->set->codes[node->literal], &matcher->regex, text,
                                                 (size_t)(at - text.at), PCRE2_NOTEMPTY, NULL, &stop);
    matcher->gave_up += found == IND_REGEX_GAVE_UP;
    /* How far it looked is not known, and mostly not far; it has a limit of its own beside. */
    matcher->steps += (size_t)(text.at + text.length - at) / 16 + 16;
    if (found != IND_REGEX_FOUND)
        return NULL;
    return text.at + stop > at ? text.at + stop : NULL; /* \K may set it back */
}

static IND_INLINE const char *scan_field(struct ind_matcher *matcher, const struct ind_pattern_node *node,
                                         struct ind_slice text, const char *at)
{
    const char *end = text.at + text.length, *stop;
    if (node->type == IND_TYPE_RE)
        return scan_expression(matcher, node, text, at);
    stop = ind_type_scan(node->type, at, end);
    if (stop)
        matcher->steps += (size_t)(stop - at);
    else if (at < end && ((node->type == IND_TYPE_QUOTED && (*at == '"' || *at == '\'')) ||
                          (node->type == IND_TYPE_JSON && *at == '{')))
        matcher->steps += (size_t)(end - at); /* the other side was looked for up to the end */
    return stop;
}

static void capture(struct ind_matcher *matcher, const struct ind_pattern_node *node, uint32_t from,
                    uint32_t to)
{
    matcher->captures[node->slot] = (struct ind_pattern_capture){from, to};
}

/* The end of a layout: the one that takes messages of that app. 0 where none does. */
static IND_INLINE uint32_t match_leaf(const struct ind_patterns *set, const struct ind_pattern_node *node,
                                      struct ind_slice app, bool any_app)
{
    for (uint32_t leaf = node->leaf; leaf; leaf = set->ends[leaf - 1].next ? leaf + 1 : 0) {
        const struct ind_pattern_leaf *end = &set->ends[leaf - 1];
        if (any_app || end->app.length == 0 || ind_slice_equal(end->app, app))
            return leaf;
    }
    return 0;
}

/* ---- The walk ---- */

struct walk {
    struct ind_matcher *matcher;
    const struct ind_patterns *set;
    struct ind_slice text;
    const char *end;
    struct ind_slice app;
    bool any_app, watched;
    struct ind_pattern_frame *frame; /* the next to fill */
    uint32_t leaf;                   /* what took the text */
};

enum next { NEXT_DOWN, NEXT_BACK, NEXT_FOUND };

/* Where the walk stands: behind a node, at a place of the text. Small enough for registers. */
struct where {
    enum next next;
    uint32_t node;
    const char *at;
};

static const struct where back = {NEXT_BACK, 0, NULL}, found = {NEXT_FOUND, 0, NULL};

static IND_COLD void watch_literals(const struct walk *walk, uint32_t number, const char *at)
{
    unsigned state = 0;
    uint32_t child;
    size_t length;
    while (ind_tree_next_literal(walk->set, number, &state, &child)) {
        const struct ind_pattern_node *node = &walk->set->nodes[child];
        const char *reached = ind_literal_go(ind_node_literal(walk->set, node), at, walk->end, &length);
        if (length < node->length)
            ind_watch_tell(walk->matcher->watch, IND_STOP_LITERAL, child, (uint32_t)(at - walk->text.at),
                           (uint32_t)(reached - walk->text.at));
    }
}

static IND_COLD void watch(const struct walk *walk, enum ind_stop_kind kind, uint32_t node, const char *at)
{
    uint32_t place = (uint32_t)(at - walk->text.at);
    ind_watch_tell(walk->matcher->watch, kind, node, place, place);
}

static void push(struct walk *walk, struct ind_pattern_frame frame)
{
    *walk->frame++ = frame;
}

/* Whether the text may end with this node, and a layout does. */
static bool is_taken(struct walk *walk, const struct ind_pattern_node *node)
{
    walk->leaf = match_leaf(walk->set, node, walk->app, walk->any_app);
    return walk->leaf != 0;
}

/* The word or text has been tried with all ends but the last possible, at which nothing literal follows. */
static bool end_lazily(struct walk *walk, const struct ind_pattern_frame *frame,
                       const struct ind_pattern_node *field)
{
    const char *stop = walk->text.at + frame->stop;
    capture(walk->matcher, field, frame->at, frame->stop);
    if (stop == walk->end && is_taken(walk, field))
        return true;
    if (field->field_count) { /* a remainder behind a word */
        const struct ind_pattern_node *rest = &walk->set->nodes[walk->set->links[field->fields]];
        capture(walk->matcher, rest, frame->stop, (uint32_t)walk->text.length);
        if (is_taken(walk, rest))
            return true;
    }
    if (walk->watched)
        watch(walk, field->leaf ? stop == walk->end ? IND_STOP_APP : IND_STOP_END : IND_STOP_BEHIND,
              frame->node, field->leaf ? stop : walk->text.at + frame->at);
    return false;
}

/* The next end of a word or text at which something goes on. */
static IND_COLD struct where go_on_lazily(struct walk *walk)
{
    struct ind_pattern_frame *frame = walk->frame - 1;
    struct ind_matcher *matcher = walk->matcher;
    const struct ind_pattern_node *field = &walk->set->nodes[frame->node];
    const char *text = walk->text.at, *limit = text + frame->limit;
    const bool one = (field->flags & IND_PATTERN_NODE_ONE_BYTE) && field->next != ' ';
    for (const char *to = text + frame->next; to <= limit && to < walk->end; to++) {
        if (one) {
            const char *hit = memchr(to, field->next, (size_t)(limit - to + (limit < walk->end)));
            matcher->steps += (size_t)((hit ? hit : limit) - to) / 8;
            if (!hit)
                break;
            to = hit;
        }
        matcher->steps++;
        uint32_t child = ind_tree_child(walk->set, frame->node, *to);
        bool inside =
            to - 1 > text + frame->at && ind_type_byte(*to, IND_TYPE_BLANK) &&
            ind_type_byte(to[-1], IND_TYPE_BLANK); /* of a run of white space: as from its beginning */
        if (!child || inside)
            continue;
        const char *next = fit_literal(walk->set, &walk->set->nodes[child], to, walk->end);
        capture(matcher, field, frame->at, (uint32_t)(to - text));
        if (walk->watched && !next)
            watch_literals(walk, frame->node, to);
        if (!next)
            continue;
        frame->next = (uint32_t)(to - text) + 1;
        return (struct where){NEXT_DOWN, child, next};
    }
    if (frame->limit == frame->stop && end_lazily(walk, frame, field))
        return found;
    ind_failure_add(matcher, frame->node, frame->stop, frame->at);
    walk->frame--;
    return back;
}

/* Words begin in many places of one run; its end is looked for once. */
static const char *end_of_run(struct ind_matcher *matcher, const char *at, const char *end)
{
    if (!matcher->run || at < matcher->run || at >= matcher->run_end) {
        matcher->run = at;
        matcher->run_end = ind_type_to_blank(at, end);
    }
    return matcher->run_end;
}

/* A word or text from `at` on: a place to come back to, which is then come back to at once. */
static bool begin_lazily(struct walk *walk, uint32_t number, const char *at)
{
    const struct ind_pattern_node *field = &walk->set->nodes[number];
    const char *stop = field->type == IND_TYPE_WORD ? end_of_run(walk->matcher, at, walk->end) : walk->end;
    uint32_t from = (uint32_t)(at - walk->text.at), to = (uint32_t)(stop - walk->text.at);
    if (stop == at)
        return false;
    struct ind_pattern_frame frame = {IND_FRAME_LAZY, number, from, from + 1, to, to};
    const struct ind_pattern_failure *failure =
        walk->matcher->failure_count ? ind_failure_find(walk->matcher, number, to) : NULL;
    if (failure && failure->round == walk->matcher->round) {
        if (failure->from <= from)
            return false;
        frame.limit = failure->from;
    }
    push(walk, frame);
    return true;
}

static bool match_remainder(struct walk *walk, const struct ind_pattern_node *parent, uint32_t number,
                            const char *at)
{
    const struct ind_pattern_node *field = &walk->set->nodes[number];
    bool ends = parent->type == IND_TYPES || ind_type_boundary(walk->text.at, at, walk->end);
    capture(walk->matcher, field, (uint32_t)(at - walk->text.at), (uint32_t)walk->text.length);
    if (ends && is_taken(walk, field))
        return true;
    if (walk->watched)
        watch(walk, ends ? IND_STOP_APP : IND_STOP_END, number, at);
    return false;
}

/* The fields below a node, from the one with number `k` on. */
static IND_COLD struct where try_fields(struct walk *walk, uint32_t parent, const char *at, uint32_t k)
{
    const struct ind_patterns *set = walk->set;
    struct ind_matcher *matcher = walk->matcher;
    const struct ind_pattern_node *node = &set->nodes[parent];
    uint32_t from = (uint32_t)(at - walk->text.at);
    while (k < node->field_count) {
        uint32_t child = set->links[node->fields + k++];
        const struct ind_pattern_node *field = &set->nodes[child];
        struct ind_pattern_frame *before = walk->frame;
        if (field->type == IND_TYPE_REMAINDER) {
            if (match_remainder(walk, node, child, at))
                return found;
            continue;
        }
        if (k < node->field_count)
            push(walk, (struct ind_pattern_frame){IND_FRAME_FIELDS, parent, from, k, 0, 0});
        if (field->flags & IND_PATTERN_NODE_LAZY) {
            if (begin_lazily(walk, child, at))
                return back;
        } else {
            const char *stop = scan_field(matcher, field, walk->text, at);
            uint32_t to = stop ? (uint32_t)(stop - walk->text.at) : 0;
            bool failed = stop && (field->flags & IND_PATTERN_NODE_MEMO) && matcher->failure_count &&
                          ind_failure_find(matcher, child, to)->round == matcher->round;
            matcher->steps++;
            if (stop && !failed) {
                if (field->flags & IND_PATTERN_NODE_MEMO)
                    push(walk, (struct ind_pattern_frame){IND_FRAME_MARK, child, to, 0, 0, 0});
                capture(matcher, field, from, to);
                return (struct where){NEXT_DOWN, child, stop};
            }
        }
        walk->frame = before;
        if (walk->watched)
            watch(walk, IND_STOP_FIELD, child, at);
    }
    return back;
}

/* The end of the text, or nothing literal that goes on: what else there is behind a node. */
static IND_COLD struct where go_otherwise(struct walk *walk, uint32_t number, const char *at)
{
    const struct ind_pattern_node *node = &walk->set->nodes[number];
    if (at == walk->end && node->leaf && is_taken(walk, node))
        return found;
    if (walk->watched) {
        if (node->leaf)
            watch(walk, at == walk->end ? IND_STOP_APP : IND_STOP_END, number, at);
        watch_literals(walk, number, at);
    }
    return try_fields(walk, number, at, 0);
}

/* The usual, as far as it goes: literal text that goes on, or a field that is the only one here and has one
 * end. */
static IND_INLINE struct where go_down(struct walk *walk, uint32_t number, const char *at)
{
    const struct ind_patterns *set = walk->set;
    const char *const end = walk->end, *const start = walk->text.at, *const before = at;
    struct ind_pattern_capture *const captures = walk->matcher->captures;
    while (at < end) {
        const struct ind_pattern_node *node = &set->nodes[number];
        uint32_t child = ind_tree_child(set, number, *at);
        const char *next = child ? fit_literal(set, &set->nodes[child], at, end) : NULL;
        if (next) {
            if (node->field_count)
                push(walk,
                     (struct ind_pattern_frame){IND_FRAME_FIELDS, number, (uint32_t)(at - start), 0, 0, 0});
        } else if (node->flags & IND_PATTERN_NODE_SIMPLE) {
            child = node->fan ? set->links[node->fields] : number + 1;
            const struct ind_pattern_node *field = &set->nodes[child];
            next = ind_type_scans[field->type](at, end);
            if (!next && !walk->watched)
                return back;
            if (!next)
                break;
            captures[field->slot] =
                (struct ind_pattern_capture){(uint32_t)(at - start), (uint32_t)(next - start)};
        } else {
            break;
        }
        at = next;
        number = child;
    }
    walk->matcher->steps += (size_t)(at - before);
    if (at == end && set->nodes[number].flags & IND_PATTERN_NODE_ENDS) {
        walk->leaf = set->nodes[number].leaf;
        return found;
    }
    return go_otherwise(walk, number, at);
}

static IND_COLD struct where come_back(struct walk *walk)
{
    const struct ind_pattern_frame *frame = walk->frame - 1;
    if (frame < walk->matcher->frames) {
        walk->leaf = 0;
        return found;
    }
    if (frame->kind == IND_FRAME_LAZY)
        return go_on_lazily(walk);
    walk->frame--;
    if (frame->kind == IND_FRAME_FIELDS)
        return try_fields(walk, frame->node, walk->text.at + frame->at, frame->next);
    ind_failure_add(walk->matcher, frame->node, frame->at, 0);
    return back;
}

static uint32_t walk_text(struct ind_matcher *matcher, struct ind_slice text, struct ind_slice app,
                          bool any_app, bool watched)
{
    struct walk walk = {matcher, matcher->set,    text, text.at + text.length, app, any_app,
                        watched, matcher->frames, 0};
    const size_t most = IND_MATCH_STEPS(text.length);
    matcher->steps = 0;
    matcher->text = text.at;
    matcher->run = NULL;
    ind_failures_forget(matcher);
    struct where where = {NEXT_DOWN, 0, text.at};
    while (where.next != NEXT_FOUND) {
        if (where.next == NEXT_DOWN)
            where = go_down(&walk, where.node, where.at);
        else
            where = come_back(&walk);
        if (++matcher->steps > most) {
            matcher->gave_up++;
            return 0;
        }
    }
    return walk.leaf;
}

uint32_t ind_match_walk(struct ind_matcher *matcher, struct ind_slice text, struct ind_slice app,
                        bool any_app)
{
    return walk_text(matcher, text, app, any_app, false);
}

uint32_t ind_match_watched(struct ind_matcher *matcher, struct ind_slice text, struct ind_slice app,
                           bool any_app)
{
    return walk_text(matcher, text, app, any_app, true);
}

const struct ind_pattern_syntax *ind_match(struct ind_matcher *matcher, struct ind_slice text,
                                           struct ind_slice app, bool any_app)
{
    text = ind_type_trim(text);
    if (text.length == 0 || matcher->set->layout_count == 0)
        return NULL;
    uint32_t leaf = ind_match_walk(matcher, text, app, any_app);
    return leaf ? &matcher->set->layouts[matcher->set->end_layouts[leaf - 1]] : NULL;
}

void ind_match_fields(const struct ind_matcher *matcher, const struct ind_pattern_syntax *layout,
                      struct ind_slice *values)
{
    const char *text = matcher->text;
    for (uint32_t i = 0; i < layout->field_count; i++) { /* slots are counted along the layout */
        struct ind_pattern_capture capture = matcher->captures[i];
        values[i] = (struct ind_slice){text + capture.from, capture.to - capture.from};
    }
    for (uint32_t i = 0; layout->quoted && i < layout->field_count; i++)
        if (layout->fields[i].type == IND_TYPE_QUOTED)
            values[i] = ind_match_field(matcher, &layout->fields[i]);
}

struct ind_slice ind_match_field(const struct ind_matcher *matcher, const struct ind_pattern_field *field)
{
    struct ind_pattern_capture capture = matcher->captures[field->slot];
    struct ind_slice taken = {matcher->text + capture.from, capture.to - capture.from};
    if (field->type == IND_TYPE_QUOTED)
        taken = (struct ind_slice){taken.at + 1, taken.length - 2};
    return taken;
}

uint64_t ind_matcher_gave_up(const struct ind_matcher *matcher)
{
    return matcher->gave_up;
}

size_t ind_matcher_steps(const struct ind_matcher *matcher)
{
    return matcher->steps;
}
