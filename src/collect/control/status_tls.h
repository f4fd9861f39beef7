/* collect/control/status_tls.h: what the status says of TLS. */
#ifndef IND_COLLECT_CONTROL_STATUS_TLS_H
#define IND_COLLECT_CONTROL_STATUS_TLS_H

#include "collect/control/status.h"

#include <jansson.h>

/* Adds to a listener's object, where it has TLS: handshakes, those that failed by their reason, and when its
 * certificates end. */
void ind_status_add_tls(json_t *object, const struct ind_status_listener *listener);
/* Who has shown a certificate. New. */
json_t *ind_status_peers(const struct ind_status *status);

#endif
