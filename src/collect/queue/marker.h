/* collect/queue/marker.h: what passes through a ring behind all batches that were put before it: a moment of
 * which the ledger is taken, or the beginning of other rules. */
#ifndef IND_COLLECT_QUEUE_MARKER_H
#define IND_COLLECT_QUEUE_MARKER_H

struct ind_config;
struct ind_ledger_snapshot;
struct ind_plan;

enum ind_marker_kind { IND_MARKER_SNAPSHOT, IND_MARKER_RULES };

struct ind_marker {
    enum ind_marker_kind kind;
    struct ind_ledger_snapshot *snapshot; /* IND_MARKER_SNAPSHOT: to be filled */
    const struct ind_config *config;      /* IND_MARKER_RULES: of the batches behind it */
    struct ind_plan *plan;                /* likewise, for the store */
};

#endif
