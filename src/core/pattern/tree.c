/* From the twigs to the tree that is walked: nodes in the order of a walk, each child that has no brothers
 * right behind its parent, literal bytes in the same order, so that a text is met with what lies side by
 * side. */
#include "core/pattern/pattern_private.h"
#define PCRE2_CODE_UNIT_WIDTH 8
#include <pcre2.h>
#include <stdlib.h>

struct making {
    struct ind_patterns *set;
    uint32_t *order; /* scratch: children of the twigs on the way down */
    size_t order_count;
};

/* Sizes are known before: a node a twig, and no more of anything else. */
static bool make_room(struct ind_patterns *set)
{
    size_t bytes = 1, codes = 0;
    for (size_t i = 0; i < set->twig_count; i++) {
        bytes += set->twigs[i].type == IND_TYPES ? set->twigs[i].text.length : 0;
        codes += set->twigs[i].type == IND_TYPE_RE;
    }
    size_t wide = set->twig_count / IND_PATTERN_FAN_SMALL + 1;
    set->nodes =
        aligned_alloc(64, (set->twig_count * sizeof *set->nodes + 63) / 64 * 64); /* two a cache line */
    set->subtree_ends = calloc(set->twig_count, sizeof *set->subtree_ends);
    set->bytes = calloc(bytes, 1);
    set->links = calloc(set->twig_count, sizeof *set->links);
    set->small_fans = calloc(set->twig_count / 2 + 1, sizeof *set->small_fans);
    set->wide_fans = calloc(wide, sizeof *set->wide_fans);
    set->ends = calloc(set->leaf_count + 1, sizeof *set->ends);
    set->end_layouts = calloc(set->leaf_count + 1, sizeof *set->end_layouts);
    set->codes = calloc(codes + 1, sizeof *set->codes);
    return set->nodes && set->subtree_ends && set->bytes && set->links && set->small_fans && set->wide_fans &&
           set->ends && set->end_layouts && set->codes;
}

static int compare_texts(struct ind_slice a, struct ind_slice b)
{
    size_t length = a.length < b.length ? a.length : b.length;
    int order = length ? memcmp(a.at, b.at, length) : 0;
    return order ? order : (a.length > b.length) - (a.length < b.length);
}

/* Literals first, by their bytes; then fields, narrow before wide, expressions by their bytes. */
static bool is_before(const struct ind_pattern_twig *a, const struct ind_pattern_twig *b)
{
    unsigned x = a->type == IND_TYPES ? 0 : (unsigned)a->type + 1,
             y = b->type == IND_TYPES ? 0 : (unsigned)b->type + 1;
    return x != y ? x < y : compare_texts(a->text, b->text) < 0;
}

/* The children in order, on the scratch; brothers are few but at the root, where they come nearly sorted. */
static size_t sort_children(struct making *making, uint32_t twig, uint32_t **children)
{
    const struct ind_pattern_twig *twigs = making->set->twigs;
    uint32_t *list = making->order + making->order_count;
    size_t count = 0;
    for (uint32_t child = twigs[twig].first; child; child = twigs[child].next) {
        size_t place = count++;
        for (; place > 0 && is_before(&twigs[child], &twigs[list[place - 1]]); place--)
            list[place] = list[place - 1];
        list[place] = child;
    }
    *children = list;
    making->order_count += count;
    return count;
}

static bool fill_node(struct ind_patterns *set, const struct ind_pattern_twig *twig,
                      struct ind_pattern_node *node)
{
    node->type = (uint8_t)twig->type;
    if (twig->type == IND_TYPES) {
        node->literal = (uint32_t)set->byte_count;
        node->length = (uint16_t)twig->text.length;
        if (twig->text.length) {
            memcpy(set->bytes + set->byte_count, twig->text.at, twig->text.length);
            memcpy(node->head, twig->text.at, twig->text.length < 8 ? twig->text.length : 8);
            bool blank = memchr(twig->text.at, ' ', twig->text.length) != NULL;
            bool last = twig->text.at[twig->text.length - 1] == ' ';
            node->flags =
                (uint8_t)((blank ? IND_PATTERN_NODE_BLANKS : 0) | (last ? IND_PATTERN_NODE_ENDS_BLANK : 0));
        }
        set->byte_count += twig->text.length;
    } else if (twig->type == IND_TYPE_RE) {
        struct ind_regex_error error;
        struct ind_regex *code = ind_regex_new(twig->text, PCRE2_ANCHORED, &error);
        if (!code)
            return false;
        node->literal = (uint32_t)set->code_count;
        set->codes[set->code_count++] = code;
    }
    for (uint32_t leaf = twig->leaf; leaf; leaf = set->leaves[leaf - 1].next) {
        set->ends[set->end_count] = set->leaves[leaf - 1];
        set->end_layouts[set->end_count] = set->leaves[leaf - 1].layout;
        set->ends[set->end_count].next = set->leaves[leaf - 1].next != 0;
        if (!node->leaf)
            node->leaf = (uint32_t)set->end_count + 1;
        set->end_count++;
    }
    if (node->leaf && set->ends[node->leaf - 1].app.length == 0)
        node->flags |= IND_PATTERN_NODE_ENDS;
    return true;
}

