/* collect/alert/programs.h: one spawner for several threads, each of which starts a program now and then:
 * none waits for that of another. */
#ifndef IND_COLLECT_ALERT_PROGRAMS_H
#define IND_COLLECT_ALERT_PROGRAMS_H

#include "collect/output/spawner.h"

struct ind_programs;

/* New; borrows the spawner, which nobody else uses; NULL: no program can be started. NULL where memory is
 * out. */
struct ind_programs *ind_programs_new(struct ind_spawner *spawner);
/* Once nobody uses it any more. Accepts NULL. */
void ind_programs_free(struct ind_programs *programs);

/* Asks for a program to be started: under which id it is reported; 0: it could not be asked. */
uint32_t ind_programs_start(struct ind_programs *programs, char *const *program);
/* What has become of it; false where there is nothing new. */
bool ind_programs_next(struct ind_programs *programs, uint32_t id, struct ind_spawner_event *event);
/* It is to end. */
void ind_programs_stop(struct ind_programs *programs, uint32_t id);

#endif
