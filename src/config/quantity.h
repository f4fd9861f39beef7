/* config/quantity.h: sizes, spans of time and numbers as people write them. */
#ifndef IND_CONFIG_QUANTITY_H
#define IND_CONFIG_QUANTITY_H

#include "core/base/slice.h"
#include <stdint.h>

/* "256 MiB", "10 kB", "1.5 GiB", "4096": bytes. */
bool ind_read_size(struct ind_slice text, uint64_t *bytes);

/* "30 days", "1 year", "24h", "1h30m", "90 s", "300 ms", "1.5 min": nanoseconds, a hundred years at most. A
 * year is 365 days, a month the twelfth part of one. Every span of time is read by this, and what is none is
 * reported with IND_SPAN_HINT. */
bool ind_read_span(struct ind_slice text, int64_t *nanoseconds);
#define IND_SPAN_HINT                                                                                        \
    "a span is a number and one of ms, s, min (or m), h, d, w, months, years, such as 90 s, 7 days or 1h30m"

/* A whole number within limits, no sign, nothing after it. */
bool ind_read_count(struct ind_slice text, uint64_t least, uint64_t most, uint64_t *count);

/* "80 %", "80%": 1 to 100. */
bool ind_read_percent(struct ind_slice text, unsigned *percent);

/* "0640", "750": file permissions in octal. */
bool ind_read_mode(struct ind_slice text, unsigned *mode);

#endif
