/* cli/explain_trap.h: what is understood of a datagram that came, or would come, to a listener for traps. */
#ifndef IND_CLI_EXPLAIN_TRAP_H
#define IND_CLI_EXPLAIN_TRAP_H

#include "cli/explain.h"
#include "collect/intake/traps.h"

struct ind_explain_trap;

/* By the listeners for traps of the configuration, in their order: the first that accepts a datagram counts.
 * New; NULL, told, where there are none, or their keys cannot be read. */
struct ind_explain_trap *ind_explain_trap_new(const struct ind_config *config);
void ind_explain_trap_free(struct ind_explain_trap *trap);

/* The bytes of a datagram in hexadecimal digits, with anything between them that is none. Borrowed until the
 * next call; empty, and told, where there are none. */
struct ind_slice ind_explain_trap_hex(struct ind_explain_trap *trap, struct ind_slice text);
/* Those of a file, which holds them as they are, or in hexadecimal. */
struct ind_slice ind_explain_trap_file(struct ind_explain_trap *trap, const char *path);

/* Reads it, as if it came from `sender`; whether it is in time is not asked. False where it is refused. */
bool ind_explain_trap_read(struct ind_explain_trap *trap, struct ind_slice datagram,
                           const struct ind_address *sender, struct ind_trap_result *result);

/* What was read last: for people, and as JSON, which is new. */
void ind_explain_trap_print(const struct ind_explain_trap *trap, const struct ind_explaining *run);
json_t *ind_explain_trap_json(const struct ind_explain_trap *trap);

#endif
