/* collect/control/status_relays.h: what the status says of relays. */
#ifndef IND_COLLECT_CONTROL_STATUS_RELAYS_H
#define IND_COLLECT_CONTROL_STATUS_RELAYS_H

#include "collect/control/status.h"

#include <jansson.h>

/* An object for each relay, with one for each of its targets. New. */
json_t *ind_status_relays(const struct ind_status *status);
/* An object for each listener that takes from a message system. New. */
json_t *ind_status_takers(const struct ind_status *status);

#endif
