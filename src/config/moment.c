#include "config/moment.h"

#include "config/quantity.h"
#include <stdio.h>

/* "04:45" or "04:45:10", nothing else: seconds of the day. */
static bool read_time_of_day(struct ind_slice text, int64_t *seconds)
{
    static const char form[] = "dd:dd:dd";
    int part[3] = {0};
    if (text.length != 5 && text.length != 8)
        return false;
    for (size_t i = 0; i < text.length; i++) {
        if (form[i] == 'd' ? !ind_is_digit(text.at[i]) : text.at[i] != form[i])
            return false;
        if (form[i] == 'd')
            part[i / 3] = part[i / 3] * 10 + text.at[i] - '0';
    }
    *seconds = part[0] * 3600 + part[1] * 60 + part[2];
    return part[0] < 24 && part[1] < 60 && part[2] < 60;
}

/* What is in front of the text, in seconds of the local clock at the day's begin: "today", "mon", a date.
 * Returns its length. */
static size_t read_day(struct ind_slice text, int64_t today, int weekday, int64_t *day)
{
    static const char *const names[] = {"monday", "tuesday",  "wednesday", "thursday",
                                        "friday", "saturday", "sunday"};
    char whole[32];
    enum ind_time_style style;
    ind_time local;
    size_t length = 0;
    while (length < text.length && text.at[length] != ' ' && text.at[length] != 'T')
        length++;
    struct ind_slice word = {text.at, length};
    *day = today;
    if (ind_slice_equal_nocase(word, IND_SLICE("today")))
        return length;
    *day = today - IND_DAY_SECONDS;
    if (ind_slice_equal_nocase(word, IND_SLICE("yesterday")))
        return length;
    for (int i = 0; i < 7; i++) {
        struct ind_slice name = ind_slice_of(names[i]), brief = {names[i], 3};
        *day = today - (weekday - i + 7) % 7 * IND_DAY_SECONDS;
        if (ind_slice_equal_nocase(word, name) || ind_slice_equal_nocase(word, brief))
            return length;
    }
    if (length != 10)
        return 0;
    snprintf(whole, sizeof whole, "%.*sT00:00:00", IND_ARG(word));
    if (ind_time_read(ind_slice_of(whole), &local, &style) != 19)
        return 0;
    *day = ind_time_seconds(local);
    return length;
}

static bool read_local(struct ind_slice text, ind_time now, const struct ind_zone *zone, bool end_of_day,
                       ind_time *time)
{
    int64_t seconds = ind_time_seconds(now), day, of_day;
    int64_t local = seconds + ind_zone_offset(zone, seconds);
    struct ind_civil today;
    ind_civil_from_seconds(local, &today);
    int64_t midnight = local - (today.hour * 3600 + today.minute * 60 + today.second);
    if (read_time_of_day(text, &of_day)) {
        *time = ind_zone_to_utc(zone, midnight + of_day) * IND_SECOND;
        if (*time > now)
            *time = ind_zone_to_utc(zone, midnight - IND_DAY_SECONDS + of_day) * IND_SECOND;
        return true;
    }
    size_t length = read_day(text, midnight, today.weekday, &day);
    if (length == 0)
        return false;
    if (length == text.length) {
        *time = ind_zone_to_utc(zone, day + (end_of_day ? IND_DAY_SECONDS : 0)) * IND_SECOND;
        return true;
    }
    if (!read_time_of_day(ind_slice_from(text, length + 1), &of_day))
        return false;
    *time = ind_zone_to_utc(zone, day + of_day) * IND_SECOND;
    return true;
}

/* RFC 3339, with or without seconds and offset. */
static bool read_written(struct ind_slice text, const struct ind_zone *zone, ind_time *time)
{
    char whole[64];
    enum ind_time_style style;
    if (text.length < 16 || text.length > 40)
        return false;
    bool brief = text.length == 16 || text.at[16] != ':';
    snprintf(whole, sizeof whole, "%.16s%s%.*s", text.at, brief ? ":00" : "",
             IND_ARG(ind_slice_from(text, 16)));
    if (ind_time_read(ind_slice_of(whole), time, &style) != strlen(whole))
        return false;
    if (style == IND_TIME_LOCAL)
        *time += (ind_zone_to_utc(zone, ind_time_seconds(*time)) - ind_time_seconds(*time)) * IND_SECOND;
    return true;
}

bool ind_moment_read(struct ind_slice text, ind_time now, const struct ind_zone *zone, bool end_of_day,
                     ind_time *time)
{
    struct ind_slice ago = IND_SLICE(" ago");
    int64_t age;
    if (read_written(text, zone, time) || read_local(text, now, zone, end_of_day, time))
        return true;
    if (ind_slice_equal_nocase(text, IND_SLICE("now"))) {
        *time = now;
        return true;
    }
    if (text.length > ago.length &&
        ind_slice_equal_nocase(ind_slice_from(text, text.length - ago.length), ago))
        text.length -= ago.length;
    if (text.length && !ind_is_digit(text.at[text.length - 1]) && ind_read_span(text, &age)) {
        *time = now - age;
        return true;
    }
    return false;
}
