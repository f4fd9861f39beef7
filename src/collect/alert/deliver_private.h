/* collect/alert/deliver_private.h: what mails and HTTP have in common. */
#ifndef IND_COLLECT_ALERT_DELIVER_PRIVATE_H
#define IND_COLLECT_ALERT_DELIVER_PRIVATE_H

#include <curl/curl.h>
#include <stdatomic.h>
#include <stdbool.h>
#include <stddef.h>

/* A call that ends within a minute, or as soon as `stop` is set. New; NULL where memory is out. */
CURL *ind_deliver_curl(atomic_bool *stop);
/* False with the reason. `status`: of the answer; or NULL. */
bool ind_deliver_perform(CURL *curl, char *reason, size_t room, long *status);

#endif
