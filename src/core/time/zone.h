/* core/time/zone.h: time zones, from the bytes of a TZif file (RFC 8536) or a fixed offset.
 *
 * A zone never changes once made and may be shared by threads. Where the local clock is put back, an
 * ambiguous local time is the first of the two; where it is put forward, a local time that does not exist is
 * the instant of the jump. */
#ifndef IND_CORE_TIME_ZONE_H
#define IND_CORE_TIME_ZONE_H

#include "core/time/civil.h"

struct ind_zone;

/* New, or NULL where memory is out; `offset` in seconds east of UTC. */
struct ind_zone *ind_zone_fixed(int32_t offset);

/* New, from the bytes of a TZif file of any version; NULL where they are none (or memory is out). The POSIX
 * rule at its end (RFC 8536 section 3.3) is followed up to the year 2200. */
struct ind_zone *ind_zone_read(const unsigned char *bytes, size_t length);

/* "UTC", "Z", "+01:00", "-0330", "+5": sets *offset in seconds east. */
bool ind_zone_read_offset(struct ind_slice text, int32_t *offset);

void ind_zone_free(struct ind_zone *zone);

/* Seconds to add to UTC for the local clock at an instant given in seconds since 1970. */
int32_t ind_zone_offset(const struct ind_zone *zone, int64_t seconds);

/* The instant at which the local clock shows `local` (seconds since 1970 on that clock). */
int64_t ind_zone_to_utc(const struct ind_zone *zone, int64_t local);

/* The instant in RFC 3339's form on the clock of `zone`, with its offset: "2026-11-23T05:45:00.123456+01:00",
 * always six digits; NULL: UTC, as ind_time_write. An offset that is no whole minute is rounded to one, and
 * the clock with it. */
enum { IND_TIME_WIDTH_MOST = 32 };
void ind_zone_write_time(const struct ind_zone *zone, ind_time time, struct ind_buffer *buffer);

/* The local calendar at an instant. */
void ind_zone_civil(const struct ind_zone *zone, ind_time time, struct ind_civil *civil);

#endif
