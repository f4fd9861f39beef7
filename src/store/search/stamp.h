/* store/search/stamp.h: the time of a stored line, found at its beginning without reading the rest. */
#ifndef IND_STORE_SEARCH_STAMP_H
#define IND_STORE_SEARCH_STAMP_H

#include "core/time/civil.h"

/* The stamp with which a line of that layout (store/disk/stored.h) begins; nothing where it does not. It is
 * the line's time, whether the rest can be read or not. */
struct ind_slice ind_search_stamp(int stored, struct ind_slice line);
/* The same as a time; IND_TIME_NONE where there is none. */
ind_time ind_search_stamp_time(int stored, struct ind_slice line);

/* Whether it is "2026-11-23T04:45:00.123456Z": of two such the lesser text is the earlier time. */
bool ind_search_stamp_is_utc(struct ind_slice stamp);

#endif
