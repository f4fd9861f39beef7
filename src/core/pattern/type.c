#include "core/pattern/type.h"

#include "core/base/address.h"
#include "core/message/names.h"
#include "core/pattern/type_private.h"
#include "core/payload/parts.h"

#define COUNT(array) (sizeof(array) / sizeof *(array))

/* ---- Numbers ---- */

static const char *scan_int(const char *at, const char *end)
{
    at += at < end && (*at == '-' || *at == '+');
    return ind_scan_digits(at, end, 1, IND_LONGEST_NUMBER);
}

static const char *scan_decimal(const char *at, const char *end)
{
    const char *stop = scan_int(at, end);
    if (stop && end - stop > 1 && *stop == '.' && ind_is_digit(stop[1]))
        stop = ind_scan_run(stop + 1, end, IND_TYPE_DIGIT);
    return stop;
}

static const char *scan_hex(const char *at, const char *end)
{
    if (end - at > 2 && at[0] == '0' && ind_lower(at[1]) == 'x' && ind_type_byte(at[2], IND_TYPE_HEX_DIGIT))
        at += 2;
    const char *stop = ind_scan_run(at, end - at > IND_LONGEST_NUMBER ? at + IND_LONGEST_NUMBER + 1 : end,
                                    IND_TYPE_HEX_DIGIT);
    return stop > at && stop - at <= IND_LONGEST_NUMBER ? stop : NULL;
}

/* ---- Addresses ---- */

#ifdef IND_SSE2
/* Three points and the digits between them, found at once: their lengths vary from one address to the next,
 * and a loop over digits mispredicts its end every time. 16 bytes are there. */
static const char *scan_ipv4_wide(const char *at)
{
    __m128i bytes = ind_sse_sixteen(at);
    unsigned figures = ind_sse_bits(ind_sse_within(bytes, '0', '9'));
    unsigned points = ind_sse_bits(_mm_cmpeq_epi8(bytes, _mm_set1_epi8('.')));
    unsigned start = 0, bad = 0;
    for (int i = 0; i < 4; i++) {
        unsigned stop = (unsigned)__builtin_ctz(
            (i < 3 ? points : ~(figures >> start << start) & -(1u << start)) | 1u << 16);
        unsigned length = stop - start, first = (unsigned char)at[start];
        bad |= (length - 1 > 2) | ((length > 1) & (first == '0'));
        bad |= (figures >> start & ((1u << (length & 3)) - 1)) != (1u << (length & 3)) - 1;
        if (bad)
            return NULL;
        if (length == 3)
            bad = (first - '0') * 100 + ((unsigned char)at[start + 1] - '0') * 10u +
                      ((unsigned char)at[start + 2] - '0') >
                  255;
        points &= points - 1;
        start = stop + 1;
    }
    return bad ? NULL : at + start - 1;
}
#endif

static const char *scan_ipv4(const char *at, const char *end)
{
#ifdef IND_SSE2
    if (end - at >= 16)
        return scan_ipv4_wide(at);
#endif
    for (int i = 0; i < 4; i++) {
        unsigned value = 0;
        const char *start = at;
        if (i > 0 && (at == end || *at++ != '.'))
            return NULL;
        start = at;
        while (at < end && at - start < 3 && ind_is_digit(*at))
            value = value * 10 + (unsigned)(*at++ - '0');
        if (at == start || value > 255 || (at - start > 1 && *start == '0'))
            return NULL;
    }
    return at;
}

/* "2001:db8::1", "fe80::1%ge0"; a colon or point behind it belongs to the sentence. */
static const char *scan_ipv6(const char *at, const char *end)
{
    struct ind_address address;
    const char *stop = ind_scan_run(at, end - at > 5 ? at + 5 : end, IND_TYPE_HEX_DIGIT);
    if (stop - at > 4 || !ind_scan_next_is(stop, end, ':'))
        return NULL;
    while (stop < end && stop - at < IND_ADDRESS_WIDTH &&
           (ind_type_byte(*stop, IND_TYPE_HEX_DIGIT) || *stop == ':' || *stop == '.'))
        stop++;
    if (stop - at == IND_ADDRESS_WIDTH)
        return NULL;
    while (stop - at > 2 && (stop[-1] == '.' || (stop[-1] == ':' && stop[-2] != ':')))
        stop--;
    if (!ind_address_read((struct ind_slice){at, (size_t)(stop - at)}, &address)) {
        if (stop - at > 2 && stop[-1] == ':') /* "…::" may be an address and a colon */
            stop--;
        if (!ind_address_read((struct ind_slice){at, (size_t)(stop - at)}, &address))
            return NULL;
    }
    const char *zone =
        ind_scan_next_is(stop, end, '%') ? ind_scan_run(stop + 1, end, IND_TYPE_IN_HOST) : stop;
    return zone > stop + 1 ? zone : stop;
}

