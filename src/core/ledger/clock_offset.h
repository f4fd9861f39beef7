/* core/ledger/clock_offset.h: how far a device's clock is off, from the lags of its messages.
 *
 * A lag is the receipt less what the device claims: its clock's error and the message's way here together.
 * The last samples tell the median and the spread; the median of the first ones and that of now, how fast the
 * clock runs away. */
#ifndef IND_CORE_LEDGER_CLOCK_OFFSET_H
#define IND_CORE_LEDGER_CLOCK_OFFSET_H

#include "core/time/civil.h"

enum { IND_LAG_SAMPLES = 32 };

/* Begins as {0}. */
struct ind_clock_offset {
    ind_time samples[IND_LAG_SAMPLES]; /* ns */
    uint32_t count;                    /* of all samples ever */
    uint32_t unset;    /* a bit for each of the last samples: the device says that its clock is not set */
    uint32_t messages; /* with and without a time; stops counting at IND_LAG_SAMPLES */
    ind_time first_at, first; /* when the samples were first complete, and their median then */
    ind_time last_at;
};

/* A message received at `at`; `lag` in ns, IND_TIME_NONE where it names no time. `unset`: it says itself that
 * its clock is not set. */
void ind_clock_offset_add(struct ind_clock_offset *lag, ind_time at, ind_time sample, bool unset);

struct ind_clock_offset_summary {
    bool known, never_set;
    ind_time median, spread; /* ns; half of the samples lie within `spread` */
    bool drifts;
    double drift; /* seconds a day; above 0: it runs slow */
};
void ind_clock_offset_sum_up(const struct ind_clock_offset *lag, struct ind_clock_offset_summary *summary);

/* "right", "5 h 00 min behind: is its zone set?", "never set", "3 min 10 s ahead, drifts 2 s a day"; "-"
 * where nothing is known. */
void ind_clock_offset_write(struct ind_buffer *buffer, const struct ind_clock_offset_summary *summary);

/* A length of time in its two largest units: "5 h 00 min", "3 min 10 s", "12 s". */
void ind_span_write(struct ind_buffer *buffer, uint64_t seconds);

#endif
