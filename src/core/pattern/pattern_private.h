/* core/pattern/pattern_private.h: the inside of a set of patterns, shared by those that fill, walk and
 * compare it. */
#ifndef IND_CORE_PATTERN_PATTERN_PRIVATE_H
#define IND_CORE_PATTERN_PATTERN_PRIVATE_H

#include "core/base/scan.h"
#include "core/find/regex.h"
#include "core/pattern/pattern.h"

/* ---- As it is filled ---- */

struct ind_pattern_twig {
    struct ind_slice text; /* a literal, or the expression of re(…) */
    enum ind_type type;    /* IND_TYPES: a literal */
    uint32_t first, next;  /* first child; next child of the one above; 0: none */
    uint32_t leaf;         /* place of the first, counted from 1; 0: no layout ends here */
};

/* A layout that ends at a twig, for one app (empty: any). Those with an app come first. */
struct ind_pattern_leaf {
    struct ind_slice app;
    uint32_t layout;
    uint32_t next; /* counted from 1 */
};

struct ind_pattern_entry {
    char *name;
    struct ind_slice *apps;
    size_t app_count;
};

/* ---- As it is walked: nodes in the order of a walk, so that what follows lies behind ---- */

enum {
    IND_PATTERN_NODE_MEMO = 1,       /* may be reached again at one place: failures are kept */
    IND_PATTERN_NODE_BLANKS = 2,     /* the literal has a space in it */
    IND_PATTERN_NODE_ENDS_BLANK = 4, /* … at its end */
    IND_PATTERN_NODE_LAZY = 8,       /* a word or text that may end in several places */
    IND_PATTERN_NODE_ENDS = 64,      /* one layout ends here, for every app */
    IND_PATTERN_NODE_SIMPLE = 32,    /* one field is below it, and has one end, whatever it is */
    IND_PATTERN_NODE_ONE_BYTE = 16   /* a word or text behind which one byte only may come */
};

struct ind_pattern_node {
    uint8_t type; /* enum ind_type; IND_TYPES: a literal */
    uint8_t flags;
    uint8_t slot;         /* of a field */
    uint8_t fan;          /* literal children: 0, 1, up to IND_PATTERN_FAN_SMALL, or IND_PATTERN_FAN_WIDE */
    uint16_t length;      /* of the literal */
    char next;            /* of a field with IND_PATTERN_NODE_ONE_BYTE: what may follow it */
    uint32_t literal;     /* place of its bytes; of re(…) of its code */
    uint32_t field_count; /* children that are fields */
    uint32_t branches;    /* place of the fan, where `fan` is not 0 or 1 */
    uint32_t fields;      /* place in `links` of the first */
    uint32_t leaf;        /* place in `ends`, counted from 1 */
    char head[8];         /* of the literal, 0 behind it: most are no longer, and need no look elsewhere */
};

_Static_assert(IND_TYPES < UINT8_MAX, "a type is one byte, and so is that of a literal");
_Static_assert(IND_SYNTAX_FIELDS <= UINT8_MAX, "the slot of a field is one byte");
_Static_assert(IND_SYNTAX_BYTES <= UINT16_MAX, "the length of a literal is two bytes");

enum { IND_PATTERN_FAN_SMALL = 8, IND_PATTERN_FAN_WIDE = 255 };

struct ind_pattern_small_fan {
    unsigned char bytes[IND_PATTERN_FAN_SMALL];
    uint32_t nodes[IND_PATTERN_FAN_SMALL + 1]; /* the last is 0: none */
};

struct ind_pattern_wide_fan {
    uint32_t nodes[256]; /* 0: none */
};

struct ind_patterns {
    struct ind_pattern_entry *patterns;
    size_t pattern_count, pattern_room;
    struct ind_pattern_syntax *layouts;
    size_t layout_count, layout_room;
    struct ind_pattern_twig *twigs; /* the first is the root */
    size_t twig_count, twig_room;
    struct ind_pattern_leaf *leaves;
    size_t leaf_count, leaf_room;
    char **kept;
    size_t kept_count, kept_room;
    /* compiled */
    struct ind_pattern_node *nodes; /* the first is the root */
    uint32_t *subtree_ends;         /* of each node: number behind the last node below it */
    size_t node_count;
    char *bytes;
    size_t byte_count;
    uint32_t *links;
    size_t link_count;
    struct ind_pattern_small_fan *small_fans;
    size_t small_count;
    struct ind_pattern_wide_fan *wide_fans;
    size_t wide_count;
    struct ind_pattern_leaf *ends; /* leaves in the order of the nodes; `next` is 1 where another follows */
    uint32_t *end_layouts;         /* of each: the layout; apart, as it is all that most matches need */
    size_t end_count;
    struct ind_regex **codes; /* of core/find/regex.h */
    size_t code_count;
    size_t deepest; /* places to come back to on one way down */
};

