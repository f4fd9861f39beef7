/* collect/status.h: what a running collector tells of itself, as JSON (docs/formats.md). */
#ifndef IND_COLLECT_STATUS_H
#define IND_COLLECT_STATUS_H

#include "collect/inside.h"

/* New, to be freed; NULL where memory is out. `sheets`: one of each receiver, of one moment each. */
char *ind_status_text(const struct ind_collector *collector, const struct ind_ledger_snapshot *sheets,
                      ind_time now);

#endif
