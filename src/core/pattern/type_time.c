/* Times of day, dates and spans of time, as devices write them in their texts. */
#include "core/pattern/type_private.h"
#include "core/time/plain_stamp.h"

#define COUNT(array) (sizeof(array) / sizeof *(array))

/* ---- Times ---- */

static const char *scan_clock(const char *at, const char *end)
{
    unsigned bad = 0;
    if (end - at < 8 || at[2] != ':' || at[5] != ':')
        return NULL;
    int hour = ind_two_digits(at, &bad), minute = ind_two_digits(at + 3, &bad),
        second = ind_two_digits(at + 6, &bad);
    if (bad || hour > 24 || minute > 59 || second > 60)
        return NULL;
    at += 8;
    if (end - at > 1 && (*at == '.' || *at == ',') && ind_is_digit(at[1]))
        at = ind_scan_run(at + 1, end, IND_TYPE_DIGIT);
    return at;
}

/* "Z", "+01:00", "-0330", " UTC", " GMT" behind a clock; `at` where there is none. */
static const char *scan_offset(const char *at, const char *end)
{
    if (ind_scan_next_is(at, end, 'Z'))
        return at + 1;
    const char *sign = ind_scan_next_is(at, end, ' ') ? at + 1 : at;
    if (end - sign >= 5 && (*sign == '+' || *sign == '-')) {
        unsigned bad = 0;
        (void)ind_two_digits(sign + 1, &bad);
        const char *minutes = sign + 3 + (sign[3] == ':');
        if (!bad && end - minutes >= 2 && (ind_two_digits(minutes, &bad), !bad))
            return minutes + 2;
    }
    if (end - at >= 4 && (memcmp(at, " UTC", 4) == 0 || memcmp(at, " GMT", 4) == 0))
        return at + 4;
    return at;
}

/* "2026-11-23", "2026/11/23". */
static const char *scan_iso_date(const char *at, const char *end)
{
    unsigned bad = 0;
    if (end - at < 10 || (at[4] != '-' && at[4] != '/') || at[7] != at[4])
        return NULL;
    (void)ind_two_digits(at, &bad);
    (void)ind_two_digits(at + 2, &bad);
    int month = ind_two_digits(at + 5, &bad), day = ind_two_digits(at + 8, &bad);
    return bad || month < 1 || month > 12 || day < 1 || day > 31 ? NULL : at + 10;
}

/* " 2026": a year; `at` where there is none. */
static const char *scan_year(const char *at, const char *end)
{
    const char *stop = ind_scan_next_is(at, end, ' ') ? ind_scan_digits(at + 1, end, 4, 4) : NULL;
    return stop && (at[1] == '1' || at[1] == '2') ? stop : at;
}

/* "Nov 23", "Nov  3", "23 Nov", a weekday before it. */
static const char *scan_named_date(const char *at, const char *end)
{
    static const char days[] = "MonTueWedThuFriSatSun";
    for (int i = 0; end - at > 4 && i < 7; i++)
        if (memcmp(at, days + 3 * i, 3) == 0) {
            at += 3 + (at[3] == ',');
            at += ind_scan_next_is(at, end, ' ');
            break;
        }
    bool month_first = end - at >= 5 && ind_month_of(at) && at[3] == ' ';
    if (month_first)
        at += 4 + (at[4] == ' ');
    const char *stop = ind_scan_digits(at, end, 1, 2);
    if (!stop || month_first)
        return stop;
    return end - stop >= 4 && *stop == ' ' && ind_month_of(stop + 1) ? stop + 4 : NULL;
}

