/* core/time/plain_stamp.h: the two commonest forms of time, read without a call. Internal to core/. */
#ifndef IND_CORE_TIME_PLAIN_STAMP_H
#define IND_CORE_TIME_PLAIN_STAMP_H

#include "core/time/civil.h"
#include "core/time/zone.h"

/* 1 to 12 from "Jan" to "Dec", 0 for anything else. The multiplier gives each of the twelve a place of its
 * own. */
static inline int ind_month_of(const char *at)
{
    static const char names[] = "JanFebMarAprMayJunJulAugSepOctNovDec";
    static const unsigned char places[16] = {7, 11, 0, 10, 5, 12, 3, 4, 0, 9, 0, 0, 1, 6, 2, 8};
    uint32_t word = (uint32_t)(unsigned char)at[0] | (uint32_t)(unsigned char)at[1] << 8 |
                    (uint32_t)(unsigned char)at[2] << 16;
    int month = places[word * UINT32_C(0x67e5) >> 28];
    return month && memcmp(at, names + 3 * (month - 1), 3) == 0 ? month : 0;
}

/* Two digits; anything else sets *bad. No branch: the digits of times are as good as random. */
static inline int ind_two_digits(const char *at, unsigned *bad)
{
    unsigned tens = (unsigned)(unsigned char)at[0] - '0', ones = (unsigned)(unsigned char)at[1] - '0';
    *bad |= (tens > 9) | (ones > 9);
    return (int)(tens * 10 + ones);
}

/* Days since 1970 to a year: exact, but for a year at the very turn. */
static inline int ind_year_of_days(int64_t days)
{
    return 1970 + (int)(days * 400 / 146097);
}

/* The latest year that does not put the date more than a day ahead of the reference; the latest leap year for
 * 29 February. No zone is more than a day off UTC, so that the search begins two days ahead, and a year that
 * is too late whatever the zone is passed over without asking it. Without a zone the date is on the clock of
 * the reference. */
static inline int64_t ind_settle_year(int month, int day, int of_day, ind_time reference,
                                      const struct ind_zone *zone)
{
    int64_t latest = ind_time_seconds(reference) + IND_DAY_SECONDS;
    for (int year = ind_year_of_days(latest / IND_DAY_SECONDS + 2);; year--) {
        if (day > 28 && day > ind_days_in_month(year, month))
            continue;
        int64_t local = ind_days_from_civil(year, month, day) * IND_DAY_SECONDS + of_day;
        if (local > latest + IND_DAY_SECONDS)
            continue;
        int64_t utc = zone ? ind_zone_to_utc(zone, local) : local;
        if (utc <= latest)
            return utc;
    }
}

/* "Nov 23 04:45:00", the day padded with a space or a zero: 15 bytes, which are there. False where it is
 * none. */
static inline bool ind_stamp_fields(const char *at, int *month, int *day, int *of_day)
{
    unsigned bad = (at[3] != ' ') | (at[6] != ' ') | (at[9] != ':') | (at[12] != ':');
    const char padded[2] = {at[4] == ' ' ? '0' : at[4], at[5]};
    *month = ind_month_of(at);
    *day = ind_two_digits(padded, &bad);
    int hour = ind_two_digits(at + 7, &bad), minute = ind_two_digits(at + 10, &bad),
        second = ind_two_digits(at + 13, &bad);
    *of_day = hour * 3600 + minute * 60 + second;
    return !(bad | (*month == 0) | (*day < 1) | (hour > 23) | (minute > 59) | (second > 60)) &&
           (*day <= 28 || *day <= ind_days_in_month(2000, *month));
}

/* "Nov 23 04:45:00" and no more, the day padded with a space or a zero. Returns 15, or 0. `reference` settles
 * the year: the latest that does not put the date more than a day ahead. */
static inline size_t ind_stamp_read_plain(const char *at, const char *end, ind_time reference,
                                          const struct ind_zone *zone, ind_time *sent)
{
    int month, day, of_day;
    if (end - at < 15 || !ind_stamp_fields(at, &month, &day, &of_day))
        return 0;
    *sent = ind_settle_year(month, day, of_day, reference, zone) * IND_SECOND;
    return 15;
}

/* RFC 3339's form, with a time on the wall read in `zone`. Returns the bytes read, or 0. */
static inline size_t ind_stamp_read_new(const char *at, const char *end, const struct ind_zone *zone,
                                        ind_time *sent, enum ind_time_style *style)
{
    size_t used = ind_time_read((struct ind_slice){at, (size_t)(end - at)}, sent, style);
    if (used && *style == IND_TIME_LOCAL) {
        int64_t seconds = ind_time_seconds(*sent);
        *sent += (ind_zone_to_utc(zone, seconds) - seconds) * IND_SECOND;
    }
    return used;
}

/* Whether what follows "Nov 23 04:45:00" and a space may belong to the time: a year, a zone, an offset,
 * a half of the day. Right
 * about most hosts, and without a branch on what they begin with. */
static inline bool ind_stamp_may_go_on(const char *at, const char *end)
{
    if (end - at < 5)
        return end > at;
    unsigned c = (unsigned char)*at;
    return ((c - '0' < 10) & (at[4] == ' ')) | (c == '+') | (c == '-') | (c - 'A' < 26) |
           ((at[1] == 'm') & ((at[2] == ' ') | (at[2] == ':')));
}

#endif
