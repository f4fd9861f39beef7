#include "config/moment.h"

#include "config/quantity.h"
#include <stdio.h>

static bool read_date(struct ind_slice text, const struct ind_zone *zone, bool end_of_day, ind_time *time)
{
    char whole[32];
    enum ind_time_style style;
    ind_time local;
    if (text.length != 10)
        return false;
    snprintf(whole, sizeof whole, "%.*sT00:00:00", IND_ARG(text));
    if (ind_time_read(ind_slice_of(whole), &local, &style) != 19)
        return false;
    int64_t seconds = ind_time_seconds(local) + (end_of_day ? IND_DAY_SECONDS : 0);
    *time = ind_zone_to_utc(zone, seconds) * IND_SECOND;
    return true;
}

bool ind_moment_read(struct ind_slice text, ind_time now, const struct ind_zone *zone, bool end_of_day,
                     ind_time *time)
{
    enum ind_time_style style;
    int64_t age;
    if (text.length && text.length == ind_time_read(text, time, &style)) {
        if (style == IND_TIME_LOCAL)
            *time += (ind_zone_to_utc(zone, ind_time_seconds(*time)) - ind_time_seconds(*time)) * IND_SECOND;
        return true;
    }
    if (read_date(text, zone, end_of_day, time))
        return true;
    if (text.length && !ind_is_digit(text.at[text.length - 1]) && ind_read_span(text, &age)) {
        *time = now - age * IND_SECOND;
        return true;
    }
    return false;
}
