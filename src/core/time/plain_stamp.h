/* core/time/plain_stamp.h: the two commonest forms of time, read without a call. Internal to core/. */
#ifndef IND_CORE_TIME_PLAIN_STAMP_H
#define IND_CORE_TIME_PLAIN_STAMP_H

#include "core/time/civil.h"
#include "core/time/digits.h"
#include "core/time/zone.h"

/* 1 to 12 from "Jan" to "Dec", 0 for anything else. The multiplier gives each of the twelve a place of its
 * own. `word`: three letters, as ind_word4 reads them, and a zero. */
static inline int ind_month_of_word(uint32_t word)
{
    static const uint32_t names[13] = {0,
                                       IND_WORD4('J', 'a', 'n', 0),
                                       IND_WORD4('F', 'e', 'b', 0),
                                       IND_WORD4('M', 'a', 'r', 0),
                                       IND_WORD4('A', 'p', 'r', 0),
                                       IND_WORD4('M', 'a', 'y', 0),
                                       IND_WORD4('J', 'u', 'n', 0),
                                       IND_WORD4('J', 'u', 'l', 0),
                                       IND_WORD4('A', 'u', 'g', 0),
                                       IND_WORD4('S', 'e', 'p', 0),
                                       IND_WORD4('O', 'c', 't', 0),
                                       IND_WORD4('N', 'o', 'v', 0),
                                       IND_WORD4('D', 'e', 'c', 0)};
    static const unsigned char places[16] = {7, 11, 0, 10, 5, 12, 3, 4, 0, 9, 0, 0, 1, 6, 2, 8};
    int month = places[word * UINT32_C(0x67e5) >> 28];
    return names[month] == word ? month : 0;
}

static inline int ind_month_of(const char *at)
{
    return ind_month_of_word(IND_WORD4(at[0], at[1], at[2], 0));
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

/* "Nov 23", the day padded with a space or a zero, of a year that may be a leap year: six bytes, which are
 * there. Anything else sets *bad. */
static inline void ind_day_of_year(const char *at, int *month, int *day, unsigned *bad)
{
    static const unsigned char days[13] = {0, 31, 29, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31};
    const unsigned first = (unsigned char)at[4], ones = (unsigned)(unsigned char)at[5] - '0';
    *bad |= ((first - '0' > 9) & (first != ' ')) | (ones > 9);
    *month = ind_month_of_word(ind_word4(at) & UINT32_C(0xFFFFFF));
    *day = (int)((first & 0xF) * 10 + ones); /* a space counts as 0 */
    *bad |= (unsigned)*day - 1 >= days[*month];
}

/* "Nov 23 04:45:00", the day padded with a space or a zero: 15 bytes, which are there. False where it is
 * none; what most texts are is told by their signs alone. */
static inline bool ind_stamp_fields(const char *at, int *month, int *day, int *of_day)
{
    if ((at[3] != ' ') | (at[6] != ' ') | (at[9] != ':'))
        return false;
    unsigned bad = 0;
    ind_day_of_year(at, month, day, &bad);
    *of_day = ind_clock_of(at + 7, &bad);
    return !bad;
}

/* The same with a year: "Nov 23 2026 04:45:00", 20 bytes. */
static inline bool ind_stamp_fields_of_year(const char *at, int *year, int *month, int *day, int *of_day)
{
    if ((at[3] != ' ') | (at[6] != ' ') | (at[11] != ' ') | (at[14] != ':'))
        return false;
    unsigned bad = 0;
    ind_day_of_year(at, month, day, &bad);
    *year = ind_two_digits(at + 7, &bad) * 100 + ind_two_digits(at + 9, &bad);
    *of_day = ind_clock_of(at + 12, &bad);
    return !bad && *year >= 1970 && *year <= 2260 && (*day <= 28 || *day <= ind_days_in_month(*year, *month));
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
