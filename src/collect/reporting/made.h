/* collect/reporting/made.h: a report made by a process of its own. */
#ifndef IND_COLLECT_REPORTING_MADE_H
#define IND_COLLECT_REPORTING_MADE_H

#include <stdatomic.h>
#include <stdbool.h>
#include <stddef.h>

/* Calls `words` (the program first, NULL last), its standard output into a text, new in *said. It has some
 * hours, and is ended where `stop` is set. The exit code; -1 with the reason where it could not be called, or
 * was ended. */
int ind_report_call(char *const *words, const atomic_bool *stop, char **said, char *reason, size_t room);

#endif
