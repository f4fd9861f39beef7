#include "core/time/civil.h"

#include "core/base/slice.h"
#include "core/time/digits.h"

/* What an instant can hold begins in 1677: counted from 1 March of the year 0 everything is positive, and
 * fits 32 bits. Years and months are counted by products, whose upper half is the quotient and whose lower
 * half, divided once more, the rest: after Neri and Schneider, "Euclidean affine functions and their
 * application to calendar algorithms" (2023). */
void ind_civil_from_seconds(int64_t seconds, struct ind_civil *civil)
{
    const uint64_t since = (uint64_t)(seconds + INT64_C(719468) * IND_DAY_SECONDS);
    const uint32_t z = (uint32_t)(since / IND_DAY_SECONDS), rest = (uint32_t)(since % IND_DAY_SECONDS);
    const uint32_t quarters = 4 * z + 3, century = quarters / 146097;
    const uint64_t product = UINT64_C(2939745) * (quarters % 146097 / 4 * 4 + 3);
    const uint32_t of_year = (uint32_t)product / 2939745 / 4; /* from 1 March on */
    const uint32_t months = 2141 * of_year + 197913;
    const bool next_year = of_year >= 306; /* January and February */
    civil->day = (int)((months & 0xFFFF) / 2141 + 1);
    civil->month = (int)(months >> 16) - (next_year ? 12 : 0);
    civil->year = (int)(century * 100 + (uint32_t)(product >> 32)) + next_year;
    civil->hour = (int)(rest / 3600);
    civil->minute = (int)(rest / 60 % 60);
    civil->second = (int)(rest % 60);
    civil->weekday = (int)((z + 2) % 7);
}

bool ind_is_leap_year(int year)
{
    return (year % 4 == 0 && year % 100 != 0) || year % 400 == 0;
}

/* Counting from 1 March puts the leap day last. */
int64_t ind_days_of_any_year(int year, int month, int day)
{
    unsigned y = (unsigned)year - (month <= 2);
    unsigned of_year = (153u * (unsigned)(month > 2 ? month - 3 : month + 9) + 2) / 5 + (unsigned)day - 1;
    return (int64_t)(y * 365 + y / 4 - y / 100 + y / 400 + of_year) - 719468;
}

int ind_days_in_month(int year, int month)
{
    static const int days[] = {31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31};
    return month == 2 && ind_is_leap_year(year) ? 29 : days[month - 1];
}

/* Reads `digits` decimal digits, -1 where one is none. The caller has seen that they are there. */
static int fixed(const char *at, int digits)
{
    int number = 0;
    for (int i = 0; i < digits; i++) {
        unsigned digit = (unsigned)(at[i] - '0');
        if (digit > 9)
            return -1;
        number = number * 10 + (int)digit;
    }
    return number;
}

/* "+hh:mm", "+hhmm", "+hh" or "Z"; returns the bytes read, 0 where there is no offset. */
static size_t read_offset(struct ind_slice text, int *offset, bool *lenient)
{
    if (text.length == 0)
        return 0;
    char sign = text.at[0];
    if (sign == 'Z' || sign == 'z') {
        *lenient |= sign == 'z';
        *offset = 0;
        return 1;
    }
    if ((sign != '+' && sign != '-') || text.length < 3)
        return 0;
    int hours = fixed(text.at + 1, 2), minutes = 0;
    size_t used = 3;
    if (text.length >= 6 && text.at[3] == ':') {
        minutes = fixed(text.at + 4, 2);
        used = 6;
    } else if (text.length >= 5 && ind_is_digit(text.at[3])) {
        minutes = fixed(text.at + 3, 2);
        used = 5;
        *lenient = true;
    } else {
        *lenient = true;
    }
    if (hours < 0 || hours > 23 || minutes < 0 || minutes > 59)
        return 0;
    *offset = (hours * 60 + minutes) * (sign == '-' ? -60 : 60);
    return used;
}

static const int64_t fraction_scales[] = {0, 100000000, 10000000, 1000000, 100000, 10000, 1000, 100, 10, 1};

