/* collect/control/orders.h: what can be asked to be done over the control socket: rotation, protection,
 * reload, pause, resume. Of the control thread. */
#ifndef IND_COLLECT_CONTROL_ORDERS_H
#define IND_COLLECT_CONTROL_ORDERS_H

#include "collect/control/control.h"
#include "collect/control/pending.h"

struct ind_orders {
    const struct ind_control_actions *actions; /* borrowed */
    struct ind_pending *for_rotation, *for_protection, *for_reload, *next_reload;
};

/* What is asked for once the collector is to end may never be done: answered, then, and true. */
bool ind_is_too_late(const struct ind_control_actions *actions, struct evhttp_request *request);

/* Answers at these paths from now on. */
void ind_orders_listen(struct ind_orders *orders, struct evhttp *http);
/* Answers all who wait with that. */
void ind_orders_end(struct ind_orders *orders, const char *text);

#endif
