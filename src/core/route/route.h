/* core/route/route.h: the rules of a collector, compiled: routes, and the decision which of them take a
 * message.
 *
 * Routes are asked in their order; `last` keeps a message from those below, and `otherwise` makes a route
 * take what no other has taken. What facility and severity alone decide is worked out once for each of the
 * 192 PRI values. A route that names a host, a text, a network and so on is not even looked at unless the
 * message has one of them: the tests of all routes on one field are answered together, so that what a message
 * costs depends on the routes that it meets, not on how many there are. A rule set never changes once
 * compiled and may be shared by threads. */
#ifndef IND_CORE_ROUTE_ROUTE_H
#define IND_CORE_ROUTE_ROUTE_H

#include "core/condition/condition.h"
#include "core/line/line.h"
#include "core/line/pass_on.h"
#include "core/line/template.h"

enum ind_to { IND_TO_FILE, IND_TO_OUTPUT, IND_TO_PROGRAM, IND_TO_TERMINALS, IND_TO_RELAY };

struct ind_route {
    const char *name;
    ind_condition when;
    const char *when_text; /* as written; NULL: every message */
    enum ind_to to;
    struct ind_template file;
    char *const *program; /* IND_TO_PROGRAM: itself and its arguments, NULL behind the last */
    const char *users; /* IND_TO_TERMINALS: whose, names with commas between; NULL: all who are logged in */
    const char *relay; /* IND_TO_RELAY: its name, */
    uint16_t relay_number;  /* and which of those of the configuration it is */
    enum ind_pass_on form;  /* for it */
    enum ind_layout layout; /* of a template of its own: raw, which is how such lines are read back */
    const struct ind_template *line; /* instead; or NULL */
    size_t policy;                   /* which archive policy; an index into whoever keeps them */
    bool last;                       /* messages that it takes are not offered to the routes below */
    bool otherwise;                  /* it is offered only what no other route took */
    unsigned file_mode, folder_mode; /* as chmod takes them */
    int64_t group;                   /* group id, or -1: as the process has it */
};

struct ind_router;

/* New; borrows the set, which is compiled and never compiled again, and the routes; both must outlive it.
 * NULL where memory is out. */
struct ind_router *ind_router_new(const struct ind_conditions *set, const struct ind_route *routes,
                                  size_t count);
void ind_router_free(struct ind_router *router);

/* Gives the answers (of the router's set) what it needs to decide with them; several routers may share them.
 * False where memory is out. */
bool ind_router_prepare(const struct ind_router *router, struct ind_answers *answers);

/* Writes the indices of the routes that take the message into `taken` (room for all routes), in their order,
 * and returns how many. The answers were begun for this message (ind_answers_next). */
size_t ind_router_decide(const struct ind_router *router, const struct ind_message *message,
                         struct ind_answers *answers, uint32_t *taken);

/* Whether no message at all can reach a route, as far as facility and severity show: its condition never
 * holds, or a route above with `last` takes everything that could. Sets *above to that route's index, or to
 * `route` itself where its own condition never holds. */
bool ind_router_unreachable(const struct ind_router *router, size_t route, size_t *above);

#endif
