/* core/time/digits.h: the digits of dates and clocks, checked and worked out together. Internal to core/. */
#ifndef IND_CORE_TIME_DIGITS_H
#define IND_CORE_TIME_DIGITS_H

#include "core/base/word.h"

/* Two digits; anything else sets *bad. No branch: the digits of times are as good as random. */
static inline int ind_two_digits(const char *at, unsigned *bad)
{
    unsigned tens = (unsigned)(unsigned char)at[0] - '0', ones = (unsigned)(unsigned char)at[1] - '0';
    *bad |= (tens > 9) | (ones > 9);
    return (int)(tens * 10 + ones);
}

/* "04:45:00": eight bytes, which are there. Seconds since midnight; anything else sets *bad. */
static inline int ind_clock_of(const char *at, unsigned *bad)
{
    const uint64_t colons = UINT64_C(0x0000FF0000FF0000);
    uint64_t word = ind_word8(at) ^ UINT64_C(0x30303A30303A3030); /* "00:00:00" */
    uint64_t odd = ind_above_nine(word) | (word & colons);
    word = word * 10 + (word >> 8); /* the first byte of each pair is its number */
    int hour = (int)(word & 0xFF), minute = (int)(word >> 24 & 0xFF), second = (int)(word >> 48 & 0xFF);
    *bad |= (odd != 0) | (hour > 23) | (minute > 59) | (second > 60);
    return hour * 3600 + minute * 60 + second;
}

/* "123": three digits and no fourth; -1 for anything else. Four bytes, which are there. */
static inline int ind_three_digits(const char *at)
{
    const uint32_t word = ind_word4(at) ^ UINT32_C(0x30303030);
    if (ind_above_nine(word) != UINT32_C(0x80000000))
        return -1;
    return (int)((word & 0xFF) * 100 + (word >> 8 & 0xFF) * 10 + (word >> 16 & 0xFF));
}

#endif
