#include "store/disk/json_quick.h"

#include "core/find/find.h"
#include "core/message/names.h"

enum { DEEPEST = 6 };

/* Members with a text, in the order in which they are written (core/line/json.c). */
enum member {
    TIME,
    SENT,
    RECEIVED,
    DEVICE,
    SENDER,
    TRANSPORT,
    LISTENER,
    CERTIFICATE,
    HOST,
    FACILITY,
    SEVERITY,
    APP,
    PROCID,
    MSGID,
    LOCATION,
    TEXT,
    FORMAT,
    MALFORMED,
    PATTERN,
    MEMBERS
};
static const struct ind_slice names[MEMBERS] = {
    {"time", 4},      {"sent", 4},     {"received", 8},     {"device", 6}, {"sender", 6},
    {"transport", 9}, {"listener", 8}, {"certificate", 11}, {"host", 4},   {"facility", 8},
    {"severity", 8},  {"app", 3},      {"procid", 6},       {"msgid", 5},  {"location", 8},
    {"text", 4},      {"format", 6},   {"malformed", 9},    {"pattern", 7}};

unsigned ind_json_form(struct ind_slice name)
{
    for (unsigned form = IND_FORM_RFC3164; form <= IND_FORM_RFC5424; form++)
        if (ind_slice_equal(name, ind_form_name(form)))
            return form;
    return IND_FORM_BARE;
}

unsigned ind_json_malformed(struct ind_slice name)
{
    for (unsigned reason = 1; name.length && reason < IND_MALFORMED_KINDS; reason++)
        if (ind_slice_equal(name, ind_malformed_name(reason)))
            return reason;
    return IND_MALFORMED_NOT;
}

/* A string of plain bytes; `at` is behind its quote. NULL where it is another. */
static const char *plain_string(const char *at, const char *end, struct ind_slice *string)
{
    const char *start = at;
    while (at < end && *at != '"') {
        const unsigned char c = (unsigned char)*at;
        if (c < ' ' || c == '\\' || c >= 0x7f)
            return NULL;
        at++;
    }
    if (at == end)
        return NULL;
    *string = (struct ind_slice){start, (size_t)(at - start)};
    return at + 1;
}

static const char *skip_value(const char *at, const char *end, int deep);

/* Behind the brace or bracket; NULL where it is not as it is mostly. */
static const char *skip_members(const char *at, const char *end, char close, int deep)
{
    struct ind_slice name;
    if (at < end && *at == close)
        return at + 1;
    for (;;) {
        if (close == '}') {
            at = at < end && *at == '"' ? plain_string(at + 1, end, &name) : NULL;
            if (!at || at == end || *at++ != ':')
                return NULL;
        }
        at = skip_value(at, end, deep);
        if (!at || at == end)
            return NULL;
        if (*at == close)
            return at + 1;
        if (*at++ != ',')
            return NULL;
    }
}

static const char *skip_value(const char *at, const char *end, int deep)
{
    struct ind_slice string;
    if (at == end || deep > DEEPEST)
        return NULL;
    if (*at == '"')
        return plain_string(at + 1, end, &string);
    if (*at == '{' || *at == '[')
        return skip_members(at + 1, end, *at == '{' ? '}' : ']', deep + 1);
    if (*at < '1' || *at > '9')
        return NULL;
    for (int digits = 0; at < end && ind_is_digit(*at); at++)
        if (++digits > 15)
            return NULL;
    return at;
}

/* Which member it is: mostly one behind the last. MEMBERS: another. */
static unsigned find(struct ind_slice name, unsigned expected)
{
    for (unsigned i = 0; i < MEMBERS; i++) {
        const unsigned member = (expected + i) % MEMBERS;
        if (ind_slice_equal(name, names[member]))
            return member;
    }
    return MEMBERS;
}

/* Labels and fields are worked out again; but of fields one is read. */
static const char *pass_over(struct ind_slice name, const char *at, const char *end)
{
    const bool fields = ind_slice_equal(name, IND_SLICE("fields"));
    const struct ind_finder sequence = ind_finder_for(IND_SLICE("\"code_sequence\""));
    if (!fields && !ind_slice_equal(name, IND_SLICE("labels")))
        return NULL;
    const char *after = skip_value(at, end, 0);
    return after && fields && ind_find(&sequence, at, (size_t)(after - at)) ? NULL : after;
}

/* All members; false where one is not of those that are mostly there. */
static bool read_members(struct ind_slice line, struct ind_slice texts[MEMBERS])
{
    const char *at = line.at + 1, *end = line.at + line.length;
    unsigned expected = 0, had = 0;
    for (;;) {
        struct ind_slice name;
        at = at < end && *at == '"' ? plain_string(at + 1, end, &name) : NULL;
        if (!at || end - at < 2 || *at++ != ':')
            return false;
        const unsigned member = find(name, expected);
        if (member == MEMBERS) {
            at = pass_over(name, at, end);
        } else {
            if (had >> member & 1 || *at != '"')
                return false;
            had |= 1u << member;
            expected = member + 1;
            at = plain_string(at + 1, end, &texts[member]);
        }
        if (!at || at == end)
            return false;
        if (*at == '}')
            return at + 1 == end;
        if (*at++ != ',')
            return false;
    }
}

static ind_time time_of(struct ind_slice text)
{
    ind_time time;
    enum ind_time_style style;
    return text.length && ind_time_read(text, &time, &style) == text.length ? time : IND_TIME_NONE;
}

bool ind_json_quick_read(struct ind_slice line, struct ind_message *message)
{
    struct ind_slice texts[MEMBERS] = {{NULL, 0}};
    if (line.length < 2 || line.at[0] != '{' || !read_members(line, texts))
        return false;
    const int facility = ind_facility_read(texts[FACILITY]), severity = ind_severity_read(texts[SEVERITY]);
    const ind_time time = time_of(texts[TIME]);
    if (facility < 0 || severity < 0 || time == IND_TIME_NONE)
        return false;
    *message = (struct ind_message){.received = time_of(texts[RECEIVED]),
                                    .sent = time_of(texts[SENT]),
                                    .time = time,
                                    .facility = (uint8_t)facility,
                                    .severity = (uint8_t)severity,
                                    .form = (uint8_t)ind_json_form(texts[FORMAT]),
                                    .malformed = (uint8_t)ind_json_malformed(texts[MALFORMED]),
                                    .transport = (uint8_t)ind_transport_read(texts[TRANSPORT]),
                                    .pri_given = true,
                                    .original = line,
                                    .host = texts[HOST],
                                    .app = texts[APP],
                                    .procid = texts[PROCID],
                                    .msgid = texts[MSGID],
                                    .text = texts[TEXT],
                                    .sender = texts[SENDER],
                                    .device = texts[DEVICE],
                                    .listener = texts[LISTENER],
                                    .certificate = texts[CERTIFICATE],
                                    .location = texts[LOCATION]};
    return true;
}
