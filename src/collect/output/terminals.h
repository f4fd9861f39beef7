/* collect/output/terminals.h: text on the terminals of people who are logged in. Nothing here waits: a
 * terminal that takes nothing now gets nothing. Any thread. */
#ifndef IND_COLLECT_OUTPUT_TERMINALS_H
#define IND_COLLECT_OUTPUT_TERMINALS_H

#include "core/base/slice.h"

/* Writes `text`, which holds no control character but LF, to the terminals of all who are logged in, or of
 * `users` (names with commas between; NULL: all). `logins`: the file that says who is; NULL: the system's.
 * False with the reason where somebody could not be reached. */
bool ind_terminals_write(const char *logins, const char *users, struct ind_slice text, char *reason,
                         size_t room);

#endif
