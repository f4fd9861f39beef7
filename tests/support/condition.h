/* tests/support/condition.h: a condition as a test writes it. */
#ifndef IND_TESTS_CONDITION_H
#define IND_TESTS_CONDITION_H

#include "support/support.h"

#include "core/condition/condition.h"

/* Reads it into the set; the test fails where it is none. */
static inline ind_condition ind_condition_of(struct ind_conditions *set, const char *text)
{
    ind_condition condition;
    struct ind_mistake mistake = {0};
    if (!ind_condition_read(set, ind_slice_of(text), NULL, &condition, &mistake))
        print_error("%s: %s\n", text, mistake.text);
    assert_false(mistake.made);
    return condition;
}

#endif
