#include "core/message/stamp.h"

#include "core/time/plain_stamp.h"

/* ---- The parts of the other forms. Each returns where it ends, or NULL where it is not there. ---- */

struct parts {
    int year, month, day, of_day; /* year 0: none */
    int64_t fraction;             /* ns */
    bool fixed;                   /* `offset` is known */
    int32_t offset;
};

static bool ends_word(const char *at, const char *end)
{
    return at == end || *at == ' ' || *at == ':';
}

static const char *read_year(const char *at, const char *end, struct parts *parts)
{
    unsigned bad = 0;
    if (end - at < 5 || at[4] != ' ')
        bad = !(end - at >= 4 && ends_word(at + 4, end));
    if (bad)
        return NULL;
    int year = ind_two_digits(at, &bad) * 100 + ind_two_digits(at + 2, &bad);
    if (bad || year < 1970 || year > 2260)
        return NULL;
    parts->year = year;
    return at + 4;
}

static const char *skip_weekday(const char *at, const char *end)
{
    static const char names[] = "MonTueWedThuFriSatSun";
    if (end - at > 4 && (at[3] == ' ' || (at[3] == ',' && at[4] == ' ')))
        for (int i = 0; i < 7; i++)
            if (memcmp(at, names + 3 * i, 3) == 0)
                return at + (at[3] == ' ' ? 4 : 5);
    return at;
}

/* "Nov 23", "Nov  3", "Nov 3", and the space behind it. */
static const char *read_day(const char *at, const char *end, struct parts *parts)
{
    if (end - at < 6 || at[3] != ' ')
        return NULL;
    parts->month = ind_month_of(at);
    at += at[4] == ' ' ? 5 : 4;
    if (parts->month == 0 || !ind_is_digit(*at))
        return NULL;
    parts->day = *at++ - '0';
    if (at < end && ind_is_digit(*at))
        parts->day = parts->day * 10 + (*at++ - '0');
    return at < end && *at == ' ' && parts->day >= 1 ? at + 1 : NULL;
}

/* A fraction of one to nine digits behind a point or a comma; without one, `at` itself. */
static const char *read_fraction(const char *at, const char *end, struct parts *parts)
{
    if (end - at < 2 || (*at != '.' && *at != ',') || !ind_is_digit(at[1]))
        return at;
    const int milliseconds = end - at > 4 ? ind_three_digits(at + 1) : -1; /* the commonest */
    if (milliseconds >= 0) {
        parts->fraction = milliseconds * (IND_SECOND / 1000);
        return at + 4;
    }
    int64_t scale = IND_SECOND;
    for (at++; at < end && ind_is_digit(*at); at++) {
        if (scale == 1)
            return NULL;
        scale /= 10;
        parts->fraction += (*at - '0') * scale;
    }
    return at;
}

/* "04:45:00", with a fraction or without. */
static const char *read_clock(const char *at, const char *end, struct parts *parts)
{
    unsigned bad = 0;
    if (end - at < 8)
        return NULL;
    parts->of_day = ind_clock_of(at, &bad);
    if (bad)
        return NULL;
    return read_fraction(at + 8, end, parts);
}

/* Names of zones that no host has, but for those that mean UTC. */
static bool is_zone_name(struct ind_slice word)
{
    static const char names[][5] = {"EST",  "EDT", "CST",  "CDT",  "MST",  "MDT",  "PST",  "PDT",  "AKST",
                                    "AKDT", "HST", "AST",  "ADT",  "WET",  "WEST", "CET",  "CEST", "MET",
                                    "MEST", "EET", "EEST", "BST",  "IST",  "MSK",  "HKT",  "SGT",  "AWST",
                                    "JST",  "KST", "ACST", "ACDT", "AEST", "AEDT", "NZST", "NZDT", "SAST"};
    for (size_t i = 0; i < sizeof names / sizeof *names; i++)
        if (word.length <= 4 && memcmp(names[i], word.at, word.length) == 0 && names[i][word.length] == '\0')
            return true;
    return false;
}

/* "+01:00", "-0330", "+01" up to the end of the word; behind a zone's name `brief` ones ("+1", "+5:30") too.
 */
static const char *read_offset(const char *at, const char *end, bool brief, struct parts *parts)
{
    const char *stop = at + 1;
    while (stop < end && stop - at < 7 && (ind_is_digit(*stop) || *stop == ':'))
        stop++;
    while (stop > at && stop[-1] == ':')
        stop--; /* "+0100: text": the colon ends the time */
    if (stop - at < (brief ? 2 : 3) || (!brief && stop - at == 5 && at[2] == ':') || !ends_word(stop, end) ||
        !ind_zone_read_offset((struct ind_slice){at, (size_t)(stop - at)}, &parts->offset))
        return NULL;
    parts->fixed = true;
    return stop;
}

