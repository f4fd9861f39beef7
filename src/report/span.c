#include "report/span.h"

#include "config/moment.h"

#include <stdio.h>

#define DAY ((int64_t)IND_DAY_SECONDS)

/* ---- Local days ---- */

static int64_t local_of(ind_time time, const struct ind_zone *zone)
{
    const int64_t seconds = ind_time_seconds(time);
    return seconds + ind_zone_offset(zone, seconds);
}

static ind_time time_of(int64_t local, const struct ind_zone *zone)
{
    return ind_zone_to_utc(zone, local) * IND_SECOND;
}

static int64_t days_of_month(int64_t year, int64_t month)
{
    year += (month - 1) / 12;
    month = (month - 1) % 12 + 1;
    return ind_days_from_civil((int)year, (int)month, 1);
}

/* The first day of a unit, in days since 1970, and of the one behind it. */
static void unit_around(enum ind_report_span_unit unit, int64_t local, int64_t step, int64_t *first,
                        int64_t *next)
{
    struct ind_civil civil;
    ind_civil_from_seconds(local, &civil);
    const int64_t day = ind_days_from_civil(civil.year, civil.month, civil.day);
    const int64_t months = (int64_t)civil.year * 12 + civil.month - 1;
    switch (unit) {
    case IND_REPORT_SPAN_WEEK:
        *first = day - civil.weekday + 7 * step;
        *next = *first + 7;
        break;
    case IND_REPORT_SPAN_MONTH:
        *first = days_of_month((months + step) / 12, (months + step) % 12 + 1);
        *next = days_of_month((months + step + 1) / 12, (months + step + 1) % 12 + 1);
        break;
    case IND_REPORT_SPAN_YEAR:
        *first = days_of_month(civil.year + step, 1);
        *next = days_of_month(civil.year + step + 1, 1);
        break;
    default:
        *first = day + step;
        *next = *first + 1;
        break;
    }
}

static struct ind_report_span span_of(enum ind_report_span_unit unit, int64_t local, int64_t step,
                                      const struct ind_zone *zone)
{
    int64_t first, next;
    unit_around(unit, local, step, &first, &next);
    return (struct ind_report_span){time_of(first * DAY, zone), time_of(next * DAY, zone), unit};
}

/* ---- Reading ---- */

static bool read_number(struct ind_slice *text, unsigned digits, int64_t *number)
{
    if (text->length < digits)
        return false;
    *number = 0;
    for (unsigned i = 0; i < digits; i++) {
        if (!ind_is_digit(text->at[i]))
            return false;
        *number = *number * 10 + (text->at[i] - '0');
    }
    *text = ind_slice_from(*text, digits);
    return true;
}

/* The week with the year's first Thursday is its first (ISO 8601). */
static bool read_week(int64_t year, struct ind_slice rest, const struct ind_zone *zone,
                      struct ind_report_span *span)
{
    int64_t week, first, next, of_next_year;
    if (!read_number(&rest, 2, &week) || rest.length || week < 1)
        return false;
    unit_around(IND_REPORT_SPAN_WEEK, ind_days_from_civil((int)year, 1, 4) * DAY, week - 1, &first, &next);
    unit_around(IND_REPORT_SPAN_WEEK, ind_days_from_civil((int)year + 1, 1, 4) * DAY, 0, &of_next_year,
                &next);
    if (first >= of_next_year)
        return false;
    *span = span_of(IND_REPORT_SPAN_WEEK, first * DAY, 0, zone);
    return true;
}

static bool read_year(struct ind_slice text, const struct ind_zone *zone, struct ind_report_span *span)
{
    int64_t year, month;
    if (!read_number(&text, 4, &year) || year < 1970 || year > 2200)
        return false;
    if (text.length == 0) {
        *span = span_of(IND_REPORT_SPAN_YEAR, ind_days_from_civil((int)year, 1, 1) * DAY, 0, zone);
        return true;
    }
    if (text.at[0] != '-')
        return false;
    text = ind_slice_from(text, 1);
    if (text.length && ind_lower(text.at[0]) == 'w')
        return read_week(year, ind_slice_from(text, 1), zone, span);
    if (!read_number(&text, 2, &month) || text.length || month < 1 || month > 12)
        return false;
    *span = span_of(IND_REPORT_SPAN_MONTH, ind_days_from_civil((int)year, (int)month, 1) * DAY, 0, zone);
    return true;
}

