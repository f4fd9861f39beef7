/* collect/output/people.h: lines for those who are logged in: some a minute, and then how many more there
 * were. Of one thread. */
#ifndef IND_COLLECT_OUTPUT_PEOPLE_H
#define IND_COLLECT_OUTPUT_PEOPLE_H

#include "collect/runtime/reporter.h"
#include "core/time/steady.h"

struct ind_people;

/* New; `users`: names with commas between, copied; NULL: all. `quiet`: nothing is shown. NULL where memory is
 * out. */
struct ind_people *ind_people_new(const char *users, bool quiet, struct ind_reporter *reporter);
void ind_people_free(struct ind_people *people);

/* Whether they are those: with `wanted` false, whether there are none. */
bool ind_people_are(const struct ind_people *people, bool wanted, const char *users);

/* A line with its end, which holds no other control character. */
void ind_people_show(struct ind_people *people, struct ind_slice line, struct ind_steady now);
/* To be called once in a while. */
void ind_people_look(struct ind_people *people, struct ind_steady now);

#endif
