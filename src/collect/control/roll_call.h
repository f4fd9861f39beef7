/* collect/control/roll_call.h: who of the configured devices has fallen silent, who is heard again, and who
 * sends without being configured: told as messages of our own, each once.
 *
 * What has lasted goes by the steady clock and by counts, so that a clock that jumps silences nobody. Names
 * and addresses can be forged: so many of a kind are told within a minute, all others together in one. */
#ifndef IND_COLLECT_CONTROL_ROLL_CALL_H
#define IND_COLLECT_CONTROL_ROLL_CALL_H

#include "collect/account/ledger_snapshot.h"
#include "collect/runtime/reporter.h"
#include "config/config.h"

enum {
    IND_SILENT_AFTER = 3600,    /* seconds */
    IND_ROLL_CALL_TOLD = 20,    /* of a kind, in a minute */
    IND_ROLL_CALL_KNOWN = 65536 /* senders that are remembered; those beyond are not told */
};

struct ind_roll_call;
/* New; `began`: from when on nothing has been heard. NULL where memory is out. */
struct ind_roll_call *ind_roll_call_new(struct ind_reporter *reporter, struct ind_steady began);
void ind_roll_call_free(struct ind_roll_call *roll);

/* What was heard so far: a snapshot and the accounts of each intake. Borrowed for the call. Where no device
 * is configured nothing is told. */
void ind_roll_call(struct ind_roll_call *roll, const struct ind_config *config,
                   const struct ind_ledger_snapshot *snapshots, struct ind_accounts *const *accounts,
                   unsigned intakes, struct ind_steady now);

#endif