/* "this month", "last week". */
static bool read_words(struct ind_slice text, ind_time now, const struct ind_zone *zone,
                       struct ind_report_span *span)
{
    static const struct {
        const char *word;
        enum ind_report_span_unit unit;
    } units[] = {
        {"week", IND_REPORT_SPAN_WEEK}, {"month", IND_REPORT_SPAN_MONTH}, {"year", IND_REPORT_SPAN_YEAR}};
    const bool last = ind_slice_starts_nocase(text, IND_SLICE("last "));
    if (!last && !ind_slice_starts_nocase(text, IND_SLICE("this ")))
        return false;
    for (size_t i = 0; i < sizeof units / sizeof *units; i++)
        if (ind_slice_equal_nocase(ind_slice_from(text, 5), ind_slice_of(units[i].word))) {
            *span = span_of(units[i].unit, local_of(now, zone), last ? -1 : 0, zone);
            return true;
        }
    return false;
}

bool ind_report_span_read(struct ind_slice text, ind_time now, const struct ind_zone *zone,
                          struct ind_report_span *span)
{
    if (read_year(text, zone, span) || read_words(text, now, zone, span))
        return true;
    *span = (struct ind_report_span){.unit = IND_REPORT_SPAN_DAY};
    /* What is no single moment is a day. */
    return ind_moment_read(text, now, zone, false, &span->since) &&
           ind_moment_read(text, now, zone, true, &span->until) && span->until > span->since;
}

/* ---- Others ---- */

struct ind_report_span ind_report_span_before(const struct ind_report_span *span, unsigned count,
                                              const struct ind_zone *zone)
{
    const int64_t length = (span->until - span->since) * (int64_t)count;
    if (span->unit == IND_REPORT_SPAN_FREE)
        return (struct ind_report_span){span->since - length, span->until - length, IND_REPORT_SPAN_FREE};
    return span_of(span->unit, local_of(span->since, zone), -(int64_t)count, zone);
}

struct ind_report_span ind_report_span_weeks_before(const struct ind_report_span *span, unsigned weeks,
                                                    const struct ind_zone *zone)
{
    const int64_t back = 7 * DAY * weeks;
    return (struct ind_report_span){time_of(local_of(span->since, zone) - back, zone),
                                    time_of(local_of(span->until, zone) - back, zone), span->unit};
}

bool ind_report_span_has_weekdays(const struct ind_report_span *span)
{
    return span->until - span->since <= (7 * DAY + 3600) * IND_SECOND; /* a clock may be put back in it */
}

/* ---- For people ---- */

static void write_day(struct ind_buffer *out, int64_t local)
{
    char text[32];
    struct ind_civil civil;
    ind_civil_from_seconds(local, &civil);
    snprintf(text, sizeof text, "%04d-%02d-%02d", (int)civil.year, (int)civil.month, (int)civil.day);
    ind_buffer_text(out, text);
}

static void write_moment(struct ind_buffer *out, int64_t local)
{
    char text[32];
    const int64_t day = local - (local % DAY + DAY) % DAY, second = local - day;
    write_day(out, local);
    snprintf(text, sizeof text, second % 60 ? " %02d:%02d:%02d" : " %02d:%02d", (int)(second / 3600),
             (int)(second / 60 % 60), (int)(second % 60));
    ind_buffer_text(out, text);
}

void ind_report_span_write(const struct ind_report_span *span, const struct ind_zone *zone,
                           struct ind_buffer *out)
{
    static const char *const weekdays[] = {"Monday", "Tuesday",  "Wednesday", "Thursday",
                                           "Friday", "Saturday", "Sunday"};
    const int64_t since = local_of(span->since, zone), until = local_of(span->until, zone);
    struct ind_civil civil;
    char text[40];
    ind_civil_from_seconds(since, &civil);
    switch (span->unit) {
    case IND_REPORT_SPAN_YEAR:
        snprintf(text, sizeof text, "%04d", (int)civil.year);
        ind_buffer_text(out, text);
        return;
    case IND_REPORT_SPAN_MONTH:
        snprintf(text, sizeof text, "%04d-%02d", (int)civil.year, (int)civil.month);
        ind_buffer_text(out, text);
        return;
    case IND_REPORT_SPAN_DAY:
        write_day(out, since);
        ind_buffer_text(out, ", ");
        ind_buffer_text(out, weekdays[civil.weekday]);
        return;
    case IND_REPORT_SPAN_WEEK:
        ind_buffer_text(out, "the week from ");
        write_day(out, since);
        ind_buffer_text(out, " to ");
        write_day(out, until - DAY);
        return;
    case IND_REPORT_SPAN_FREE:
        write_moment(out, since);
        ind_buffer_text(out, " to ");
        write_moment(out, until);
        return;
    }
}

void ind_report_moment_write(ind_time time, const struct ind_zone *zone, struct ind_buffer *out)
{
    write_moment(out, local_of(time, zone));
}
