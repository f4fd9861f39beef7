/* core/condition_set.h: the inside of a set of conditions, shared by reader (condition_read.c) and evaluator
 * (condition.c) only. */
#ifndef IND_CORE_CONDITION_SET_H
#define IND_CORE_CONDITION_SET_H

#include "core/address.h"
#include "core/condition.h"
#include "core/find.h"

enum test_op { OP_IS, OP_CONTAINS, OP_STARTS, OP_WITHIN };

/* One question about one field; "in" is "is" with several values. */
struct test {
    uint8_t field, op;
    uint32_t numbers; /* facility and severity: a bit for each value that fits */
    size_t count;     /* of values: texts, or networks for OP_WITHIN */
    struct ind_slice *texts;
    struct ind_finder *finders; /* OP_CONTAINS */
    struct ind_network *networks;
};

enum node_kind { NODE_ALWAYS, NODE_TEST, NODE_NOT, NODE_ALL, NODE_ANY, NODE_NAME };

/* NODE_ALL and NODE_ANY have any number of parts, NODE_NOT and NODE_NAME one. */
struct node {
    uint8_t kind;
    uint32_t test;        /* NODE_TEST */
    uint32_t first, next; /* first part; next part of the node above; 0: none */
    uint32_t at, length;  /* where it stands in its text */
};

extern const char *const ind_field_names[IND_FIELDS];

struct ind_conditions {
    struct node *nodes;
    size_t node_count, node_room;
    struct test *tests;
    size_t test_count, test_room;
    struct ind_slice domain;
    char **kept; /* texts owned */
    size_t kept_count, kept_room;
    bool out_of_memory;
};

uint32_t ind_node_add(struct ind_conditions *set, enum node_kind kind, size_t at, size_t length);
/* Takes the test's arrays; returns the place of it or of its equal. */
uint32_t ind_test_add(struct ind_conditions *set, struct test *test);
struct ind_slice ind_set_keep(struct ind_conditions *set, const char *at, size_t length);

#endif