/* Up to seven digits of eight bytes at once; how many there are, 8 where there are more. */
static unsigned some_digits(const char *at, int64_t *value)
{
    uint64_t word = ind_word8(at) ^ UINT64_C(0x3030303030303030);
    const uint64_t others = ind_above_nine(word);
    const unsigned count = others ? ind_lowest_bit(others) / 8 : 8;
    if (count == 0 || count == 8)
        return count;
    word <<= 64 - 8 * count; /* the digits come last, zeros before them */
    word = word * 10 + (word >> 8);
    const uint64_t mask = UINT64_C(0x000000FF000000FF);
    word =
        ((word & mask) * UINT64_C(0x000F424000000064) + (word >> 16 & mask) * UINT64_C(0x0000271000000001)) >>
        32;
    *value = (int64_t)(word & UINT32_MAX);
    return count;
}

/* One to nine digits behind the point. */
static size_t read_fraction(struct ind_slice text, int64_t *nanoseconds)
{
    size_t used = 1;
    int64_t value = 0;
    unsigned count = text.length > 8 ? some_digits(text.at + 1, &value) : 8;
    if (count < 8) {
        *nanoseconds = value * fraction_scales[count];
        return count ? count + 1 : 0;
    }
    while (used < text.length && ind_is_digit(text.at[used]) && used <= 9)
        value = value * 10 + (text.at[used++] - '0');
    *nanoseconds = value * fraction_scales[used - 1];
    return used > 1 && !(used < text.length && ind_is_digit(text.at[used])) ? used : 0;
}

/* "2026-11-23": ten bytes, which are there. Anything else sets *bad. */
static void date_of(const char *at, int *year, int *month, int *day, unsigned *bad)
{
    const uint64_t signs = UINT64_C(0xFF0000FF00000000);
    uint64_t word = ind_word8(at) ^ UINT64_C(0x2D30302D30303030); /* "0000-00-" */
    unsigned tens = (unsigned)(unsigned char)at[8] - '0', ones = (unsigned)(unsigned char)at[9] - '0';
    *bad |= (ind_above_nine(word) | (word & signs)) != 0;
    *bad |= (tens > 9) | (ones > 9);
    word = word * 10 + (word >> 8); /* the first byte of each pair is its number */
    *year = (int)(word & 0xFF) * 100 + (int)(word >> 16 & 0xFF);
    *month = (int)(word >> 40 & 0xFF);
    *day = (int)(tens * 10 + ones);
}

static bool in_range(int year, int month, int day)
{
    bool good = ((unsigned)(year - 1700) <= 560) & ((unsigned)(month - 1) < 12) & (day >= 1);
    return good && (day <= 28 || day <= ind_days_in_month(year, month));
}

size_t ind_time_read(struct ind_slice text, ind_time *time, enum ind_time_style *style)
{
    const char *at = text.at;
    int year, month, day;
    unsigned bad = 0;
    if (text.length < 19)
        return 0;
    date_of(at, &year, &month, &day, &bad);
    const int of_day = ind_clock_of(at + 11, &bad);
    if (bad || !in_range(year, month, day))
        return 0;
    bool lenient = at[10] != 'T';
    if (lenient && at[10] != 't' && at[10] != ' ')
        return 0;
    size_t used = 19;
    int64_t nanoseconds = 0;
    if (used < text.length && (at[used] == '.' || at[used] == ',')) {
        lenient |= at[used] == ',';
        size_t fraction = read_fraction(ind_slice_from(text, used), &nanoseconds);
        if (fraction == 0)
            return 0;
        used += fraction;
    }
    int offset = 0;
    size_t zone = read_offset(ind_slice_from(text, used), &offset, &lenient);
    int64_t seconds = ind_days_from_civil(year, month, day) * IND_DAY_SECONDS + of_day;
    if (at[17] == '6')
        nanoseconds = 0; /* second 60 is the start of the next */
    *time = (seconds - offset) * IND_SECOND + nanoseconds;
    *style = zone == 0 ? IND_TIME_LOCAL : lenient ? IND_TIME_LENIENT : IND_TIME_STRICT;
    return used + zone;
}

