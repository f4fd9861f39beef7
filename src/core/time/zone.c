/* Offsets are kept as a sorted list of changes; the rule that goes on forever is written out into the same
 * list, so that a look-up is one binary search whatever the year. */
#include "core/time/zone.h"

#include <stdlib.h>

struct change {
    int64_t at;     /* first second, UTC, at which `offset` holds */
    int32_t offset; /* seconds east of UTC */
};

/* Years 1970 to 2200 in stretches of about 12 days, each with the number of changes before it. Most hold no
 * change: there a look-up is done at once, and elsewhere after a step. */
enum { STRETCH_BITS = 20, STRETCHES = (int)(INT64_C(231) * 31556952 >> STRETCH_BITS) };

struct ind_zone {
    int32_t before; /* offset before the first change */
    uint16_t changes_before[STRETCHES + 1];
    int32_t all_over[STRETCHES]; /* the offset of a stretch with no change in it, nor within a day of it */
    size_t count;
    struct change changes[];
};

#define CHANGES_THERE INT32_MIN /* in place of an offset */

enum { LAST_YEAR = 2200, RULE_CHANGES = 2 * (LAST_YEAR - 1970 + 1) };

static struct ind_zone *zone_new(size_t room)
{
    struct ind_zone *zone = malloc(sizeof *zone + room * sizeof zone->changes[0]);
    if (zone) {
        zone->before = 0;
        zone->count = 0;
    }
    return zone;
}

struct ind_zone *ind_zone_fixed(int32_t offset)
{
    struct ind_zone *zone = zone_new(0);
    if (zone)
        zone->before = offset;
    return zone;
}

void ind_zone_free(struct ind_zone *zone)
{
    free(zone);
}

bool ind_zone_read_offset(struct ind_slice text, int32_t *offset)
{
    *offset = 0;
    if (ind_slice_equal_nocase(text, IND_SLICE("utc")) || ind_slice_equal_nocase(text, IND_SLICE("z")))
        return true;
    if (text.length < 2 || (text.at[0] != '+' && text.at[0] != '-'))
        return false;
    int digits[4] = {0}, count = 0;
    const bool brief = text.length == 2 || (text.length == 5 && text.at[2] == ':'); /* "+5", "+5:30" */
    count = brief;
    for (size_t i = 1; i < text.length; i++) {
        if (text.at[i] == ':' && count == 2 && (text.length == 6 || brief))
            continue;
        if (!ind_is_digit(text.at[i]) || count == 4)
            return false;
        digits[count++] = text.at[i] - '0';
    }
    int hours = digits[0] * 10 + digits[1], minutes = digits[2] * 10 + digits[3];
    if (count == 1 || count == 3 || hours > 15 || minutes > 59)
        return false;
    *offset = (hours * 3600 + minutes * 60) * (text.at[0] == '-' ? -1 : 1);
    return true;
}

/* The rule at the end of a TZif file: a POSIX TZ string, read with a cursor that sticks at the first mistake.
 */
struct rule_date {
    char kind; /* 'J': 1 to 365 without 29 February, 'N': 0 to 365, 'M': month, week, weekday (0 is Sunday) */
    int day, month, week;
    int32_t time;
};

struct rule {
    int32_t standard, daylight;
    bool has_daylight;
    struct rule_date start, end;
};

struct cursor {
    const char *at, *end;
    bool bad;
};

static bool accept_byte(struct cursor *cursor, char c)
{
    if (cursor->at == cursor->end || *cursor->at != c)
        return false;
    cursor->at++;
    return true;
}

static int number(struct cursor *cursor, int limit)
{
    int value = 0;
    const char *start = cursor->at;
    while (cursor->at < cursor->end && ind_is_digit(*cursor->at) && value <= limit)
        value = value * 10 + (*cursor->at++ - '0');
    if (cursor->at == start || value > limit)
        cursor->bad = true;
    return value;
}

static void name(struct cursor *cursor)
{
    const char *start = cursor->at;
    if (accept_byte(cursor, '<')) {
        while (cursor->at < cursor->end && *cursor->at != '>')
            cursor->at++;
        cursor->bad |= !accept_byte(cursor, '>');
        return;
    }
    while (cursor->at < cursor->end && ind_is_alpha(*cursor->at))
        cursor->at++;
    cursor->bad |= cursor->at - start < 3;
}

static int32_t hms(struct cursor *cursor)
{
    int sign = accept_byte(cursor, '-') ? -1 : 1;
    if (sign == 1)
        (void)accept_byte(cursor, '+');
    int seconds = number(cursor, 167) * 3600;
    if (accept_byte(cursor, ':'))
        seconds += number(cursor, 59) * 60;
    if (accept_byte(cursor, ':'))
        seconds += number(cursor, 59);
    return sign * seconds;
}

