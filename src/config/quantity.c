#include "config/quantity.h"

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

static const struct unit spans[] = {
    {"s", 1},          {"second", 1},      {"seconds", 1},
    {"min", 60},       {"minute", 60},     {"minutes", 60},
    {"m", 60},         {"h", 3600},        {"hour", 3600},
    {"hours", 3600},   {"d", 86400},       {"day", 86400},
    {"days", 86400},   {"w", 604800},      {"week", 604800},
    {"weeks", 604800}, {"month", 2592000}, {"months", 2592000},
    {"y", 31536000},   {"year", 31536000}, {"years", 31536000},
};

#define COUNT(table) (sizeof(table) / sizeof *(table))

static bool read_quantity(struct ind_slice text, const struct unit *units, size_t count, uint64_t *value)
{
    uint64_t whole = 0, part = 0, scale = 1;
    size_t at = 0;
    for (; at < text.length && ind_is_digit(text.at[at]); at++) {
        if (whole > UINT64_MAX / 100)
            return false;
        whole = whole * 10 + (uint64_t)(text.at[at] - '0');
    }
    if (at == 0)
        return false;
    if (at + 1 < text.length && text.at[at] == '.' && ind_is_digit(text.at[at + 1]))
        for (at++; at < text.length && ind_is_digit(text.at[at]) && scale < 1000; at++, scale *= 10)
            part = part * 10 + (uint64_t)(text.at[at] - '0');
    while (at < text.length && text.at[at] == ' ')
        at++;
    for (size_t i = 0; i < count; i++)
        if (ind_slice_equal_nocase(ind_slice_from(text, at), ind_slice_of(units[i].name))) {
            if (whole > (UINT64_MAX >> 1) / units[i].worth)
                return false;
            *value = whole * units[i].worth + part * units[i].worth / scale;
            return true;
        }
    return false;
}

bool ind_read_size(struct ind_slice text, uint64_t *bytes)
{
    return read_quantity(text, sizes, COUNT(sizes), bytes);
}

bool ind_read_span(struct ind_slice text, int64_t *seconds)
{
    uint64_t value;
    if (!read_quantity(text, spans, COUNT(spans), &value) || value > UINT64_C(100) * 31536000)
        return false;
    *seconds = (int64_t)value;
    return true;
}

bool ind_read_short_span(struct ind_slice text, int64_t *nanoseconds)
{
    static const struct unit units[] = {{"ms", 1000000},
                                        {"s", UINT64_C(1000000000)},
                                        {"min", UINT64_C(60000000000)},
                                        {"h", UINT64_C(3600000000000)},
                                        {"d", UINT64_C(86400000000000)}};
    uint64_t value;
    if (!read_quantity(text, units, COUNT(units), &value))
        return false;
    *nanoseconds = (int64_t)value;
    return true;
}

bool ind_read_count(struct ind_slice text, uint64_t least, uint64_t most, uint64_t *count)
{
    static const struct unit none[] = {{"", 1}};
    return text.length && text.at[text.length - 1] != ' ' && !memchr(text.at, '.', text.length) &&
           read_quantity(text, none, 1, count) && *count >= least && *count <= most;
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