/* What ends a word or a text. A word that ends at a space and a text that nothing follows have one end. */
static void find_ends(struct ind_pattern_node *node, const struct ind_pattern_twig *twigs,
                      const uint32_t *children, size_t literals)
{
    bool several = false;
    for (size_t i = 0; i < literals; i++)
        several |= node->type == IND_TYPE_TEXT || twigs[children[i]].text.at[0] != ' ';
    if (!several || (node->type != IND_TYPE_WORD && node->type != IND_TYPE_TEXT))
        return;
    node->flags |= IND_PATTERN_NODE_LAZY;
    if (literals == 1) {
        node->flags |= IND_PATTERN_NODE_ONE_BYTE;
        node->next = twigs[children[0]].text.at[0];
    }
}

static void add_fan(struct ind_patterns *set, struct ind_pattern_node *node, const uint32_t *numbers,
                    size_t count)
{
    node->fan = (uint8_t)(count <= IND_PATTERN_FAN_SMALL ? count : IND_PATTERN_FAN_WIDE);
    if (count <= 1)
        return;
    node->branches = (uint32_t)(count <= IND_PATTERN_FAN_SMALL ? set->small_count++ : set->wide_count++);
    for (size_t i = 0; i < count; i++) {
        unsigned char byte = (unsigned char)set->nodes[numbers[i]].head[0];
        if (count > IND_PATTERN_FAN_SMALL) {
            set->wide_fans[node->branches].nodes[byte] = numbers[i];
        } else {
            set->small_fans[node->branches].bytes[i] = byte;
            set->small_fans[node->branches].nodes[i] = numbers[i];
        }
    }
}

/* How a twig is met on the way down. */
struct way {
    unsigned slot;  /* fields above it */
    size_t returns; /* places above it to come back to */
    bool lazy;      /* a word or text is above it */
};

static bool make_node(struct making *making, uint32_t twig, struct way way, uint32_t *number);

static bool is_simple(const struct ind_pattern_node *field)
{
    return (field->flags & (IND_PATTERN_NODE_LAZY | IND_PATTERN_NODE_MEMO)) == 0 &&
           (field->type < IND_TYPE_QUOTED || field->type == IND_TYPE_WORD || field->type == IND_TYPE_TEXT);
}

/* As deep as layouts have pieces and parts, which their length bounds. */
static bool make_children(struct making *making, uint32_t number, uint32_t *children, size_t count,
                          struct way way)
{
    struct ind_patterns *set = making->set;
    size_t literals = 0;
    while (literals < count && set->twigs[children[literals]].type == IND_TYPES)
        literals++;
    struct ind_pattern_node *node = &set->nodes[number];
    find_ends(node, set->twigs, children, literals);
    node->field_count = (uint16_t)(count - literals);
    node->fields = (uint32_t)set->link_count;
    set->link_count += node->field_count;
    way.returns += node->field_count > 0;
    if (node->flags & (IND_PATTERN_NODE_LAZY | IND_PATTERN_NODE_MEMO))
        way.returns++;
    way.lazy |= (node->flags & IND_PATTERN_NODE_LAZY) != 0;
    if (way.returns > set->deepest)
        set->deepest = way.returns;
    for (size_t i = 0; i < count; i++) {
        uint32_t child;
        if (!make_node(making, children[i], way, &child))
            return false;
        children[i] = child; /* the twig is done with */
    }
    add_fan(set, node, children, literals);
    if (count > literals)
        memcpy(set->links + node->fields, children + literals, (count - literals) * sizeof *children);
    if (count - literals == 1 && is_simple(&set->nodes[children[literals]]))
        node->flags |= IND_PATTERN_NODE_SIMPLE;
    return true;
}

static bool make_node(struct making *making, uint32_t twig, struct way way, uint32_t *number)
{
    struct ind_patterns *set = making->set;
    uint32_t *children;
    *number = (uint32_t)set->node_count++;
    struct ind_pattern_node *node = &set->nodes[*number];
    *node = (struct ind_pattern_node){0};
    if (!fill_node(set, &set->twigs[twig], node))
        return false;
    if (node->type != IND_TYPES) {
        node->slot = (uint8_t)way.slot++;
        node->flags |= way.lazy && node->type != IND_TYPE_REMAINDER ? IND_PATTERN_NODE_MEMO : 0;
    }
    size_t before = making->order_count, count = sort_children(making, twig, &children);
    bool good = make_children(making, *number, children, count, way);
    making->order_count = before;
    set->subtree_ends[*number] = (uint32_t)set->node_count;
    return good;
}

bool ind_patterns_compile(struct ind_patterns *set)
{
    struct making making = {.set = set, .order = malloc(set->twig_count * sizeof *making.order)};
    uint32_t root;
    bool good = making.order && make_room(set) &&
                make_node(&making, 0, (struct way){.slot = 0, .returns = 1, .lazy = false}, &root);
    free(making.order);
    return good;
}

bool ind_tree_next_literal(const struct ind_patterns *set, uint32_t number, unsigned *state, uint32_t *child)
{
    const struct ind_pattern_node *node = &set->nodes[number];
    if (node->fan == 1 && *state == 0) {
        *state = 1;
        *child = number + 1;
        return true;
    }
    if (node->fan > 1 && node->fan != IND_PATTERN_FAN_WIDE && *state < node->fan) {
        *child = set->small_fans[node->branches].nodes[(*state)++];
        return true;
    }
    while (node->fan == IND_PATTERN_FAN_WIDE && *state < 256)
        if ((*child = set->wide_fans[node->branches].nodes[(*state)++]) != 0)
            return true;
    return false;
}