static const char *scan_ip(const char *at, const char *end)
{
    const char *stop = scan_ipv4(at, end);
    return stop ? stop : scan_ipv6(at, end);
}

/* Six octets with `:` or `-`, or three groups of four digits with `.` or `-`. */
static const char *scan_mac(const char *at, const char *end)
{
#ifdef IND_SSE2
    enum { COLONS = 1 << 2 | 1 << 5 | 1 << 8 | 1 << 11 | 1 << 14 };
    if (end - at >= 18) {
        __m128i bytes = ind_sse_sixteen(at);
        __m128i hex = _mm_or_si128(ind_sse_within(bytes, '0', '9'),
                                   ind_sse_within(_mm_or_si128(bytes, _mm_set1_epi8(0x20)), 'a', 'f'));
        if (ind_sse_bits(_mm_cmpeq_epi8(bytes, _mm_set1_epi8(':'))) == COLONS &&
            (ind_sse_bits(hex) | COLONS) == 0xffff && ind_type_byte(at[16], IND_TYPE_HEX_DIGIT) &&
            at[17] != ':')
            return at + 17;
    }
#endif
    const char *first = ind_scan_run(at, end < at + 5 ? end : at + 5, IND_TYPE_HEX_DIGIT);
    int width = (int)(first - at), groups = width == 2 ? 6 : 3;
    if ((width != 2 && width != 4) || first == end)
        return NULL;
    char between = *first;
    if (between != '-' && between != (width == 2 ? ':' : '.'))
        return NULL;
    for (int i = 1; i < groups; i++) {
        const char *group = first + 1;
        first = ind_scan_run(group, end < group + width + 1 ? end : group + width + 1, IND_TYPE_HEX_DIGIT);
        if (first - group != width || (i + 1 < groups && !ind_scan_next_is(first, end, between)))
            return NULL;
    }
    bool goes_on = end - first > 1 && *first == between && ind_type_byte(first[1], IND_TYPE_HEX_DIGIT);
    return goes_on ? NULL : first;
}

/* ---- Names ---- */

/* Behind `/`: "0", "RP0", "CPU0", "A1"; behind `.` and `:` digits. */
static const char *interface_rest(const char *at, const char *end)
{
    for (const char *part;; at = part) {
        bool slash = ind_scan_next_is(at, end, '/');
        if (!slash && !ind_scan_next_is(at, end, '.') && !ind_scan_next_is(at, end, ':'))
            return at;
        part = at + 1;
        while (slash && part < end && ind_is_alpha(*part))
            part++;
        const char *stop = ind_scan_run(part, end, IND_TYPE_DIGIT);
        if (stop == part)
            return at;
        part = stop;
    }
}

/* A prefix of letters (and `-`, `_` between or behind them), then numbers; or slot/port alone. */
static const char *scan_interface(const char *at, const char *end)
{
    const char *stop = at;
#ifdef IND_SSE2
    if (end - at >= 16) { /* "ge0/24" and the like, as far as they go */
        __m128i bytes = ind_sse_sixteen(at);
        unsigned prefix_length = ind_sse_first_run(ind_sse_bits(ind_sse_letters(bytes)));
        unsigned figures = ind_sse_bits(ind_sse_within(bytes, '0', '9')) >> prefix_length;
        unsigned length = prefix_length + ind_sse_first_run(figures);
        if (prefix_length > 0 && length > prefix_length && length < 16)
            return interface_rest(at + length, end);
    }
#endif
    while (stop < end && stop - at < IND_LONGEST_PREFIX &&
           (ind_is_alpha(*stop) || (stop > at && (*stop == '-' || *stop == '_'))))
        stop++;
    bool prefix = stop > at;
    const char *number = ind_scan_run(stop, end, IND_TYPE_DIGIT);
    if (number == stop)
        return NULL;
    stop = interface_rest(number, end);
    return prefix || memchr(number, '/', (size_t)(stop - number)) ? stop : NULL;
}

