#include "collect/account/ledger_snapshot.h"

#include <stdlib.h>

void ind_ledger_snapshot_clear(struct ind_ledger_snapshot *snapshot)
{
    free(snapshot->routes);
    free(snapshot->shares);
    free(snapshot->sinks);
    ind_edit_counts_free(&snapshot->edits);
    *snapshot = (struct ind_ledger_snapshot){.ledgers = snapshot->ledgers,
                                             .last = snapshot->last,
                                             .offsets = snapshot->offsets,
                                             .account_room = snapshot->account_room};
}

void ind_ledger_snapshot_free(struct ind_ledger_snapshot *snapshot)
{
    ind_ledger_snapshot_clear(snapshot);
    free(snapshot->ledgers);
    free(snapshot->last);
    free(snapshot->offsets);
    *snapshot = (struct ind_ledger_snapshot){0};
}