/* A zone's name or an offset. In front of a colon any word of two to five capitals is one: no host stands
 * there. */
static const char *read_zone(const char *at, const char *end, struct parts *parts)
{
    if (at < end && (*at == '+' || *at == '-'))
        return read_offset(at, end, false, parts);
    const char *stop = at;
    while (stop < end && stop - at < 6 && *stop >= 'A' && *stop <= 'Z')
        stop++;
    struct ind_slice name = {at, (size_t)(stop - at)};
    bool utc = ind_slice_equal(name, IND_SLICE("UTC")) || ind_slice_equal(name, IND_SLICE("GMT")) ||
               ind_slice_equal(name, IND_SLICE("Z"));
    if (stop < end && (*stop == '+' || *stop == '-') && (utc || (name.length && is_zone_name(name))))
        return read_offset(stop, end, true, parts); /* "UTC+1" */
    if (name.length == 0 || name.length > 5 || !ends_word(stop, end))
        return NULL;
    bool closed = stop < end && *stop == ':' && (stop + 1 == end || stop[1] == ' ');
    if (!utc && !(closed && name.length >= 2) && !is_zone_name(name))
        return NULL;
    parts->fixed = utc;
    parts->offset = 0;
    return stop;
}

/* " AM", " PM" behind an hour of that half, of twelve or of twenty-four. */
static const char *read_half_day(const char *at, const char *end, struct parts *parts)
{
    const int hour = parts->of_day / 3600;
    if (end - at < 3 || *at != ' ' || ind_lower(at[2]) != 'm' || !ends_word(at + 3, end))
        return at;
    const char half = ind_lower(at[1]);
    if ((half != 'a' && half != 'p') || (at[1] == half) != (at[2] == 'm'))
        return at;
    if (half == 'p' ? hour == 0 : hour > 12)
        return at;  /* no such hour */
    if (hour <= 12) /* "13:01:13 PM" says it twice */
        parts->of_day += ((half == 'p') - (hour == 12)) * 12 * 3600;
    return at + 3;
}

/* " (UTC)" behind an offset: RFC 5322 section 3.3 calls it a comment. `at` itself where there is none. */
static const char *skip_comment(const char *at, const char *end)
{
    const char *stop = at + 2;
    while (stop < end && stop - at < 8 && *stop >= 'A' && *stop <= 'Z')
        stop++;
    return stop > at + 3 && stop < end && *stop == ')' && ends_word(stop + 1, end) ? stop + 1 : at;
}

/* What may follow the clock: a half of the day; then, in any order, a year, a zone. */
static const char *read_end(const char *at, const char *end, struct parts *parts)
{
    at = read_half_day(at, end, parts);
    if (at < end && (*at == 'Z' || *at == '+' || *at == '-')) {
        const char *zone = read_zone(at, end, parts);
        at = zone ? zone : at;
    }
    for (int i = 0; i < 2 && at < end && *at == ' '; i++) {
        if (parts->fixed && end - at > 3 && at[1] == '(')
            return skip_comment(at, end);
        bool digit = end - at > 1 && ind_is_digit(at[1]);
        const char *next = !digit        ? read_zone(at + 1, end, parts)
                           : parts->year ? NULL
                                         : read_year(at + 1, end, parts);
        if (!next)
            break;
        at = next;
    }
    return at;
}

static ind_time instant_of(const struct parts *parts, ind_time reference, const struct ind_zone *zone)
{
    int64_t seconds;
    if (parts->year) {
        seconds =
            ind_days_from_civil(parts->year, parts->month, parts->day) * IND_DAY_SECONDS + parts->of_day;
        seconds = parts->fixed ? seconds - parts->offset : ind_zone_to_utc(zone, seconds);
    } else if (parts->fixed) {
        /* Settled on the clock of that offset. */
        ind_time there = reference + parts->offset * IND_SECOND;
        seconds = ind_settle_year(parts->month, parts->day, parts->of_day, there, NULL) - parts->offset;
    } else {
        seconds = ind_settle_year(parts->month, parts->day, parts->of_day, reference, zone);
    }
    return seconds * IND_SECOND + parts->fraction;
}

