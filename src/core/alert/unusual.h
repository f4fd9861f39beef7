/* core/alert/unusual.h: whether an hour's volume is unusual against the same hours of past weeks.
 *
 * Usual is what lies within five spreads of the median. The spread is 1.4826 times the median deviation from
 * it (for a normal distribution the standard deviation), but at least the root of the median, which chance
 * alone makes, and a tenth of it; and what differs by less than twenty messages is never unusual. One odd
 * week among them changes neither much. */
#ifndef IND_CORE_ALERT_UNUSUAL_H
#define IND_CORE_ALERT_UNUSUAL_H

#include "core/base/slice.h"

#include <stdint.h>

enum { IND_UNUSUAL_WEEKS = 6, IND_UNUSUAL_LEAST = 3 };

struct ind_usual {
    uint64_t least, median, most; /* of the past */
    double spread;
    bool known;   /* there are at least IND_UNUSUAL_LEAST of them */
    bool unusual; /* the volume is, against them */
};

/* `past`: volumes of as many weeks, IND_UNUSUAL_WEEKS at most. */
struct ind_usual ind_usual_of(uint64_t volume, const uint64_t *past, size_t count);

/* "1234 messages from 04:00 to 05:00 UTC; in the same hour of 4 weeks before 90 to 130, the median 110". */
void ind_usual_write(const struct ind_usual *usual, uint64_t volume, unsigned hour, size_t count,
                     struct ind_buffer *buffer);

#endif