/* No byte of a literal is 0, but for those of somebody who wants to know what happens then: unused places say
 * 0 and lead to no node. */
static inline uint32_t ind_small_fan_find(const struct ind_pattern_small_fan *fan, unsigned char byte)
{
#ifdef IND_SSE2
    __m128i bytes = _mm_loadl_epi64((const __m128i *)(const void *)fan->bytes);
    unsigned hits = (unsigned)_mm_movemask_epi8(_mm_cmpeq_epi8(bytes, _mm_set1_epi8((char)byte)));
    return fan->nodes[__builtin_ctz(hits | 1u << IND_PATTERN_FAN_SMALL)];
#else
    unsigned i = 0;
    while (i < IND_PATTERN_FAN_SMALL && fan->bytes[i] != byte)
        i++;
    return fan->nodes[i];
#endif
}

/* The literal child for a byte of the text; 0 where there is none. One alone is right behind its parent, and
 * is not looked at. */
static inline uint32_t ind_tree_child(const struct ind_patterns *set, uint32_t number, char c)
{
    const struct ind_pattern_node *node = &set->nodes[number];
    if (node->fan <= 1)
        return node->fan ? number + 1 : 0;
    unsigned char byte = ind_type_byte(c, IND_TYPE_BLANK) ? ' ' : (unsigned char)c;
    if (node->fan == IND_PATTERN_FAN_WIDE)
        return set->wide_fans[node->branches].nodes[byte];
    return ind_small_fan_find(&set->small_fans[node->branches], byte);
}

static inline struct ind_slice ind_node_literal(const struct ind_patterns *set,
                                                const struct ind_pattern_node *node)
{
    return (struct ind_slice){set->bytes + node->literal, node->length};
}

/* All literal children, one after the other; *state begins as 0. */
bool ind_tree_next_literal(const struct ind_patterns *set, uint32_t number, unsigned *state, uint32_t *child);

/* ---- One who walks ---- */

struct ind_pattern_capture {
    uint32_t from, to;
};

/* A place to come back to. */
struct ind_pattern_frame {
    enum { IND_FRAME_FIELDS, IND_FRAME_LAZY, IND_FRAME_MARK } kind;
    uint32_t node;
    uint32_t at;    /* in the text; IND_FRAME_LAZY: where the field begins; IND_FRAME_MARK: where it ended */
    uint32_t next;  /* IND_FRAME_FIELDS: the field to try; IND_FRAME_LAZY: the end to try */
    uint32_t limit; /* IND_FRAME_LAZY: the last end to try */
    uint32_t stop;  /* IND_FRAME_LAZY: where the word or the text ends at the latest */
};

/* The continuation of a node failed at a place. Of a word or text, which ends at `place` at the latest, it
 * failed for all beginnings from `from` on. */
struct ind_pattern_failure {
    uint32_t node, place, from, round;
};

struct ind_matcher {
    const struct ind_patterns *set;
    struct ind_pattern_frame *frames;
    struct ind_pattern_capture captures[IND_SYNTAX_FIELDS];
    struct ind_pattern_failure *failures;
    size_t failure_room, failure_count;
    uint32_t round;
    struct ind_regex_room regex;
    const char *text;          /* of the last match, without the spaces before it */
    const char *run, *run_end; /* of it, a run without white space that was looked through */
    size_t steps;
    uint64_t gave_up;
    struct ind_pattern_watch *watch; /* called where it fails; or NULL */
};

/* failure.c: the table of failures. Where memory is out, or the table as large as it may be, less is
 * remembered. */
bool ind_failures_begin(struct ind_matcher *matcher);
void ind_failures_forget(struct ind_matcher *matcher); /* before each text */
/* The failure of a node at a place, if its round is the matcher's; else where it would stand. */
struct ind_pattern_failure *ind_failure_find(struct ind_matcher *matcher, uint32_t node, uint32_t place);
void ind_failure_add(struct ind_matcher *matcher, uint32_t node, uint32_t place, uint32_t from);

/* A walk: the place in `ends` of what took the text, counted from 1; 0 where nothing did. The text has no
 * white space around it. */
uint32_t ind_match_walk(struct ind_matcher *matcher, struct ind_slice text, struct ind_slice app,
                        bool any_app);
uint32_t ind_match_watched(struct ind_matcher *matcher, struct ind_slice text, struct ind_slice app,
                           bool any_app);

/* How far the bytes at `at` go with a literal, whose space is any run of them; *length: of it. */
const char *ind_literal_go(struct ind_slice literal, const char *at, const char *end, size_t *length);

#endif