/* "2026-11-23T04:45:00Z", and a zone's name where there is no offset. */
static const char *read_new(const char *at, const char *end, const struct ind_zone *zone, ind_time *sent)
{
    struct parts parts = {0};
    enum ind_time_style style;
    size_t used = ind_stamp_read_new(at, end, zone, sent, &style);
    if (used == 0)
        return NULL;
    const char *behind = style == IND_TIME_LOCAL ? read_end(at + used, end, &parts) : at + used;
    if (parts.fixed) { /* read again, without the zone */
        (void)ind_time_read((struct ind_slice){at, used}, sent, &style);
        *sent -= parts.offset * IND_SECOND;
    }
    return ends_word(behind, end) ? behind : NULL;
}

/* "2026/11/23 04:45:00", "2026.11.23 04:45:00", "23.11.2026 04:45:00", "23-Nov-2026 04:45:00", "23 Nov 2026
 * 04:45:00" and, as RFC 5322 section 3.3 has it, with a weekday in front, the seconds left out, or (with RFC
 * 2822's older clocks) without a year. */
static const char *read_program_date(const char *at, const char *end, struct parts *parts)
{
    unsigned bad = 0;
    if (end - at > 18 && (at[4] == '/' || at[4] == '.') && at[7] == at[4] && at[10] == ' ') {
        parts->year = ind_two_digits(at, &bad) * 100 + ind_two_digits(at + 2, &bad);
        parts->month = ind_two_digits(at + 5, &bad);
        parts->day = ind_two_digits(at + 8, &bad);
        at += 11;
    } else if (end - at > 18 && at[2] == '.' && at[5] == '.' && at[10] == ' ') {
        parts->day = ind_two_digits(at, &bad);
        parts->month = ind_two_digits(at + 3, &bad);
        parts->year = ind_two_digits(at + 6, &bad) * 100 + ind_two_digits(at + 8, &bad);
        at += 11;
    } else {
        const char *month = end - at > 10 && (at[1] == ' ' || at[1] == '-')   ? at + 2
                            : end - at > 11 && (at[2] == ' ' || at[2] == '-') ? at + 3
                                                                              : NULL;
        if (!month || !ind_is_digit(*at) || (month == at + 3 && !ind_is_digit(at[1])) ||
            month[3] != month[-1])
            return NULL;
        parts->day = month == at + 2 ? *at - '0' : (at[0] - '0') * 10 + (at[1] - '0');
        parts->month = ind_month_of(month);
        const char *behind = read_year(month + 4, end, parts);
        if (month[3] == '-' ? !behind || behind == end || *behind != ' '
                            : behind && (behind == end || *behind != ' '))
            return NULL;
        at = behind ? behind + 1 : month + 4;
    }
    if (bad || parts->month < 1 || parts->month > 12 || parts->day < 1 || parts->day > 31 ||
        (parts->year && (parts->year < 1970 || parts->year > 2260)))
        return NULL;
    const char *behind = read_clock(at, end, parts);
    if (behind || !parts->year || end - at < 5 || at[2] != ':' || !ends_word(at + 5, end))
        return behind;
    const int hour = ind_two_digits(at, &bad), minute = ind_two_digits(at + 3, &bad);
    parts->of_day = hour * 3600 + minute * 60;
    return bad || hour > 23 || minute > 59 ? NULL : at + 5;
}

/* "1795409100.123456": seconds since 1970 with a fraction, ten digits before the point. */
static const char *read_seconds(const char *at, const char *end, ind_time *sent)
{
    struct parts parts = {0};
    int64_t seconds = 0;
    if (end - at < 12 || at[10] != '.')
        return NULL;
    for (int i = 0; i < 10; i++) {
        if (!ind_is_digit(at[i]))
            return NULL;
        seconds = seconds * 10 + (at[i] - '0');
    }
    const char *stop = read_fraction(at + 10, end, &parts);
    if (*at == '0' || !stop || stop == at + 10 || (stop < end && *stop != ' ') ||
        seconds >= INT64_MAX / IND_SECOND) /* from the year 2262 on */
        return NULL;
    *sent = seconds * IND_SECOND + parts.fraction;
    return stop;
}

