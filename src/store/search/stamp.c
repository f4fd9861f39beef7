#include "store/search/stamp.h"

#include "core/line/line.h"
#include "store/disk/stored.h"

static const char json_begin[] = "{\"time\":\"";

static size_t begin_of_pri(struct ind_slice line)
{
    size_t at = 1;
    while (at < line.length && at < 4 && ind_is_digit(line.at[at]))
        at++;
    return line.at[0] == '<' && at > 1 && at + 3 <= line.length && memcmp(line.at + at, ">1 ", 3) == 0
               ? at + 3
               : line.length;
}

struct ind_slice ind_search_stamp(int stored, struct ind_slice line)
{
    const struct ind_slice begin = {json_begin, sizeof json_begin - 1};
    size_t at = 0;
    if (line.length == 0)
        return IND_NOTHING;
    if (stored == IND_LAYOUT_JSON)
        at = ind_slice_starts(line, begin) ? begin.length : line.length;
    else if ((stored & ~IND_STORED_OLD) == IND_LAYOUT_RFC5424)
        at = begin_of_pri(line);
    line = ind_slice_from(line, at);
    if (line.length <= IND_TIME_WIDTH)
        return IND_NOTHING;
    const size_t width = line.at[IND_TIME_WIDTH - 1] == 'Z' ? IND_TIME_WIDTH : IND_TIME_WIDTH_MOST;
    if (line.length <= width || line.at[width] != (stored == IND_LAYOUT_JSON ? '"' : ' '))
        return IND_NOTHING;
    return (struct ind_slice){line.at, width};
}

ind_time ind_search_stamp_time(int stored, struct ind_slice line)
{
    const struct ind_slice stamp = ind_search_stamp(stored, line);
    ind_time time;
    enum ind_time_style style;
    return stamp.length && ind_time_read(stamp, &time, &style) == stamp.length ? time : IND_TIME_NONE;
}

/* Eight bytes against their form, in which 0 stands for a digit. */
static bool is_form(const char *at, const char *form)
{
    uint64_t bytes, wanted, most = 0;
    memcpy(&bytes, at, 8);
    memcpy(&wanted, form, 8);
    for (int i = 0; i < 8; i++)
        most |= (uint64_t)(((const char *)&wanted)[i] == '0' ? 0x76 : 0x7f) << 8 * i;
    bytes ^= wanted;
    const uint64_t tops = UINT64_C(0x8080808080808080);
    return ((bytes | ((bytes & ~tops) + most)) & tops) == 0;
}

bool ind_search_stamp_is_utc(struct ind_slice stamp)
{
    return stamp.length == IND_TIME_WIDTH && is_form(stamp.at, "0000-00-") &&
           is_form(stamp.at + 8, "00T00:00") && is_form(stamp.at + 16, ":00.0000") &&
           ind_is_digit(stamp.at[24]) && ind_is_digit(stamp.at[25]);
}
