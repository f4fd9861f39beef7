/* What of a plain line is the same in many, found without reading the rest. */
#include "core/line/line.h"

#include <string.h>

enum { HOUR = 13, MINUTE = 13, SECOND = 16, FRACTION = 19, PARTS = 6, MOST_DIGITS = 8 };

static bool is_two_digits_below_60(const char *at)
{
    return at[0] >= '0' && at[0] <= '5' && ind_is_digit(at[1]);
}

/* ":45:00.123456", behind the hour. */
static bool is_rest_of_time(const char *at)
{
    unsigned not_digits = 0;
    for (int i = 0; i < PARTS; i++)
        not_digits |= !ind_is_digit(at[FRACTION + 1 + i]);
    return at[MINUTE] == ':' && is_two_digits_below_60(at + MINUTE + 1) && at[SECOND] == ':' &&
           is_two_digits_below_60(at + SECOND + 1) && at[FRACTION] == '.' && !not_digits;
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

/* Which of eight bytes are blanks: the highest bit of each, whichever way round the machine has them. */
static uint64_t blanks_in(const char *at)
{
    const uint64_t low = UINT64_C(0x7f7f7f7f7f7f7f7f);
    uint64_t bytes;
    memcpy(&bytes, at, sizeof bytes);
    bytes ^= UINT64_C(0x2020202020202020);
    return ~(((bytes & low) + low) | bytes | low);
}

/* Where so many columns have ended, from `at` on, each with a blank; `rest.length` + 1: there are not so
 * many. Lines are short: most of the time goes into this. */
static size_t behind_columns(struct ind_slice rest, size_t at, int columns)
{
    while (at + 8 <= rest.length) {
        const int blanks = (int)((blanks_in(rest.at + at) >> 7) * UINT64_C(0x0101010101010101) >> 56);
        if (blanks >= columns)
            break;
        columns -= blanks;
        at += 8;
    }
    while (columns > 0 && at < rest.length)
        columns -= rest.at[at++] == ' ';
    return columns ? rest.length + 1 : at;
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
    const size_t who = behind_columns(rest, 0, 3),
                 data = who < rest.length ? behind_columns(rest, who, 3) : who;
    if (!lag || data + 1 >= rest.length || rest.at[data] != '-' || rest.at[data + 1] != ' ')
        return false; /* structured data may be wrong, or the line cut short */
    glance->hour = (struct ind_slice){line.at, HOUR};
    glance->zone = (struct ind_slice){line.at + IND_TIME_WIDTH - 1, width - IND_TIME_WIDTH + 1};
    glance->who = (struct ind_slice){rest.at, who};
    return true;
}