/* "/var/log/x", "./x", "~/x", "C:\x", "flash:/x"; a point or colon behind it belongs to the sentence. */
static const char *scan_path(const char *at, const char *end)
{
    const char *start = at;
    bool drive = false;
    if (ind_scan_next_is(at, end, '~'))
        at++;
    else
        for (int i = 0; i < 2 && ind_scan_next_is(at, end, '.'); i++)
            at++;
    if (at == start) {
        while (at < end && at - start < 16 && (ind_is_alpha(*at) || (at > start && ind_is_digit(*at))))
            at++;
        drive = at > start;
        if (drive && (at == end || *at++ != ':'))
            return NULL;
    }
    if (at == end || (*at != '/' && !(drive && *at == '\\')))
        return NULL;
    const char *stop = ind_scan_run(at, end, IND_TYPE_IN_PATH);
    while (stop > at + 1 && (stop[-1] == '.' || stop[-1] == ':' || stop[-1] == '!' || stop[-1] == '?'))
        stop--;
    return stop;
}

/* A name of labels with points between, or an address. */
static const char *scan_host(const char *at, const char *end)
{
    const char *stop = scan_ip(at, end);
    if (stop)
        return stop;
    enum { LONGEST = 253 };
    bool letter = false;
    end = end - at > LONGEST + 1 ? at + LONGEST + 1 : end;
    for (stop = at; stop < end; stop++) {
        bool point = *stop == '.' && stop > at && stop + 1 < end && ind_type_byte(stop[1], IND_TYPE_IN_HOST);
        if (!point && !ind_type_byte(*stop, IND_TYPE_IN_HOST))
            break;
        letter |= ind_is_alpha(*stop);
    }
    return letter && stop - at <= LONGEST && *at != '-' ? stop : NULL;
}

/* In " or ', a quote in it behind `\`. */
static const char *scan_quoted(const char *at, const char *end)
{
    if (at == end || (*at != '"' && *at != '\''))
        return NULL;
    const char quote = *at++;
    while ((at = ind_scan_either(at, end, quote, '\\')) < end) {
        if (*at == quote)
            return at + 1;
        at += end - at > 1 ? 2 : 1;
    }
    return NULL;
}

static const char *scan_word(const char *at, const char *end)
{
#ifdef IND_SSE2
    if (end - at >= 16) {
        __m128i bytes = ind_sse_sixteen(at);
        unsigned blank = ind_sse_bits(
            _mm_or_si128(_mm_cmpeq_epi8(bytes, _mm_set1_epi8(' ')), ind_sse_within(bytes, '\t', '\r')));
        if (blank)
            return blank & 1 ? NULL : at + __builtin_ctz(blank);
    }
#endif
    const char *stop = ind_type_to_blank(at, end);
    return stop > at ? stop : NULL;
}

static const char *scan_text(const char *at, const char *end)
{
    return at < end ? end : NULL;
}

/* ---- The tables ---- */

static const struct type_row {
    const char *name;
    const char *wants;
} rows[IND_TYPES] = {
    [IND_TYPE_TIME] = {"time", "a time such as 04:45:00, 2026-11-23T04:45:00Z or Nov 23 04:45:00"},
    [IND_TYPE_IP] = {"ip", "an address such as 192.0.2.9 or 2001:db8::1"},
    [IND_TYPE_MAC] = {"mac", "a MAC address such as 02:00:5e:10:00:01 or 0200.5e10.0001"},
    [IND_TYPE_INT] = {"int", "a whole number"},
    [IND_TYPE_DECIMAL] = {"decimal", "a number such as 4 or 0.25"},
    [IND_TYPE_HEX] = {"hex", "a hexadecimal number such as 0x1f or 5e10"},
    [IND_TYPE_DURATION] = {"duration", "a span of time such as 3d04h, 00:05:12, 35ms or 5 minutes"},
    [IND_TYPE_INTERFACE] = {"interface", "an interface such as ge0/24, Port-channel1, eth0 or 1/0/24"},
    [IND_TYPE_PATH] = {"path", "a path such as /var/log/x or flash:/x"},
    [IND_TYPE_HOST] = {"host", "a host's name or address"},
    [IND_TYPE_QUOTED] = {"quoted", "a text in quotes"},
    [IND_TYPE_PAIRS] = {"pairs", "pairs such as k=v k=\"v\""},
    [IND_TYPE_JSON] = {"json", "a JSON object"},
    [IND_TYPE_RE] = {"re", "what the regular expression takes"},
    [IND_TYPE_WORD] = {"word", "anything without a space"},
    [IND_TYPE_TEXT] = {"text", "at least one byte"},
    [IND_TYPE_REMAINDER] = {"remainder", "anything, or nothing"},
};

