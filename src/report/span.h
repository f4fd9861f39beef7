/* report/span.h: spans of time as people ask for them, and those that they are compared with. */
#ifndef IND_REPORT_SPAN_H
#define IND_REPORT_SPAN_H

#include "core/time/zone.h"

/* What a span is by the calendar: those before it are of the same kind. */
enum ind_report_span_unit {
    IND_REPORT_SPAN_FREE,
    IND_REPORT_SPAN_DAY,
    IND_REPORT_SPAN_WEEK,
    IND_REPORT_SPAN_MONTH,
    IND_REPORT_SPAN_YEAR
};

struct ind_report_span {
    ind_time since, until; /* from `since` on, before `until` */
    enum ind_report_span_unit unit;
};

/* Reads "2026", "2026-11", "2026-W48" (ISO 8601), "2026-11-23", "today", "yesterday", a weekday (the last
 * one), "this week", "last week", and so for month and year, on the clock of `zone`. False where it is none.
 */
bool ind_report_span_read(struct ind_slice text, ind_time now, const struct ind_zone *zone,
                          struct ind_report_span *span);

#define IND_REPORT_SPAN_HINT                                                                                 \
    "write a year (2026), a month (2026-11), a week (2026-W48), a day (2026-11-23, yesterday, mon), or "     \
    "\"last week\", \"this month\""

/* The one so many units before; of a free span so many times its length. */
struct ind_report_span ind_report_span_before(const struct ind_report_span *span, unsigned count,
                                              const struct ind_zone *zone);
/* The same weekdays so many weeks before. */
struct ind_report_span ind_report_span_weeks_before(const struct ind_report_span *span, unsigned weeks,
                                                    const struct ind_zone *zone);
/* Whether it has no more than seven days, so that weekdays can be compared. */
bool ind_report_span_has_weekdays(const struct ind_report_span *span);

/* As it is headed: "2026-11-23, a Monday", "2026-W48, from 2026-11-23 to 2026-11-29". */
void ind_report_span_write(const struct ind_report_span *span, const struct ind_zone *zone,
                           struct ind_buffer *out);

/* "2026-11-23 04:45", with seconds where there are any. */
void ind_report_moment_write(ind_time time, const struct ind_zone *zone, struct ind_buffer *out);

#endif
