/* core/condition/condition_private.h: the inside of a set of conditions, shared by those that read, ask and
 * explain it. */
#ifndef IND_CORE_CONDITION_CONDITION_PRIVATE_H
#define IND_CORE_CONDITION_CONDITION_PRIVATE_H

#include "core/base/address.h"
#include "core/condition/condition.h"
#include "core/condition/cover.h"
#include "core/find/find.h"

/* Bits: which fields take an operator is a mask of them. "in" is "is" with several values, "is absent" is
 * "not … is present". */
enum ind_test_op {
    IND_OP_IS = 1,
    IND_OP_CONTAINS = 2,
    IND_OP_MENTIONS = 4,
    IND_OP_STARTS = 8,
    IND_OP_ENDS = 16,
    IND_OP_MATCHES = 32,
    IND_OP_WITHIN = 64,  /* a network */
    IND_OP_DURING = 128, /* written "within" too: a span of the day */
    IND_OP_AT_LEAST = 256,
    IND_OP_AT_MOST = 512,
    IND_OP_PRESENT = 1024
};

enum ind_field_kind {
    IND_KIND_FACILITY,
    IND_KIND_SEVERITY,
    IND_KIND_NAME, /* of hosts: case and domain do not matter */
    IND_KIND_TEXT,
    IND_KIND_NUMBER,
    IND_KIND_TIME,
    IND_KIND_DAY
};

struct ind_field_row {
    const char *name;
    const char *operators; /* as a mistake lists them */
    unsigned ops;          /* of enum ind_test_op */
    uint8_t kind;          /* enum ind_field_kind */
    bool several;          /* a message may have it more than once */
};
extern const struct ind_field_row ind_field_rows[IND_FIELDS];

/* Minutes of the day; `to` may be before `from`: over midnight. */
struct ind_day_span {
    uint16_t from, to;
};

_Static_assert(IND_FIELDS <= 32, "a set of fields is 32 bits");
_Static_assert(IND_OP_PRESENT <= UINT16_MAX, "a set of operators is 16 bits");

/* One question about one field. */
struct ind_test {
    uint8_t field;
    bool nocase;
    uint16_t op;
    uint32_t numbers;          /* facility, severity, day: a bit for each value that fits */
    double limit;              /* IND_OP_AT_LEAST, IND_OP_AT_MOST */
    struct ind_slice id, name; /* of a label, a field, an element of the structured data and its parameter */
    size_t count;              /* of values: texts, networks or spans, by the operator */
    struct ind_slice *texts;
    struct ind_finder *finders; /* IND_OP_CONTAINS, IND_OP_MENTIONS */
    struct ind_network *networks;
    struct ind_day_span *spans;
    struct ind_regex *regex; /* IND_OP_MATCHES: compiled from the one text */
    struct ind_slice needs;  /* a text that stands in all that it matches; or nothing */
    uint32_t hash;
};

enum ind_condition_node_kind {
    IND_CONDITION_NODE_ALWAYS,
    IND_CONDITION_NODE_TEST,
    IND_CONDITION_NODE_NOT,
    IND_CONDITION_NODE_ALL,
    IND_CONDITION_NODE_ANY,
    IND_CONDITION_NODE_NAME
};

/* IND_CONDITION_NODE_ALL and IND_CONDITION_NODE_ANY have any number of parts, IND_CONDITION_NODE_NOT and
 * IND_CONDITION_NODE_NAME one. */
struct ind_condition_node {
    uint8_t kind;
    uint32_t test; /* IND_CONDITION_NODE_TEST: which; IND_CONDITION_NODE_NAME: its number among the names that
                      are used */
    uint32_t first, next; /* first part; next part of the node above; 0: none */
    uint32_t source;      /* its text */
    uint32_t at, length;  /* where it stands in it */
};

/* What is known of a node without a message, worked out once from its parts: named conditions may be used by
 * many others, and are not to be gone through again for each. */
