/* core/message/stamp.h: times as devices write them, beyond RFC 3339's form (core/time/civil.h).
 *
 * RFC 3164 section 4.1.2 gives "Nov 23 04:45:00"; what is sent in its name has a weekday, a year before or
 * after, a fraction, a zone or an offset, a mark of how far the clock is to be trusted, or the time since the
 * device was started in its place (docs/headers.md). */
#ifndef IND_CORE_MESSAGE_STAMP_H
#define IND_CORE_MESSAGE_STAMP_H

#include "core/message/message.h"
#include "core/time/zone.h"

struct ind_stamp {
    ind_time sent;   /* IND_TIME_NONE for an uptime */
    uint8_t mark;    /* enum ind_clock_mark */
    bool of_program; /* of a form that programs write into texts of their own: a host need not follow */
    struct ind_slice marked; /* as written, its mark and zone included */
};

/* Any form, up to a space, a colon or the end. Returns the bytes read, or 0 where there is none. An uptime
 * ("7w3d", "00:04:10") counts only where a colon follows. Steps are bounded. */
size_t ind_stamp_read(const char *at, const char *end, ind_time reference, const struct ind_zone *zone,
                      struct ind_stamp *stamp);

/* Whether a time may begin here. Quick; a guess. */
bool ind_stamp_may_begin(const char *at, const char *end);

#endif
