/* cli/answer.h: fields of what a collector answers in JSON. Where one is not there (another version answers),
 * or is of another type, it reads as nothing. */
#ifndef IND_CLI_ANSWER_H
#define IND_CLI_ANSWER_H

#include "core/time/civil.h"

#include <jansson.h>
#include <stdint.h>

uint64_t ind_answer_number(const json_t *object, const char *key);
/* "" where there is none; borrowed from the object. */
const char *ind_answer_text(const json_t *object, const char *key);
/* IND_TIME_NONE where there is none. */
ind_time ind_answer_time(const json_t *object, const char *key);

#endif
