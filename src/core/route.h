/* core/route.h: the rules of a collector, compiled: routes, and the decision which of them take a message.
 *
 * Routes are asked in their order; `last` keeps a message from those below. What facility and severity alone
 * decide is worked out once for each of the 192 PRI values, so that a message meets only routes that could
 * take it. A rule set never changes once compiled and may be shared by threads. */
#ifndef IND_CORE_ROUTE_H
#define IND_CORE_ROUTE_H

#include "core/condition.h"
#include "core/line.h"
#include "core/template.h"

struct ind_route {
    const char *name;
    ind_condition when;
    const char *when_text; /* as written; NULL: every message */
    struct ind_template file;
    enum ind_layout layout;
    size_t policy; /* which archive policy; an index into whoever keeps them */
    bool last;
    unsigned file_mode, folder_mode; /* as chmod takes them */
    int64_t group;                   /* group id, or -1: as the process has it */
};

struct ind_router;

/* New; borrows the set and the routes, which must outlive it. NULL where memory is out. */
struct ind_router *ind_router_new(const struct ind_conditions *set, const struct ind_route *routes,
                                  size_t count);
void ind_router_free(struct ind_router *router);

/* Writes the indices of the routes that take the message into `taken` (room for all routes) and returns how
 * many. */
size_t ind_router_decide(const struct ind_router *router, const struct ind_message *message,
                         struct ind_answers *answers, uint32_t *taken);

/* Whether no message at all can reach a route: its condition never holds, or a route above with `last` takes
 * everything that could. Sets *above to that route's index, or to `route` itself where its own condition
 * never holds. */
bool ind_router_unreachable(const struct ind_router *router, size_t route, size_t *above);

#endif
