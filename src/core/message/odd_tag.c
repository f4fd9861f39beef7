/* core/message/odd_tag.c: what may stand where a tag should, beyond RFC 3164's letters and digits. */
#include "core/base/address.h"
#include "core/message/event_code.h"
#include "core/message/rfc3164_private.h"

IND_COLD const char *ind_read_tag(const char *at, const char *end, struct ind_message *message)
{
    return ind_read_tag_at_once(at, end, message);
}

bool ind_is_code(const char *at, const char *end)
{
    struct ind_event_code code;
    return at < end && (*at == '%' || *at == '#') && ind_event_code_read(ind_between(at, end), &code);
}

/* Behind "(word)"; NULL where there is none. */
static const char *skip_parenthesis(const char *at, const char *end)
{
    bool letters;
    if (at == end || *at != '(')
        return NULL;
    const char *stop = ind_skip_tag(at + 1, end, &letters);
    return letters && stop < end && *stop == ')' ? stop + 1 : NULL;
}

IND_COLD const char *ind_read_odd_tag(const char *at, const char *end, struct ind_message *message)
{
    bool letters;
    const char *before = ind_skip_tag(at, end, &letters), *stop = skip_parenthesis(before, end);
    struct ind_slice procid;
    if (!stop || stop == end || (before > at && !letters))
        return at;
    const char *text = ind_end_tag(stop, end, &procid);
    if (!text || (before == at && procid.length == 0) || (*stop == ' '))
        return at; /* "(no tag) : here", "(aside): text" are texts */
    message->app = ind_between(at, stop);
    message->procid = procid;
    return text;
}

/* Twelve hexadecimal digits: a hardware address as some devices write it. */
static bool is_hardware_address(const char *at, const char *end)
{
    const char *start = at;
    while (at < end && at - start < 13 && ind_is_hex(*at))
        at++;
    return at == end && at - start == 12;
}

IND_COLD const char *ind_read_model_and_name(const char *at, const char *end, struct ind_message *message)
{
    bool model, named, version = true;
    struct ind_message tag = {0};
    const char *comma = ind_skip_tag(at, end, &model);
    if (!model || comma == end || *comma != ',')
        return at;
    const char *name = comma + 1, *stop = ind_skip_tag(name, end, &named);
    bool hardware = is_hardware_address(name, stop);
    const char *last = stop;
    if (hardware && last < end && *last == ',')
        last = ind_skip_tag(last + 1, end, &version);
    if (stop == name || !(named || hardware) || !version || end - last < 4 || last[0] != ':' ||
        last[1] != ' ')
        return at;
    const char *text = ind_read_tag(last + 2, end, &tag);
    if (text == last + 2 || (tag.procid.length == 0 && !hardware))
        return at;
    message->host = ind_between(name, stop);
    return last + 2;
}

struct ind_slice ind_address_at(const char *at, const char *end)
{
    struct ind_address address;
    const char *most = end - at > IND_HOST_ADDRESS_LIMIT ? at + IND_HOST_ADDRESS_LIMIT : end;
    const char *stop = ind_scan_blank(at, most);
    if (stop == at || stop == end || *stop != ' ')
        return IND_NOTHING;
    if (ind_address_read(ind_between(at, stop), &address))
        return ind_between(at, stop);
    if (stop[-1] == ':' && ind_address_read(ind_between(at, stop - 1), &address))
        return ind_between(at, stop - 1);
    return IND_NOTHING;
}

IND_COLD const char *ind_read_bracketed_address(const char *at, const char *end, struct ind_message *message)
{
    struct ind_address address;
    size_t room = (size_t)(end - at);
    const char *close =
        memchr(at, ']', room < IND_HOST_ADDRESS_LIMIT + 2 ? room : IND_HOST_ADDRESS_LIMIT + 2);
    if (!close || end - close < 2 || close[1] != ' ' ||
        !ind_address_read(ind_between(at + 1, close), &address))
        return at;
    message->host = ind_between(at + 1, close);
    return close + 2;
}
