/* config/quantity.h: sizes, spans of time and numbers as people write them. */
#ifndef IND_CONFIG_QUANTITY_H
#define IND_CONFIG_QUANTITY_H

#include "core/base/slice.h"
#include <stdint.h>

/* "256 MiB", "10 kB", "1.5 GiB", "4096": bytes. */
bool ind_read_size(struct ind_slice text, uint64_t *bytes);

/* "30 days", "1 year", "24h", "90 s", "2 weeks": seconds. A month is 30 days, a year 365. */
bool ind_read_span(struct ind_slice text, int64_t *seconds);

/* The same, and "300 ms", "1.5 s": nanoseconds. */
bool ind_read_short_span(struct ind_slice text, int64_t *nanoseconds);

/* A whole number within limits, no sign, nothing after it. */
bool ind_read_count(struct ind_slice text, uint64_t least, uint64_t most, uint64_t *count);

/* "80 %", "80%": 1 to 100. */
bool ind_read_percent(struct ind_slice text, unsigned *percent);

/* "0640", "750": file permissions in octal. */
bool ind_read_mode(struct ind_slice text, unsigned *mode);

#endif
