/* collect/control/status_alerts.h: what the status says of alerts. */
#ifndef IND_COLLECT_CONTROL_STATUS_ALERTS_H
#define IND_COLLECT_CONTROL_STATUS_ALERTS_H

#include "collect/control/status.h"

#include <jansson.h>

/* New; NULL where there are none. */
json_t *ind_status_alerts(const struct ind_status *status);

#endif
