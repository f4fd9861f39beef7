/* json/members.h: members of JSON objects (RFC 8259) in the forms that all outputs share. */
#ifndef IND_JSON_MEMBERS_H
#define IND_JSON_MEMBERS_H

#include "core/time/civil.h"

#include <jansson.h>

/* An RFC 3339 time in UTC with six digits of a second; nothing where it is IND_TIME_NONE. */
void ind_json_set_time(json_t *object, const char *key, ind_time time);
/* An integer; what is beyond 2^63 is told as that. */
void ind_json_set_number(json_t *object, const char *key, uint64_t number);

#endif
