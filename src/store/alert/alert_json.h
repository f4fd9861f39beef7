/* store/alert/alert_json.h: an alert as members of a JSON object, the same wherever one is told. */
#ifndef IND_STORE_ALERT_ALERT_JSON_H
#define IND_STORE_ALERT_ALERT_JSON_H

#include "core/alert/alerts.h"

#include <jansson.h>

/* Adds alert, key, number, messages, lines, and what there is of opened, first, last, acknowledged,
 * acknowledged_by, note and over (docs/alerts.md). */
void ind_alert_add_to_json(json_t *object, const char *name, const struct ind_alert *alert);

#endif
