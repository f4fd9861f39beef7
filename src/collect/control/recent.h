/* collect/control/recent.h: the last messages of all devices, as a collector remembers them, as JSON
 * (docs/formats.md). */
#ifndef IND_COLLECT_CONTROL_RECENT_H
#define IND_COLLECT_CONTROL_RECENT_H

#include "collect/control/status.h"

#include <jansson.h>

enum { IND_RECENT = 2000 };

/* The last IND_RECENT, the oldest first. New, to be freed; NULL where memory is out. */
char *ind_recent_text(const struct ind_status *status);

/* One message. New. */
json_t *ind_recent_object(const struct ind_status *status, uint16_t listener,
                          const struct ind_note_message *message);

#endif
