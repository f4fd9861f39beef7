/* What of a plain line is the same in many, found without reading the rest. */
#include "core/line/line.h"

#include "core/base/mask.h"
#include "core/time/digits.h"

#include <string.h>

enum { HOUR = 13, MINUTE = 13, SECOND = 16, FRACTION = 19, MOST_DIGITS = 8 };

/* ":45:00.123456", behind the hour. */
static bool is_rest_of_time(const char *at)
{
    const uint64_t signs = UINT64_C(0x00FF0000FF0000FF),
                   zeros = UINT64_C(0x302E30303A30303A); /* ":00:00.0" */
    const uint64_t word = ind_word8(at + MINUTE) ^ zeros,
                   last = ind_word8(at + FRACTION - 1) ^ UINT64_C(0x3030303030302E30);
    unsigned bad = (ind_above_nine(word) | (word & signs) | ind_above_nine(last)) != 0;
    return !bad && at[MINUTE + 1] <= '5' && at[SECOND + 1] <= '5';
}

/* "0.12", "-3.00" or "-", with its blank; 0: something else. */
static size_t lag_width(struct ind_slice rest)
{
    size_t at = rest.length && rest.at[0] == '-', digits = 0;
    if (at && rest.length > 1 && rest.at[1] == ' ')
        return 2;
    for (; at < rest.length && digits <= MOST_DIGITS && ind_is_digit(rest.at[at]); at++)
        digits++;
    return digits > 0 && digits <= MOST_DIGITS && at + 4 <= rest.length && rest.at[at] == '.' &&
                   ind_is_digit(rest.at[at + 1]) && ind_is_digit(rest.at[at + 2]) && rest.at[at + 3] == ' '
               ? at + 4
               : 0;
}

/* Where so many columns have ended, from `at` on, each with a blank; `rest.length` + 1: there are not so
 * many. */
static size_t behind_columns(struct ind_slice rest, size_t at, int columns)
{
    while (columns > 0 && at < rest.length)
        columns -= rest.at[at++] == ' ';
    return columns ? rest.length + 1 : at;
}

/* Where the third column ends, and the sixth: mostly both within a block. */
static void find_columns(struct ind_slice rest, size_t *third, size_t *sixth)
{
    if (rest.length >= IND_BLOCK) {
        uint64_t blanks = ind_mask_of(rest.at, ' ');
        blanks &= blanks - 1;
        blanks &= blanks - 1;
        uint64_t later = blanks & (blanks - 1);
        later &= later - 1;
        later &= later - 1;
        if (later) {
            *third = ind_lowest_bit(blanks) + 1;
            *sixth = ind_lowest_bit(later) + 1;
            return;
        }
    }
    *third = behind_columns(rest, 0, 3);
    *sixth = *third < rest.length ? behind_columns(rest, *third, 3) : *third;
}

bool ind_line_glance_plain(struct ind_slice line, struct ind_line_glance *glance)
{
    if (line.length <= IND_TIME_WIDTH_MOST || !is_rest_of_time(line.at))
        return false;
    const bool utc = line.at[IND_TIME_WIDTH - 1] == 'Z';
    const size_t width = utc ? IND_TIME_WIDTH : IND_TIME_WIDTH_MOST;
    if (line.at[width] != ' ' || (!utc && memcmp(line.at + width - 3, ":00", 3) != 0))
        return false;
    struct ind_slice rest = ind_slice_from(line, width + 1);
    const size_t lag = lag_width(rest);
    rest = ind_slice_from(rest, lag);
    size_t who, data;
    find_columns(rest, &who, &data);
    if (!lag || data + 1 >= rest.length || rest.at[data] != '-' || rest.at[data + 1] != ' ')
        return false; /* structured data may be wrong, or the line cut short */
    glance->hour = (struct ind_slice){line.at, HOUR};
    glance->zone = (struct ind_slice){line.at + IND_TIME_WIDTH - 1, width - IND_TIME_WIDTH + 1};
    glance->who = (struct ind_slice){rest.at, who};
    return true;
}
