/* collect/control/metrics.h: what a status says, as a text of OpenMetrics 1.0 (docs/metrics.md).
 *
 * The number of series has a bound: the busiest devices have series of their own, all others together one. */
#ifndef IND_COLLECT_CONTROL_METRICS_H
#define IND_COLLECT_CONTROL_METRICS_H

#include "collect/control/status.h"

#define IND_METRICS_TYPE "application/openmetrics-text; version=1.0.0; charset=utf-8"
#define IND_METRICS_PLAIN_TYPE "text/plain; version=0.0.4; charset=utf-8"

/* New, to be freed; NULL where memory is out. */
char *ind_metrics_text(const struct ind_status *status, const struct ind_rows *rows);

#endif
