/* cli/status_alerts.h: the part of `status` that tells of alerts. */
#ifndef IND_CLI_STATUS_ALERTS_H
#define IND_CLI_STATUS_ALERTS_H

#include <jansson.h>

/* Nothing where there are none. */
void ind_show_alerts(const json_t *status);

#endif
