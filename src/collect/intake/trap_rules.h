/* collect/intake/trap_rules.h: who may send traps to a listener, with the keys of its users read from the
 * files that the configuration names; and what is wrong with those, at its place there. */
#ifndef IND_COLLECT_INTAKE_TRAP_RULES_H
#define IND_COLLECT_INTAKE_TRAP_RULES_H

#include "config/config.h"
#include "net/usm_keys.h"

/* Never changes once it is made; any thread may read it. */
struct ind_trap_rules {
    const struct ind_listen_traps *traps; /* borrowed from the configuration */
    struct ind_usm_user *users;
    size_t user_count;
};

/* Of an item that has traps. New; NULL with `reason` filled in: "indagator.yaml:12:10: keys/ops.auth: …". */
struct ind_trap_rules *ind_trap_rules_new(const struct ind_listen_item *item, char *reason, size_t room);
void ind_trap_rules_free(struct ind_trap_rules *rules);

/* Whether this process can read all keys, which it may have done with more rights than it has now, and will
 * do again at a reload. False with `reason` filled in. */
bool ind_trap_rules_readable(const struct ind_config *config, char *reason, size_t room);

/* Adds a mistake for each key that cannot be used. */
void ind_trap_rules_check(const struct ind_config *config, struct ind_diagnostics *diagnostics);

#endif
