/* collect/alert/deliver_private.h: what mails and HTTP have in common. */
#ifndef IND_COLLECT_ALERT_DELIVER_PRIVATE_H
#define IND_COLLECT_ALERT_DELIVER_PRIVATE_H

#include "collect/alert/courier.h"
#include "collect/runtime/clock.h"

#include <curl/curl.h>

enum { IND_DELIVERY_SOCKETS = 4 };

/* One call. */
struct ind_delivery {
    const struct ind_delivery_limits *limits;
    struct ind_steady began;
    curl_socket_t open[IND_DELIVERY_SOCKETS]; /* those it has open */
    size_t count;
};

/* A call that ends in time, or as soon as it is to stop; `delivery` outlives it. New; NULL where memory is
 * out. */
CURL *ind_deliver_curl(struct ind_delivery *delivery, const struct ind_delivery_limits *limits);
/* False with the reason. `status`: of the answer; or NULL. */
bool ind_deliver_perform(CURL *curl, char *reason, size_t room, long *status);

#endif
