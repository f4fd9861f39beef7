/* config/zones.h: time zones by name, from this machine's zone data. */
#ifndef IND_CONFIG_ZONES_H
#define IND_CONFIG_ZONES_H

#include "core/time/zone.h"

/* New: an IANA name ("Europe/Lisbon") or an offset ("+01:00", "UTC"). NULL where there is none of that name.
 */
struct ind_zone *ind_zone_named(const char *name);

/* New: this machine's, by TZ or /etc/localtime; UTC where neither tells. NULL only where memory is out. */
struct ind_zone *ind_zone_of_machine(void);

#endif
