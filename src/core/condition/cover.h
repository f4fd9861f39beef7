/* core/condition/cover.h: what a router needs to ask many conditions at once.
 *
 * Tests of one operator on one field share an index: one look at a message answers all of them. A condition
 * with a cover (tests with an index, of which one holds wherever the condition does) need not be asked unless
 * one of those tests was found to hold. For compiled sets (ind_conditions_compile). */
#ifndef IND_CORE_CONDITION_COVER_H
#define IND_CORE_CONDITION_COVER_H

#include "core/condition/condition.h"

/* The tests, all of them with an index, of which one holds wherever the condition does and
 * PRI alone does not decide it. How many; 0: there are none such, or more than `room`. */
size_t ind_condition_cover(const struct ind_conditions *set, ind_condition condition, uint32_t *tests,
                           size_t room);

/* How many indexes the set has, and which of them answers a test of a cover. */
size_t ind_conditions_indexes(const struct ind_conditions *set);
size_t ind_test_index(const struct ind_conditions *set, uint32_t test);

/* Answers all tests of an index: adds those that hold to answers->hits. */
void ind_index_look(const struct ind_conditions *set, size_t index, const struct ind_message *message,
                    struct ind_answers *answers);

#endif
