#include "collect/account/ledger_snapshot.h"

#include <stdlib.h>

void ind_ledger_snapshot_clear(struct ind_ledger_snapshot *snapshot)
{
    free(snapshot->ledgers);
    free(snapshot->last);
    free(snapshot->offsets);
    free(snapshot->routes);
    free(snapshot->shares);
    free(snapshot->sinks);
    ind_edit_counts_free(&snapshot->edits);
    *snapshot = (struct ind_ledger_snapshot){0};
}
