/* core/pattern/pattern.h: patterns, how texts are laid out, many of them matched in one walk
 * (docs/pattern-language.md).
 *
 * All layouts are merged into one prefix tree: what several begin with alike is walked once, whatever their
 * number. A set is filled and compiled by one thread, then only read, and may be shared; a matcher belongs to
 * one thread.
 *
 * Of several layouts that fit one text the one is taken that comes first where they part: literal text before
 * fields, narrow types before wide ones, of one type the shorter field, and the end of the layout before a
 * remainder. It does not depend on the order of writing. */
#ifndef IND_CORE_PATTERN_PATTERN_H
#define IND_CORE_PATTERN_PATTERN_H

#include "core/pattern/syntax.h"
#include <stdint.h>

struct ind_patterns;

/* New and empty; NULL where memory is out. */
struct ind_patterns *ind_patterns_new(void);
void ind_patterns_free(struct ind_patterns *set);

/* Adds a pattern; `name` and `apps` are copied. It takes messages of these apps only; of all where there are
 * none. Its number in *pattern; false where memory is out. */
bool ind_patterns_add(struct ind_patterns *set, struct ind_slice name, const struct ind_slice *apps,
                      size_t app_count, uint32_t *pattern);

/* Adds a layout (copied) to the pattern. False with *mistake made where it is none, or where a layout of the
 * set fits just the same texts; where only memory is out, *mistake is unmade. */
bool ind_patterns_add_syntax(struct ind_patterns *set, uint32_t pattern, struct ind_slice layout,
                             struct ind_mistake *mistake);

/* Makes the tree that matchers walk. To be called when all layouts are added; false where memory is out. */
bool ind_patterns_compile(struct ind_patterns *set);

struct ind_pattern_field {
    struct ind_slice name; /* empty: it is not kept */
    enum ind_type type;
    uint32_t slot; /* of ind_match_field */
};

struct ind_pattern_syntax {
    uint32_t pattern;
    struct ind_slice source; /* as written */
    const struct ind_pattern_field *fields;
    uint32_t field_count;
    bool quoted; /* some field is in quotes */
};

size_t ind_patterns_count(const struct ind_patterns *set);
struct ind_slice ind_pattern_name(const struct ind_patterns *set, uint32_t pattern);
/* The number of the pattern of that name; false where there is none. */
bool ind_pattern_named(const struct ind_patterns *set, struct ind_slice name, uint32_t *pattern);
/* The name that was probably meant by one of none; NULL. */
const char *ind_pattern_near(const struct ind_patterns *set, struct ind_slice name);
size_t ind_pattern_app_count(const struct ind_patterns *set, uint32_t pattern);
struct ind_slice ind_pattern_app(const struct ind_patterns *set, uint32_t pattern, size_t i);

size_t ind_patterns_syntax_count(const struct ind_patterns *set);
/* Layouts are numbered in the order in which they were added. */
const struct ind_pattern_syntax *ind_patterns_syntax(const struct ind_patterns *set, size_t layout);
/* Whether some layout gives a field of that name; where not, *near is the one that was probably meant, or
 * NULL. */
bool ind_patterns_give(const struct ind_patterns *set, struct ind_slice name, const char **near);

/* ---- Matching ---- */

struct ind_matcher;

/* New, for a compiled set (borrowed). NULL where memory is out. */
struct ind_matcher *ind_matcher_new(const struct ind_patterns *set);
void ind_matcher_free(struct ind_matcher *matcher);
/* Before each message: what its expressions may cost is counted from now on. */
void ind_matcher_next(struct ind_matcher *matcher);

/* The layout that takes the whole text, but for white space around it; NULL where none does. `any_app`: the
 * app is not known, every pattern may take it. Steps are bounded by the nodes of the tree times the places of
 * the text, and by IND_MATCH_STEPS; where that is not enough it does not fit, and ind_matcher_gave_up counts.
 */
const struct ind_pattern_syntax *ind_match(struct ind_matcher *matcher, struct ind_slice text,
                                           struct ind_slice app, bool any_app);

/* What all fields of the layout just found took, in their order, into `values` with room for
 * IND_SYNTAX_FIELDS; borrowed from the text. Of quoted text it is what is in the quotes. */
void ind_match_fields(const struct ind_matcher *matcher, const struct ind_pattern_syntax *layout,
                      struct ind_slice *values);
/* One of them. */
struct ind_slice ind_match_field(const struct ind_matcher *matcher, const struct ind_pattern_field *field);

#define IND_MATCH_STEPS(length) (16384 + 64 * (length))

/* How often so far a match, or a regular expression in one, took too long and was given up. */
uint64_t ind_matcher_gave_up(const struct ind_matcher *matcher);

/* Steps of the last match: nodes entered, places tried, bytes that fields looked at. */
size_t ind_matcher_steps(const struct ind_matcher *matcher);

/* ---- Where a text stops fitting ---- */

enum ind_stop_kind {
    IND_STOP_LITERAL, /* the literal text goes on otherwise */
    IND_STOP_FIELD,   /* the field does not fit here */
    IND_STOP_BEHIND,  /* the literal text is nowhere behind this */
    IND_STOP_END,     /* the layout ends here, the text goes on */
    IND_STOP_APP      /* all fits but the app */
};

struct ind_stop {
    enum ind_stop_kind kind;
    bool before; /* `would_fit` is said of the field before, which ended in the middle of `found` */
    size_t at;   /* byte of the text up to which it fits */
    const struct ind_pattern_syntax *layout; /* one that stops here */
    size_t others;                           /* how many more do */
    struct ind_slice found;                  /* what stands there, up to the next space; borrowed */
    size_t found_at;                         /* where it begins */
    const struct ind_pattern_field *field;   /* that does not fit, or the one before; or NULL */
    struct ind_slice took;                   /* what the one before took */
    const char *would_fit;                   /* the narrowest type that would take it; or NULL */
    char expected[96];                       /* terminated: "{port:int}, a whole number" */
};

enum { IND_STOPS = 5 };

/* Why nothing took the text just matched: where the layouts that got furthest stop. Returns their number. */
size_t ind_match_stops(struct ind_matcher *matcher, struct ind_slice text, struct ind_slice app, bool any_app,
                       struct ind_stop stops[IND_STOPS]);

/* "expected {port:int}, a whole number, found "4022x"; word would fit": for people, on one line. */
void ind_stop_describe(const struct ind_stop *stop, struct ind_buffer *out);

/* ---- Overlaps ---- */

enum ind_overlap_kind {
    IND_OVERLAP,         /* both fit `text` */
    IND_OVERLAP_UNKNOWN, /* it could not be found out */
};

struct ind_overlap {
    enum ind_overlap_kind kind;
    uint32_t a, b;  /* layouts; `a` is the one that takes the text */
    char text[240]; /* terminated */
};

/* Goes through all pairs of layouts of different patterns that one message could fit both, with `examples`
 * (one for each layout, may be empty) tried first, and calls `report` for those that overlap or could not be
 * compared. Returns how many pairs were left out because there are too many; SIZE_MAX where memory is out. */
size_t ind_patterns_overlaps(const struct ind_patterns *set, const struct ind_slice *examples,
                             void (*report)(void *context, const struct ind_overlap *overlap), void *context);

#endif
