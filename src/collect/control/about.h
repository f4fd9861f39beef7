/* collect/control/about.h: all that is known of one device, as JSON (docs/formats.md). */
#ifndef IND_COLLECT_CONTROL_ABOUT_H
#define IND_COLLECT_CONTROL_ABOUT_H

#include "collect/control/status.h"

/* `asked`: its name, one that it calls itself by, or an address. New, to be freed; NULL where nothing is
 * known of it, or memory is out. */
char *ind_about_text(const struct ind_status *status, struct ind_slice asked);

#endif
