/* config/moment.h: moments as people give them on the command line. */
#ifndef IND_CONFIG_MOMENT_H
#define IND_CONFIG_MOMENT_H

#include "core/time/zone.h"

/* RFC 3339 ("2026-11-23T04:45:00Z"; without an offset on the clock of `zone`), a date ("2026-11-23": its
 * begin, or with `end_of_day` its end), or an age ("24h", "30d": so long before `now`). False where it is
 * none of these. */
bool ind_moment_read(struct ind_slice text, ind_time now, const struct ind_zone *zone, bool end_of_day,
                     ind_time *time);

#endif
