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
enum test_op {
    OP_IS = 1,
    OP_CONTAINS = 2,
    OP_MENTIONS = 4,
    OP_STARTS = 8,
    OP_ENDS = 16,
    OP_MATCHES = 32,
    OP_WITHIN = 64,  /* a network */
    OP_DURING = 128, /* written "within" too: a span of the day */
    OP_AT_LEAST = 256,
    OP_AT_MOST = 512,
    OP_PRESENT = 1024
};

enum field_kind {
    KIND_FACILITY,
    KIND_SEVERITY,
    KIND_NAME, /* of hosts: case and domain do not matter */
    KIND_TEXT,
    KIND_NUMBER,
    KIND_TIME,
    KIND_DAY
};

struct field_row {
    const char *name;
    const char *operators; /* as a mistake lists them */
    unsigned ops;          /* of enum test_op */
    uint8_t kind;          /* enum field_kind */
    bool several;          /* a message may have it more than once */
};
extern const struct field_row ind_field_rows[IND_FIELDS];

/* Minutes of the day; `to` may be before `from`: over midnight. */
struct span {
    uint16_t from, to;
};

/* One question about one field. */
struct test {
    uint8_t field;
    bool nocase;
    uint16_t op;
    uint32_t numbers;          /* facility, severity, day: a bit for each value that fits */
    double limit;              /* OP_AT_LEAST, OP_AT_MOST */
    struct ind_slice id, name; /* of a label, a field, an element of the structured data and its parameter */
    size_t count;              /* of values: texts, networks or spans, by the operator */
    struct ind_slice *texts;
    struct ind_finder *finders; /* OP_CONTAINS, OP_MENTIONS */
    struct ind_network *networks;
    struct span *spans;
    void *regex; /* OP_MATCHES: compiled from the one text */
    uint32_t hash;
};

enum node_kind { NODE_ALWAYS, NODE_TEST, NODE_NOT, NODE_ALL, NODE_ANY, NODE_NAME };

/* NODE_ALL and NODE_ANY have any number of parts, NODE_NOT and NODE_NAME one. */
struct node {
    uint8_t kind;
    uint32_t test;        /* NODE_TEST: which; NODE_NAME: its number among the names that are used */
    uint32_t first, next; /* first part; next part of the node above; 0: none */
    uint32_t source;      /* its text */
    uint32_t at, length;  /* where it stands in it */
};

enum { PRI_WORDS = IND_PRIS / 64 };

/* What is known of a node without a message, worked out once from its parts: named conditions may be used by
 * many others, and are not to be gone through again for each. */
struct facts {
    uint64_t yes[PRI_WORDS], no[PRI_WORDS]; /* a bit for each PRI that decides it alone */
    unsigned fields;                        /* 1 << enum ind_field */
    uint32_t name;                          /* its number + 1, where it is used by name */
};

struct ind_conditions {
    struct node *nodes;
    struct facts *facts; /* of each node */
    size_t node_count, node_room;
    struct test *tests;
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

uint32_t ind_node_add(struct ind_conditions *set, enum node_kind kind, uint32_t source, size_t at,
                      size_t length);
void ind_test_free(struct test *test);
/* Takes the test's arrays; returns the place of it or of its equal. */
uint32_t ind_test_add(struct ind_conditions *set, struct test *test);
/* A terminated copy that lives as long as the set: kept[kept_count - 1]. */
struct ind_slice ind_set_keep(struct ind_conditions *set, const char *at, size_t length);

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
bool ind_value_fits(const struct ind_conditions *set, const struct test *test, struct ind_slice value,
                    struct ind_answers *answers);
/* Whether a minute of the day is in one of the test's spans. */
bool ind_in_spans(const struct test *test, unsigned minute);

/* ask.c: one test put to one message. */
bool ind_test_ask(const struct ind_conditions *set, const struct test *test,
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
bool ind_test_value(const struct test *test, const struct ind_message *message, struct ind_answers *answers,
                    size_t *state, struct ind_slice *value);

/* monday to sunday, as ind_civil counts them. */
extern const char *const ind_day_names[7];

/* When a message was filed, on the set's clock; false where that is not known. */
bool ind_message_local(const struct ind_conditions *set, const struct ind_message *message,
                       struct ind_civil *local);

/* Seconds between what the device claims and our receipt; false where one of them is not known. */
bool ind_message_lag(const struct ind_message *message, double *lag);

#endif
