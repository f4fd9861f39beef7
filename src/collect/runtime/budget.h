/* collect/runtime/budget.h: one budget for the descriptors of the process, so that strangers cannot take what
 * the collector itself needs. */
#ifndef IND_COLLECT_RUNTIME_BUDGET_H
#define IND_COLLECT_RUNTIME_BUDGET_H

#include <stddef.h>
#include <stdint.h>

struct ind_budget {
    size_t connections, files; /* at most; at least one each. For connections: all that are left */
};

/* Divides `limit` descriptors. Set aside first: `sockets` for listeners twice over (a reload opens new ones
 * before it closes the old), and a reserve for the control socket and those who ask, followers, programs,
 * the journal, compression and reloads. Of the rest live files may have `files`, but no more than half where
 * the connections that are `wanted` would need it. */
struct ind_budget ind_budget_divide(uint64_t limit, uint64_t sockets, uint64_t files, uint64_t wanted);

/* What this process may have open; as good as unlimited where that is not known. */
uint64_t ind_budget_limit(void);

#endif