/* A clock, a date in figures, or both; a date with a month's name needs a clock or a year. */
const char *ind_scan_time(const char *at, const char *end)
{
    const char *stop = scan_clock(at, end), *date;
    if (stop)
        return scan_offset(stop, end);
    bool figures = (date = scan_iso_date(at, end)) != NULL;
    if (!figures && (at == end || !(date = scan_named_date(at, end))))
        return NULL;
    const char *year = figures ? date : scan_year(date + ind_scan_next_is(date, end, ','), end);
    bool has_year = year > date + 1;
    date = has_year ? year : date;
    const char *clock = date + ind_scan_next_is(date, end, ',');
    if (clock < end && (*clock == ' ' || *clock == 'T'))
        clock = scan_clock(clock + 1, end);
    else
        clock = NULL;
    if (!clock)
        return figures || has_year ? date : NULL;
    clock = scan_offset(clock, end);
    return has_year || figures ? clock : scan_year(clock, end);
}

/* ---- Durations ---- */

/* Letters that are a unit: s m h d w y; and with an s behind them: n u m. */
#define LETTER(c) (1u << ((c) - 'a'))
#define SHORT_UNITS (LETTER('s') | LETTER('m') | LETTER('h') | LETTER('d') | LETTER('w') | LETTER('y'))
#define SECONDS_OF (LETTER('n') | LETTER('u') | LETTER('m'))

/* Behind the unit at `at`, or NULL. */
static const char *scan_unit(const char *at, const char *end)
{
    static const struct ind_slice units[] = {
        {"hr", 2},    {"sec", 3},   {"min", 3},    {"hrs", 3},    {"day", 3},     {"secs", 4},   {"mins", 4},
        {"hour", 4},  {"days", 4},  {"week", 4},   {"year", 4},   {"msec", 4},    {"hours", 5},  {"weeks", 5},
        {"years", 5}, {"msecs", 5}, {"second", 6}, {"minute", 6}, {"seconds", 7}, {"minutes", 7}};
    const char *stop = at;
    while (stop < end && stop - at < 8 && ind_is_alpha(*stop))
        stop++;
    struct ind_slice unit = {at, (size_t)(stop - at)};
    if (unit.length == 1)
        return SHORT_UNITS >> (ind_lower(*at) - 'a') & 1 ? stop : NULL;
    if (unit.length == 2 && ind_lower(at[1]) == 's' && (SECONDS_OF >> (ind_lower(*at) - 'a') & 1))
        return stop;
    for (size_t i = 0; i < COUNT(units) && unit.length; i++)
        if (ind_slice_equal_nocase(unit, units[i]))
            return stop;
    return NULL;
}

/* "0:01:09", "04:45", "00:05:12.5"; `minutes` is behind the first figures and its colon. */
static const char *scan_duration_clock(const char *minutes, const char *end)
{
    const char *stop = ind_scan_digits(minutes, end, 2, 2), *next;
    if (stop && ind_scan_next_is(stop, end, ':') && (next = ind_scan_digits(stop + 1, end, 2, 2)) != NULL)
        stop = next;
    if (stop && end - stop > 1 && *stop == '.' && ind_is_digit(stop[1]))
        stop = ind_scan_run(stop + 1, end, IND_TYPE_DIGIT);
    return stop;
}

static const char *scan_duration_part(const char *at, const char *end)
{
    const char *stop = ind_scan_digits(at, end, 1, IND_LONGEST_NUMBER), *clock;
    if (!stop)
        return NULL;
    if (ind_scan_next_is(stop, end, ':') && (clock = scan_duration_clock(stop + 1, end)) != NULL)
        return clock;
    if (end - stop > 1 && *stop == '.' && ind_is_digit(stop[1]))
        stop = ind_scan_run(stop + 1, end, IND_TYPE_DIGIT);
    return scan_unit(stop + ind_scan_next_is(stop, end, ' '), end);
}

/* "3d04h", "1h2m3s", "00:05:12", "35ms", "5 minutes", "2 days, 3:04:05". */
const char *ind_scan_duration(const char *at, const char *end)
{
    const char *stop = scan_duration_part(at, end), *next = stop;
    for (int parts = 1; next && parts < 8; parts++) {
        stop = next;
        next += ind_scan_next_is(next, end, ',');
        next += ind_scan_next_is(next, end, ' ');
        next = scan_duration_part(next, end);
    }
    return stop;
}