const char *(*const ind_type_scans[IND_TYPES])(const char *at, const char *end) = {
    [IND_TYPE_TIME] = ind_scan_time,
    [IND_TYPE_IP] = scan_ip,
    [IND_TYPE_MAC] = scan_mac,
    [IND_TYPE_INT] = scan_int,
    [IND_TYPE_DECIMAL] = scan_decimal,
    [IND_TYPE_HEX] = scan_hex,
    [IND_TYPE_DURATION] = ind_scan_duration,
    [IND_TYPE_INTERFACE] = scan_interface,
    [IND_TYPE_PATH] = scan_path,
    [IND_TYPE_HOST] = scan_host,
    [IND_TYPE_QUOTED] = scan_quoted,
    [IND_TYPE_PAIRS] = ind_pairs_end,
    [IND_TYPE_JSON] = ind_json_end,
    [IND_TYPE_WORD] = scan_word,
    [IND_TYPE_TEXT] = scan_text,
};

struct ind_slice ind_type_name(enum ind_type type)
{
    return ind_slice_of(rows[type].name);
}

const char *ind_type_wants(enum ind_type type)
{
    return rows[type].wants;
}

int ind_type_read(struct ind_slice name)
{
    for (int i = 0; i < IND_TYPES; i++)
        if (ind_slice_equal(name, ind_slice_of(rows[i].name)))
            return i;
    return -1;
}

const char *ind_type_near(struct ind_slice name)
{
    static const struct {
        const char *written;
        enum ind_type meant;
    } others[] = {{"integer", IND_TYPE_INT},     {"number", IND_TYPE_INT},       {"num", IND_TYPE_INT},
                  {"port", IND_TYPE_INT},        {"float", IND_TYPE_DECIMAL},    {"double", IND_TYPE_DECIMAL},
                  {"address", IND_TYPE_IP},      {"addr", IND_TYPE_IP},          {"ipv4", IND_TYPE_IP},
                  {"ipv6", IND_TYPE_IP},         {"ip4", IND_TYPE_IP},           {"ip6", IND_TYPE_IP},
                  {"date", IND_TYPE_TIME},       {"timestamp", IND_TYPE_TIME},   {"datetime", IND_TYPE_TIME},
                  {"string", IND_TYPE_TEXT},     {"str", IND_TYPE_TEXT},         {"any", IND_TYPE_TEXT},
                  {"rest", IND_TYPE_REMAINDER},  {"all", IND_TYPE_REMAINDER},    {"hostname", IND_TYPE_HOST},
                  {"name", IND_TYPE_HOST},       {"fqdn", IND_TYPE_HOST},        {"file", IND_TYPE_PATH},
                  {"iface", IND_TYPE_INTERFACE}, {"ifname", IND_TYPE_INTERFACE}, {"quote", IND_TYPE_QUOTED},
                  {"kv", IND_TYPE_PAIRS},        {"regex", IND_TYPE_RE},         {"user", IND_TYPE_WORD},
                  {"token", IND_TYPE_WORD},      {"seconds", IND_TYPE_DURATION}};
    const char *names[IND_TYPES];
    for (size_t i = 0; i < COUNT(others); i++)
        if (ind_slice_equal_nocase(name, ind_slice_of(others[i].written)))
            return rows[others[i].meant].name;
    for (int i = 0; i < IND_TYPES; i++)
        names[i] = rows[i].name;
    return ind_near(name, names, IND_TYPES);
}
