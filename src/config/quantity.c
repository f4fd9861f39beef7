#include "config/quantity.h"

#define MONTH (UINT64_C(31536000000000000) / 12)

struct unit {
    const char *name;
    uint64_t worth;
};

static const struct unit sizes[] = {
    {"", 1},
    {"b", 1},
    {"bytes", 1},
    {"kib", UINT64_C(1) << 10},
    {"mib", UINT64_C(1) << 20},
    {"gib", UINT64_C(1) << 30},
    {"tib", UINT64_C(1) << 40},
    {"kb", UINT64_C(1000)},
    {"mb", UINT64_C(1000000)},
    {"gb", UINT64_C(1000000000)},
    {"tb", UINT64_C(1000000000000)},
};

/* Nanoseconds. A month is the twelfth part of a year of 365 days: 12 months are a year. */
static const struct unit spans[] = {
    {"ms", UINT64_C(1000000)},
    {"s", UINT64_C(1000000000)},
    {"sec", UINT64_C(1000000000)},
    {"second", UINT64_C(1000000000)},
    {"seconds", UINT64_C(1000000000)},
    {"m", UINT64_C(60000000000)},
    {"min", UINT64_C(60000000000)},
    {"minute", UINT64_C(60000000000)},
    {"minutes", UINT64_C(60000000000)},
    {"h", UINT64_C(3600000000000)},
    {"hour", UINT64_C(3600000000000)},
    {"hours", UINT64_C(3600000000000)},
    {"d", UINT64_C(86400000000000)},
    {"day", UINT64_C(86400000000000)},
    {"days", UINT64_C(86400000000000)},
    {"w", UINT64_C(604800000000000)},
    {"week", UINT64_C(604800000000000)},
    {"weeks", UINT64_C(604800000000000)},
    {"month", MONTH},
    {"months", MONTH},
    {"y", UINT64_C(31536000000000000)},
    {"year", UINT64_C(31536000000000000)},
    {"years", UINT64_C(31536000000000000)},
};

#define COUNT(table) (sizeof(table) / sizeof *(table))

/* One quantity at the start of `text`, with the name of its unit up to a space, a digit or the end. Returns
 * the bytes read, 0 where there is none. */
static size_t read_quantity(struct ind_slice text, const struct unit *units, size_t count, uint64_t *value,
                            uint64_t *unit)
{
    uint64_t whole = 0, part = 0, scale = 1;
    size_t at = 0, end;
    for (; at < text.length && ind_is_digit(text.at[at]); at++) {
        if (whole > UINT64_MAX / 100)
            return 0;
        whole = whole * 10 + (uint64_t)(text.at[at] - '0');
    }
    if (at == 0)
        return 0;
    if (at + 1 < text.length && text.at[at] == '.' && ind_is_digit(text.at[at + 1]))
        for (at++; at < text.length && ind_is_digit(text.at[at]) && scale < 1000; at++, scale *= 10)
            part = part * 10 + (uint64_t)(text.at[at] - '0');
    while (at < text.length && text.at[at] == ' ')
        at++;
    for (end = at; end < text.length && text.at[end] != ' ' && !ind_is_digit(text.at[end]);)
        end++;
    for (size_t i = 0; i < count; i++)
        if (ind_slice_equal_nocase((struct ind_slice){text.at + at, end - at}, ind_slice_of(units[i].name))) {
            if (whole > (UINT64_MAX >> 1) / units[i].worth)
                return 0;
            *value = whole * units[i].worth + part * units[i].worth / scale;
            *unit = units[i].worth;
            return end;
        }
    return 0;
}

static bool read_whole(struct ind_slice text, const struct unit *units, size_t count, uint64_t *value)
{
    uint64_t unit;
    return text.length && read_quantity(text, units, count, value, &unit) == text.length;
}

bool ind_read_size(struct ind_slice text, uint64_t *bytes)
{
    return read_whole(text, sizes, COUNT(sizes), bytes);
}

/* "1h30m", "2 min 30 s": parts one after the other, each of a smaller unit than the one before. */
bool ind_read_span(struct ind_slice text, int64_t *nanoseconds)
{
    const uint64_t most = UINT64_C(100) * 31536000 * 1000000000;
    uint64_t all = 0, before = UINT64_MAX;
    do {
        uint64_t value, unit;
        size_t used = read_quantity(text, spans, COUNT(spans), &value, &unit);
        if (!used || unit >= before || value > most - all)
            return false;
        all += value;
        before = unit;
        text = ind_slice_from(text, used);
        while (text.length > 1 && text.at[0] == ' ')
            text = ind_slice_from(text, 1);
    } while (text.length);
    *nanoseconds = (int64_t)all;
    return true;
}

bool ind_read_count(struct ind_slice text, uint64_t least, uint64_t most, uint64_t *count)
{
    static const struct unit none[] = {{"", 1}};
    return text.length && text.at[text.length - 1] != ' ' && !memchr(text.at, '.', text.length) &&
           read_whole(text, none, 1, count) && *count >= least && *count <= most;
}

bool ind_read_percent(struct ind_slice text, unsigned *percent)
{
    uint64_t value;
    if (text.length == 0 || text.at[text.length - 1] != '%')
        return false;
    text.length--;
    while (text.length && text.at[text.length - 1] == ' ')
        text.length--;
    if (!ind_read_count(text, 1, 100, &value))
        return false;
    *percent = (unsigned)value;
    return true;
}

bool ind_read_mode(struct ind_slice text, unsigned *mode)
{
    *mode = 0;
    if (text.length < 3 || text.length > 4 || (text.length == 4 && text.at[0] != '0'))
        return false;
    for (size_t i = 0; i < text.length; i++) {
        if (text.at[i] < '0' || text.at[i] > '7')
            return false;
        *mode = *mode * 8 + (unsigned)(text.at[i] - '0');
    }
    return true;
}