/* Month, day, clock, and a year wherever it stands. */
static const char *read_date(const char *at, const char *end, struct parts *parts)
{
    if (ind_is_digit(*at)) {
        at = read_year(at, end, parts);
        if (!at || at == end || *at++ != ' ')
            return NULL;
    } else {
        if (end - at >= 15 && ind_stamp_fields(at, &parts->month, &parts->day, &parts->of_day))
            return read_fraction(at + 15, end, parts);
        at = end - at > 3 && ind_month_of(at) ? at : skip_weekday(at, end);
        if (at < end && ind_is_digit(*at))
            return read_program_date(at, end, parts);
    }
    at = read_day(at, end, parts);
    if (!at)
        return NULL;
    if (!parts->year && end - at > 5 && at[4] == ' ') {
        const char *behind = read_year(at, end, parts);
        at = behind ? behind + 1 : at;
    }
    return read_clock(at, end, parts);
}

static const char *read_written(const char *at, const char *end, ind_time reference,
                                const struct ind_zone *zone, struct ind_stamp *stamp)
{
    if (end - at > 10 && ind_is_digit(*at) && at[4] == '-')
        return read_new(at, end, zone, &stamp->sent);
    const char *start = at, *seconds = ind_is_digit(*at) ? read_seconds(at, end, &stamp->sent) : NULL;
    if (seconds)
        return seconds;
    struct parts parts = {0};
    at = read_date(start, end, &parts);
    if (!at && ind_is_digit(*start)) {
        parts = (struct parts){0};
        at = read_program_date(start, end, &parts);
        stamp->of_program = at != NULL;
    }
    if (!at)
        return NULL;
    stamp->of_program |= start[3] == ',';
    at = read_end(at, end, &parts);
    if (!ends_word(at, end) ||
        (parts.day > 28 && parts.day > ind_days_in_month(parts.year ? parts.year : 2000, parts.month)))
        return NULL;
    stamp->sent = instant_of(&parts, reference, zone);
    return at;
}

/* The time since the device was started: "00:04:10", "1d02h", "7w3d", "2y15w", "5d". A colon and a space
 * follow. */
static const char *skip_uptime(const char *at, const char *end)
{
    const char *p = at;
    int units = 0;
    if (end - at > 8 && at[2] == ':' && at[5] == ':') {
        unsigned bad = 0;
        (void)ind_two_digits(at, &bad);
        (void)ind_two_digits(at + 3, &bad);
        (void)ind_two_digits(at + 6, &bad);
        p = bad ? at : at + 8;
    } else {
        while (p < end && p - at < 12 && ind_is_digit(*p)) {
            while (p < end && p - at < 12 && ind_is_digit(*p))
                p++;
            if (p == end || !strchr("ywdh", *p) || *p == '\0')
                return NULL;
            p++;
            units++;
        }
        if (units > 3)
            return NULL;
    }
    return p > at && end - p > 1 && p[0] == ':' && p[1] == ' ' ? p : NULL;
}

static bool is_unit(char c)
{
    return c == 'y' || c == 'w' || c == 'd' || c == 'h';
}

bool ind_stamp_may_begin(const char *at, const char *end)
{
    at += at < end && (*at == '*' || *at == '.');
    if (end - at < 8)
        return false;
    if (*at >= 'A' && *at <= 'W')
        return at[3] == ' ' || at[3] == ',';
    if (!ind_is_digit(*at))
        return false;
    return at[4] == '-' || (at[4] == ' ' && ind_is_digit(at[3])) || (at[2] == ':' && at[5] == ':') ||
           is_unit(at[1]) || is_unit(at[2]) || at[4] == '/' || (at[2] == '.' && at[5] == '.') ||
           ((at[1] == ' ' || at[1] == '-') && ind_is_alpha(at[2])) ||
           ((at[2] == ' ' || at[2] == '-') && ind_is_alpha(at[3])) || (at[4] == '.' && at[7] == '.') ||
           (end - at > 11 && at[10] == '.');
}

size_t ind_stamp_read(const char *at, const char *end, ind_time reference, const struct ind_zone *zone,
                      struct ind_stamp *stamp)
{
    const char *start = at;
    if (!ind_stamp_may_begin(at, end))
        return 0;
    stamp->mark = *at == '*' ? IND_MARK_NOT_SET : *at == '.' ? IND_MARK_NOT_SYNCHRONISED : IND_MARK_NONE;
    at += stamp->mark != IND_MARK_NONE;
    stamp->of_program = false;
    const char *stop = read_written(at, end, reference, zone, stamp);
    if (!stop && ind_is_digit(*at)) {
        stop = skip_uptime(at, end);
        stamp->sent = IND_TIME_NONE;
        stamp->mark = IND_MARK_UPTIME;
    }
    if (!stop)
        return 0;
    stamp->marked = (struct ind_slice){start, (size_t)(stop - start)};
    return stamp->marked.length;
}