const char ind_digit_pairs[201] =
    "00010203040506070809101112131415161718192021222324252627282930313233343536373839404142434445464748"
    "4950515253545556575859606162636465666768697071727374757677787980818283848586878889909192939495"
    "96979899";

/* An even number of digits, two at a time. */
static IND_INLINE char *put(char *at, unsigned number, int digits)
{
    for (int i = digits - 2; i >= 0; i -= 2, number /= 100)
        memcpy(at + i, ind_digit_pairs + 2 * (number % 100), 2);
    return at + digits;
}

static unsigned year_of(const struct ind_civil *civil)
{
    return civil->year < 0 ? 0 : (unsigned)civil->year;
}

void ind_time_write(struct ind_buffer *buffer, ind_time time)
{
    if (!ind_buffer_room(buffer, IND_TIME_WIDTH))
        return;
    int64_t seconds = ind_time_seconds(time);
    struct ind_civil civil;
    ind_civil_from_seconds(seconds, &civil);
    char *at = buffer->at + buffer->length;
    memcpy(at, "0000-00-00T00:00:00.000000Z", IND_TIME_WIDTH);
    put(at, year_of(&civil), 4);
    put(at + 5, (unsigned)civil.month, 2);
    put(at + 8, (unsigned)civil.day, 2);
    put(at + 11, (unsigned)civil.hour, 2);
    put(at + 14, (unsigned)civil.minute, 2);
    put(at + 17, (unsigned)civil.second, 2);
    ind_put_six(at + 20, (uint32_t)((time - seconds * IND_SECOND) / 1000));
    buffer->length += IND_TIME_WIDTH;
}

void ind_time_write_compact(struct ind_buffer *buffer, ind_time time)
{
    if (!ind_buffer_room(buffer, 16))
        return;
    struct ind_civil civil;
    ind_civil_from_seconds(ind_time_seconds(time), &civil);
    char *at = put(buffer->at + buffer->length, year_of(&civil), 4);
    at = put(at, (unsigned)civil.month, 2);
    at = put(at, (unsigned)civil.day, 2);
    *at++ = 'T';
    at = put(at, (unsigned)civil.hour, 2);
    at = put(at, (unsigned)civil.minute, 2);
    at = put(at, (unsigned)civil.second, 2);
    *at = 'Z';
    buffer->length += 16;
}

enum { MICROSECOND = 1000, HUNDREDTH = 10000 /* microseconds */ };

static int64_t microseconds(ind_time time)
{
    int64_t whole = time / MICROSECOND;
    return whole - (time < whole * MICROSECOND);
}

/* The difference of two instants may be more than one can hold in nanoseconds. */
int64_t ind_lag_hundredths(ind_time received, ind_time sent)
{
    int64_t span = microseconds(received) - microseconds(sent);
    return (span + (span < 0 ? -HUNDREDTH / 2 : HUNDREDTH / 2)) / HUNDREDTH;
}

ind_time ind_time_before(ind_time received, int64_t hundredths)
{
    const int64_t most = INT64_MAX / MICROSECOND;
    if (hundredths > most / HUNDREDTH || hundredths < -most / HUNDREDTH)
        return IND_TIME_NONE;
    int64_t at = microseconds(received) - hundredths * HUNDREDTH;
    return at > most || at < -most ? IND_TIME_NONE : at * MICROSECOND;
}

void ind_hundredths_write(struct ind_buffer *buffer, int64_t hundredths)
{
    uint64_t size = hundredths < 0 ? 0 - (uint64_t)hundredths : (uint64_t)hundredths;
    char digits[24], *at = digits + sizeof digits - 3;
    *at = '.';
    memcpy(at + 1, ind_digit_pairs + 2 * (size % 100), 2);
    for (size /= 100; size >= 100; size /= 100)
        memcpy(at -= 2, ind_digit_pairs + 2 * (size % 100), 2);
    *--at = (char)('0' + size % 10);
    if (size >= 10)
        *--at = (char)('0' + size / 10);
    if (hundredths < 0)
        *--at = '-';
    ind_buffer_add(buffer, at, (size_t)(digits + sizeof digits - at));
}
