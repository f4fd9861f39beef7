#include "collect/reporting/due.h"

#include <stdio.h>

bool ind_report_due(const struct ind_report_rule *rule, ind_time now, const struct ind_zone *zone,
                    struct ind_report_span *span)
{
    static const char *const names[] = {"yesterday", "last week", "last month"};
    const int64_t seconds = ind_time_seconds(now);
    /* On the clock on the wall, so that a day of another length has its report at the same time. */
    const int64_t local = seconds + ind_zone_offset(zone, seconds) - rule->at;
    return ind_report_span_read(ind_slice_of(names[rule->every]), ind_zone_to_utc(zone, local) * IND_SECOND,
                                zone, span);
}

/* The year of a week is that of its Thursday (ISO 8601). */
static void write_week(const struct ind_civil *monday, char text[16])
{
    struct ind_civil thursday;
    const int64_t day = ind_days_from_civil(monday->year, monday->month, monday->day) + 3;
    ind_civil_from_seconds(day * IND_DAY_SECONDS, &thursday);
    const int64_t first = ind_days_from_civil(thursday.year, 1, 1);
    snprintf(text, 16, "%04d-W%02d", (int)thursday.year % 10000, (int)((day - first) / 7 + 1) % 100);
}

void ind_report_due_name(const struct ind_report_rule *rule, const struct ind_report_span *span,
                         const struct ind_zone *zone, char text[16])
{
    struct ind_civil civil;
    ind_zone_civil(zone, span->since, &civil);
    if (rule->every == IND_REPORT_EVERY_WEEK)
        write_week(&civil, text);
    else if (rule->every == IND_REPORT_EVERY_MONTH)
        snprintf(text, 16, "%04d-%02d", (int)civil.year % 10000, (int)civil.month % 100);
    else
        snprintf(text, 16, "%04d-%02d-%02d", (int)civil.year % 10000, (int)civil.month % 100,
                 (int)civil.day % 100);
}
