/* core/condition/value_private.h: reading the values of a test. */
#ifndef IND_CORE_CONDITION_VALUE_PRIVATE_H
#define IND_CORE_CONDITION_VALUE_PRIVATE_H

#include "core/condition/lex_private.h"

/* The value at which the reader stands, into the test, whose field and operator are known. With a mistake
 * made where it is none. */
void ind_condition_read_value(struct ind_condition_reader *reader, struct ind_test *test);
/* "(", values, ")". */
void ind_condition_read_values(struct ind_condition_reader *reader, struct ind_test *test);

/* Compiles the test's regular expression once more, for both cases. */
void ind_condition_ignore_case(struct ind_condition_reader *reader, struct ind_test *test);
/* What looks for the test's texts in others; false where memory is out. */
bool ind_condition_add_finders(struct ind_test *test);

/* "higher", "worse", …: what stands in no condition, but is often written. */
bool ind_condition_is_comparative(struct ind_slice word);

#endif