static void rule_date(struct cursor *cursor, struct rule_date *date)
{
    if (accept_byte(cursor, 'M')) {
        date->kind = 'M';
        date->month = number(cursor, 12);
        cursor->bad |= !accept_byte(cursor, '.');
        date->week = number(cursor, 5);
        cursor->bad |= !accept_byte(cursor, '.');
        date->day = number(cursor, 6);
        cursor->bad |= date->month == 0 || date->week == 0;
    } else {
        date->kind = accept_byte(cursor, 'J') ? 'J' : 'N';
        date->day = number(cursor, 365);
    }
    date->time = accept_byte(cursor, '/') ? hms(cursor) : 7200;
}

static bool read_rule(const char *at, size_t length, struct rule *rule)
{
    struct cursor cursor = {at, at + length, false};
    *rule = (struct rule){0};
    name(&cursor);
    rule->standard = -hms(&cursor);
    if (cursor.at < cursor.end) {
        rule->has_daylight = true;
        name(&cursor);
        bool own = cursor.at < cursor.end && *cursor.at != ',';
        rule->daylight = own ? -hms(&cursor) : rule->standard + 3600;
        cursor.bad |= !accept_byte(&cursor, ',');
        rule_date(&cursor, &rule->start);
        cursor.bad |= !accept_byte(&cursor, ',');
        rule_date(&cursor, &rule->end);
    }
    return !cursor.bad && cursor.at == cursor.end;
}

/* Seconds since 1970 on the clock on the wall. */
static int64_t rule_moment(const struct rule_date *date, int year)
{
    int64_t days = ind_days_from_civil(year, 1, 1);
    if (date->kind == 'N') {
        days += date->day;
    } else if (date->kind == 'J') {
        days += date->day - 1 + (ind_is_leap_year(year) && date->day >= 60);
    } else {
        days = ind_days_from_civil(year, date->month, 1);
        int first = (int)(((days + 4) % 7 + 7) % 7); /* weekday of the first, 0 is Sunday */
        int day = (date->day - first + 7) % 7 + (date->week - 1) * 7;
        while (day >= ind_days_in_month(year, date->month))
            day -= 7;
        days += day;
    }
    return days * IND_DAY_SECONDS + date->time;
}

static void add_change(struct ind_zone *zone, int64_t at, int32_t offset)
{
    if (zone->count > 0 && at <= zone->changes[zone->count - 1].at)
        return;
    zone->changes[zone->count++] = (struct change){at, offset};
}

static void write_out(struct ind_zone *zone, const struct rule *rule)
{
    if (!rule->has_daylight) {
        if (zone->count == 0)
            zone->before = rule->standard;
        return;
    }
    for (int year = 1970; year <= LAST_YEAR; year++) {
        struct change on = {rule_moment(&rule->start, year) - rule->standard, rule->daylight};
        struct change off = {rule_moment(&rule->end, year) - rule->daylight, rule->standard};
        bool north = on.at < off.at;
        struct change first = north ? on : off, second = north ? off : on;
        add_change(zone, first.at, first.offset);
        add_change(zone, second.at, second.offset);
    }
}

static int64_t big_endian(const unsigned char *at, int bytes)
{
    uint64_t value = (at[0] & 0x80) ? UINT64_MAX : 0;
    for (int i = 0; i < bytes; i++)
        value = value << 8 | at[i];
    return (int64_t)value;
}

/* RFC 8536 section 3.1: the counts of the header, in their order there. */
struct counts {
    size_t isut, isstd, leap, time, type, chars;
};

enum { HEADER = 44 };

static bool read_counts(const unsigned char *at, size_t length, struct counts *counts)
{
    if (length < HEADER || memcmp(at, "TZif", 4) != 0)
        return false;
    size_t values[6];
    for (int i = 0; i < 6; i++) {
        int64_t value = big_endian(at + 20 + 4 * i, 4);
        if (value < 0 || value > 50000)
            return false;
        values[i] = (size_t)value;
    }
    *counts = (struct counts){values[0], values[1], values[2], values[3], values[4], values[5]};
    return counts->type > 0 && counts->type <= 256;
}

static size_t body_length(const struct counts *counts, size_t width)
{
    return counts->time * (width + 1) + counts->type * 6 + counts->chars + counts->leap * (width + 4) +
           counts->isstd + counts->isut;
}

static bool read_changes(struct ind_zone *zone, const unsigned char *body, const struct counts *counts,
                         int width)
{
    const unsigned char *indices = body + counts->time * (size_t)width;
    const unsigned char *types = indices + counts->time;
    zone->before = (int32_t)big_endian(types, 4);
    for (size_t i = 0; i < counts->time; i++) {
        if (indices[i] >= counts->type)
            return false;
        add_change(zone, big_endian(body + i * (size_t)width, width),
                   (int32_t)big_endian(types + (size_t)indices[i] * 6, 4));
    }
    return true;
}

static size_t search_changes(const struct ind_zone *zone, int64_t seconds)
{
    size_t low = 0, high = zone->count;
    while (low < high) {
        size_t middle = (low + high) / 2;
        if (zone->changes[middle].at <= seconds)
            low = middle + 1;
        else
            high = middle;
    }
    return low;
}

