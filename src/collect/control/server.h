/* collect/control/server.h: what anybody may ask over HTTP at the address under serve: (docs/formats.md):
 *
 *     GET /health     200 "running", or 503 with the reasons as JSON
 *     GET /metrics    OpenMetrics (docs/metrics.md)
 *     GET /status     as over the control socket
 *
 * It only reads: nothing that is asked here changes anything. Requests of strangers have bounds: so many
 * connections at once, so long for a request, so large; what is wrong is answered with a word. */
#ifndef IND_COLLECT_CONTROL_SERVER_H
#define IND_COLLECT_CONTROL_SERVER_H

#include "config/config.h"

#include <event2/http.h>

enum ind_question { IND_ASKS_HEALTH, IND_ASKS_METRICS, IND_ASKS_STATUS };

struct ind_server_calls {
    void *context;
    /* A question that is as it should be; to be answered, now or later. */
    void (*ask)(void *context, enum ind_question question, struct evhttp_request *request);
};

/* Opens the socket. -1 with `reason` filled in. */
int ind_server_listen(const struct ind_serve *serve, char *reason, size_t room);

struct ind_server;
/* New, for an open socket, which it takes over; borrows the base. NULL where memory is out: the socket is
 * closed.
 */
struct ind_server *ind_server_new(struct event_base *base, int socket, const struct ind_server_calls *calls);
/* Ends all its connections. Accepts NULL. */
void ind_server_free(struct ind_server *server);

/* Takes up listening again where there was no descriptor, or no room. Once a second. */
void ind_server_look(struct ind_server *server);

/* Whether OpenMetrics is asked for. */
bool ind_server_wants_openmetrics(struct evhttp_request *request);

#endif
