/* config/moment.h: moments as people give them on the command line. */
#ifndef IND_CONFIG_MOMENT_H
#define IND_CONFIG_MOMENT_H

#include "core/time/zone.h"

/* A moment, on the clock of `zone` where no offset stands behind it:
 *  - RFC 3339 ("2026-11-23T04:45:00Z"), also without seconds or offset, or with a space for the T;
 *  - a date, "today", "yesterday", or a weekday (the last one, today included), with a time of day behind it;
 *    without one its begin, or with `end_of_day` its end;
 *  - a time of day: the last one;
 *  - "now";
 *  - an age ("24h", "1h30m", "30d ago"): so long before `now`.
 * Letters in either case. False where it is none of these. */
bool ind_moment_read(struct ind_slice text, ind_time now, const struct ind_zone *zone, bool end_of_day,
                     ind_time *time);

#define IND_MOMENT_HINT                                                                                      \
    "write a date (2026-11-23), a date and time (2026-11-23T04:45), a time of day (22:00: the last one), "   \
    "today, \"yesterday 08:00\", a weekday (mon: the last one), now, or an age (24h, 1h30m, 30d)"

#endif
