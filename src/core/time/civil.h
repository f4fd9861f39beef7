/* core/time/civil.h: instants and calendar dates (proleptic Gregorian), read and written in RFC 3339's form.
 *
 * An instant is nanoseconds since 1970-01-01T00:00:00Z without leap seconds. Years 1 to 9999 are read; what
 * an instant can hold (1678 to 2261) bounds the rest, and a date outside is no date. */
#ifndef IND_CORE_TIME_CIVIL_H
#define IND_CORE_TIME_CIVIL_H

#include "core/base/slice.h"
#include <stdint.h>

typedef int64_t ind_time;

#define IND_TIME_NONE INT64_MIN
#define IND_SECOND INT64_C(1000000000)
enum { IND_DAY_SECONDS = 86400 };

struct ind_civil {
    int year, month, day; /* month 1 to 12, day 1 to 31 */
    int hour, minute, second;
    int weekday; /* 0 is Monday (ISO 8601) */
};

/* Days since 1970-01-01; year 1 to 9999, month and day in range. */
int64_t ind_days_of_any_year(int year, int month, int day);
static inline int64_t ind_days_from_civil(int year, int month, int day)
{
    static const unsigned short before[13] = {0, 0, 31, 59, 90, 120, 151, 181, 212, 243, 273, 304, 334};
    const unsigned since = (unsigned)year - 1970;
    if (since >= 130) /* up to 2099 every fourth year is a leap year, as 1972 was */
        return ind_days_of_any_year(year, month, day);
    return since * 365 + (since + 1) / 4 + before[month] + ((since % 4 == 2) & (month > 2)) + (unsigned)day -
           1;
}

/* The calendar date and time of day of `seconds` since 1970, whichever clock they count. */
void ind_civil_from_seconds(int64_t seconds, struct ind_civil *civil);

bool ind_is_leap_year(int year);
int ind_days_in_month(int year, int month);

/* Whole seconds before or at the instant (rounds towards the past). */
static inline int64_t ind_time_seconds(ind_time time)
{
    int64_t seconds = time / IND_SECOND;
    return seconds - (time < seconds * IND_SECOND);
}

/* What ind_time_read found besides the instant. */
enum ind_time_style {
    IND_TIME_STRICT,  /* as RFC 5424 section 6.2.3 writes it, the fraction up to nine digits */
    IND_TIME_LENIENT, /* readable, but with small letters, a space, a comma, or an offset without a colon */
    IND_TIME_LOCAL    /* no offset at all: *time counts the clock on the wall */
};

/* Reads a date and time of RFC 3339's form at the start of `text`. Second 60 is the start of the next.
 * Returns the bytes read, 0 where there is no such time; *time and *style are set only when it is more. */
size_t ind_time_read(struct ind_slice text, ind_time *time, enum ind_time_style *style);

/* "2026-11-23T04:45:00.123456Z": UTC, always six digits, 27 bytes. */
enum { IND_TIME_WIDTH = 27 };
void ind_time_write(struct ind_buffer *buffer, ind_time time);

/* Writes `number` with six digits, two at a time. */
extern const char ind_digit_pairs[201];
static inline void ind_put_six(char *at, uint32_t number)
{
    memcpy(at, ind_digit_pairs + 2 * (number / 10000), 2);
    memcpy(at + 2, ind_digit_pairs + 2 * (number / 100 % 100), 2);
    memcpy(at + 4, ind_digit_pairs + 2 * (number % 100), 2);
}

/* From `sent` to `received` in hundredths of a second, rounded; what is below a microsecond in either does
 * not count, since lines do not hold it. Neither may be IND_TIME_NONE. */
int64_t ind_lag_hundredths(ind_time received, ind_time sent);

/* The instant that many hundredths before `received`; IND_TIME_NONE where there is none such. */
ind_time ind_time_before(ind_time received, int64_t hundredths);

/* Hundredths of a second as seconds, with their sign: "-0.12". */
void ind_hundredths_write(struct ind_buffer *buffer, int64_t hundredths);

/* "20261123T044500Z": as in names of archives, 16 bytes. */
void ind_time_write_compact(struct ind_buffer *buffer, ind_time time);

#endif