struct ind_condition_facts {
    uint64_t yes[IND_PRI_WORDS], no[IND_PRI_WORDS]; /* a bit for each PRI that decides it alone */
    unsigned fields;                                /* 1 << enum ind_field */
    uint32_t name;                                  /* its number + 1, where it is used by name */
};

struct ind_conditions {
    struct ind_condition_node *nodes;
    struct ind_condition_facts *facts; /* of each node */
    size_t node_count, node_room;
    struct ind_test *tests;
    size_t test_count, test_room;
    uint32_t *test_slots; /* by hash: index + 1 */
    size_t test_slot_count, name_count;
    struct ind_index *indexes; /* index.c */
    size_t index_count;
    uint32_t *index_of; /* each test's: index + 1; 0: it is asked by itself */
    size_t indexed;     /* tests for which index_of holds */
    struct ind_slice domain;
    const struct ind_zone *zone;
    const struct ind_patterns *patterns; /* or NULL */
    char **kept;                         /* texts owned */
    size_t kept_count, kept_room;
    unsigned fields; /* 1 << enum ind_field for each that some test asks for */
    bool regexes;    /* some test has one */
    bool out_of_memory;
};

uint32_t ind_node_add(struct ind_conditions *set, enum ind_condition_node_kind kind, uint32_t source,
                      size_t at, size_t length);
void ind_test_free(struct ind_test *test);
/* Takes the test's arrays; returns the place of it or of its equal. */
uint32_t ind_test_add(struct ind_conditions *set, struct ind_test *test);
/* A terminated copy that lives as long as the set: kept[kept_count - 1]. */
struct ind_slice ind_set_keep(struct ind_conditions *set, const char *at, size_t length);

/* warning.c: a text that a pattern would be surer of. */
void ind_warn_of_text(const struct ind_conditions *set, const struct ind_condition_node *node,
                      const struct ind_test *test, const struct ind_surroundings *around,
                      struct ind_mistake *mistake);

/* facts.c: for a condition that has just been read. */
void ind_facts_settle(struct ind_conditions *set, uint32_t node);

/* index.c: many tests of one field answered at once. */
struct ind_index;
void ind_indexes_free(struct ind_conditions *set);
/* How often its tests are met, roughly, for whoever may choose: small is seldom. */
unsigned ind_index_weight(const struct ind_conditions *set, uint32_t test);

/* Whether the literal at `at` in `whole` is a word: no letter or digit goes on where it ends. */
bool ind_is_whole_word(struct ind_slice whole, const char *at, size_t length);

/* Whether a value fits a test of texts, networks or numbers. `answers` is for regular expressions only. */
bool ind_value_fits(const struct ind_conditions *set, const struct ind_test *test, struct ind_slice value,
                    struct ind_answers *answers);
/* Whether a minute of the day is in one of the test's spans. */
bool ind_in_spans(const struct ind_test *test, unsigned minute);

/* ask.c: one test put to one message. */
bool ind_test_ask(const struct ind_conditions *set, const struct ind_test *test,
                  const struct ind_message *message, struct ind_answers *answers);

/* Fields that a message has once, as they are: where in it; 0: all others. */
extern const size_t ind_place_of_field[IND_FIELDS];

/* The value of such a field; NULL for all others. */
static inline const struct ind_slice *ind_field_in_place(const struct ind_message *message, unsigned field)
{
    const void *at = (const char *)message + ind_place_of_field[field];
    return ind_place_of_field[field] ? at : NULL;
}

/* The next value as text of a field that has one; *state begins as 0. False where there is none (left). */
bool ind_test_value(const struct ind_test *test, const struct ind_message *message,
                    struct ind_answers *answers, size_t *state, struct ind_slice *value);

/* monday to sunday, as ind_civil counts them. */
extern const char *const ind_day_names[7];

/* When a message was filed, on the set's clock; false where that is not known. */
bool ind_message_local(const struct ind_conditions *set, const struct ind_message *message,
                       struct ind_civil *local);

/* Seconds between what the device claims and our receipt; false where one of them is not known. */
bool ind_message_lag(const struct ind_message *message, double *lag);

#endif