static int32_t offset_after(const struct ind_zone *zone, size_t changes)
{
    return changes == 0 ? zone->before : zone->changes[changes - 1].offset;
}

/* How many changes are at or before `seconds`, of which `known` are known to be. */
static size_t changes_up_to(const struct ind_zone *zone, size_t known, int64_t seconds)
{
    while (known < zone->count && zone->changes[known].at <= seconds)
        known++;
    return known;
}

static void make_stretches(struct ind_zone *zone)
{
    size_t here = 0, day_before = 0, day_after = 0;
    for (int i = 0; i <= STRETCHES; i++) {
        const int64_t begin = (int64_t)i << STRETCH_BITS, end = (int64_t)(i + 1) << STRETCH_BITS;
        here = changes_up_to(zone, here, begin);
        zone->changes_before[i] = (uint16_t)here;
        if (i == STRETCHES)
            break;
        day_before = changes_up_to(zone, day_before, begin - IND_DAY_SECONDS);
        day_after = changes_up_to(zone, day_after, end + IND_DAY_SECONDS);
        zone->all_over[i] = day_before == day_after ? offset_after(zone, day_before) : CHANGES_THERE;
    }
}

struct ind_zone *ind_zone_read(const unsigned char *bytes, size_t length)
{
    struct counts counts;
    if (!read_counts(bytes, length, &counts))
        return NULL;
    size_t width = 4, start = HEADER;
    if (bytes[4] >= '2') {
        start += body_length(&counts, 4);
        if (start > length || !read_counts(bytes + start, length - start, &counts))
            return NULL;
        start += HEADER;
        width = 8;
    }
    size_t body = body_length(&counts, width);
    if (body > length - start)
        return NULL;
    struct ind_zone *zone = zone_new(counts.time + RULE_CHANGES);
    if (!zone || !read_changes(zone, bytes + start, &counts, (int)width)) {
        free(zone);
        return NULL;
    }
    const char *footer = (const char *)bytes + start + body;
    size_t rest = length - start - body;
    const char *end = width == 8 && rest > 1 && footer[0] == '\n' ? memchr(footer + 1, '\n', rest - 1) : NULL;
    struct rule rule;
    if (end && read_rule(footer + 1, (size_t)(end - footer - 1), &rule))
        write_out(zone, &rule);
    make_stretches(zone);
    return zone;
}

/* The number of changes at or before `seconds`. */
static size_t changes_before(const struct ind_zone *zone, int64_t seconds)
{
    if (seconds < 0 || seconds >> STRETCH_BITS >= STRETCHES)
        return search_changes(zone, seconds);
    return changes_up_to(zone, zone->changes_before[seconds >> STRETCH_BITS], seconds);
}

int32_t ind_zone_offset(const struct ind_zone *zone, int64_t seconds)
{
    return zone->count == 0 ? zone->before : offset_after(zone, changes_before(zone, seconds));
}

int64_t ind_zone_to_utc(const struct ind_zone *zone, int64_t local)
{
    if (zone->count == 0)
        return local - zone->before;
    /* No offset is beyond a day. */
    const uint64_t stretch = (uint64_t)local >> STRETCH_BITS;
    if (stretch < STRETCHES && zone->all_over[stretch] != CHANGES_THERE)
        return local - zone->all_over[stretch];
    /* From the first change that could matter, take the first stretch that shows `local`. */
    size_t i = changes_before(zone, local - IND_DAY_SECONDS);
    for (;; i++) {
        int64_t utc = local - offset_after(zone, i);
        if (i == zone->count || utc < zone->changes[i].at)
            return i > 0 && utc < zone->changes[i - 1].at ? zone->changes[i - 1].at : utc;
    }
}

void ind_zone_civil(const struct ind_zone *zone, ind_time time, struct ind_civil *civil)
{
    int64_t seconds = ind_time_seconds(time);
    ind_civil_from_seconds(seconds + ind_zone_offset(zone, seconds), civil);
}

void ind_zone_write_time(const struct ind_zone *zone, ind_time time, struct ind_buffer *buffer)
{
    if (!zone) {
        ind_time_write(buffer, time);
        return;
    }
    if (!ind_buffer_room(buffer, IND_TIME_WIDTH_MOST))
        return;
    int32_t offset = ind_zone_offset(zone, ind_time_seconds(time));
    unsigned minutes = ((unsigned)(offset < 0 ? -offset : offset) + 30) / 60;
    ind_time_write(buffer, time + (offset < 0 ? -(ind_time)minutes : (ind_time)minutes) * 60 * IND_SECOND);
    char *at = buffer->at + buffer->length - 1;
    *at++ = offset < 0 ? '-' : '+';
    memcpy(at, ind_digit_pairs + 2 * (minutes / 60 % 100), 2);
    at[2] = ':';
    memcpy(at + 3, ind_digit_pairs + 2 * (minutes % 60), 2);
    buffer->length += IND_TIME_WIDTH_MOST - IND_TIME_WIDTH;
}
