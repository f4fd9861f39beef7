#include "core/payload.h"

#include "core/event_code.h"
#include "core/names.h"
#include "core/payload_inside.h"
#include "core/scan.h"

/* ---- key=value ---- */

static bool is(char c, unsigned kind)
{
    return (ind_byte_kinds[(unsigned char)c] & kind) != 0;
}

static bool ends_value(const char *at, const char *end)
{
    return at == end || is(*at, IND_BEFORE_KEY) || *at == ')' || *at == ']' || *at == '}';
}

/* Behind the quote that closes what begins at `at`; NULL where none does. */
static const char *skip_quoted(const char *at, const char *end)
{
    char quote = *at++;
    for (;;) {
        at = ind_scan_either(at, end, quote, '\\');
        if (at == end)
            return NULL;
        if (*at == quote)
            return ends_value(at + 1, end) ? at + 1 : NULL;
        at += end - at > 1 ? 2 : 1;
    }
}

static bool key_follows(const char *at, const char *end)
{
    const char *stop = at;
    while (stop < end && is(*stop, IND_IN_KEY))
        stop++;
    return stop > at && stop < end && *stop == '=' && is(*at, IND_BEGINS_KEY);
}

static bool ends_word(char c)
{
    return c == ' ' || c == '\t';
}

/* Up to a space or tab, or to a comma or semicolon that another key follows; one at the end is no part of it,
 * nor is a bracket that was not opened in it. */
static const char *skip_bare(const char *at, const char *end)
{
    const char *stop = ind_scan_three(at, end, ' ', ',', ';');
    const char *tab = memchr(at, '\t', (size_t)(stop - at));
    if (tab) /* nothing behind it counts */
        stop = end = tab;
    while (stop < end && *stop != ' ' && stop + 1 < end && !ends_word(stop[1]) &&
           !key_follows(stop + 1, end)) {
        const char *from = stop + 1;
        stop = ind_scan_three(from, end, ' ', ',', ';');
        if ((tab = memchr(from, '\t', (size_t)(stop - from))) != NULL)
            stop = end = tab;
    }
    if (stop == at || is(stop[-1], IND_IN_KEY))
        return stop;
    static const char closing[] = ")]}", opening[] = "([{";
    const char *bracket = stop[-1] ? strchr(closing, stop[-1]) : NULL;
    if (bracket && !memchr(at, opening[bracket - closing], (size_t)(stop - at)))
        stop--;
    return stop;
}

struct ind_slice ind_payload_undo(struct ind_slice text, const char *escaped, struct ind_payload *payload)
{
    struct ind_buffer *scratch = &payload->scratch;
    if (text.length == 0 || !memchr(text.at, '\\', text.length) || !ind_buffer_room(scratch, text.length))
        return text;
    size_t start = scratch->length;
    for (size_t i = 0; i < text.length; i++) {
        char c = text.at[i];
        if (c == '\\' && i + 1 < text.length && text.at[i + 1] && strchr(escaped, text.at[i + 1])) {
            c = text.at[++i];
            c = c == 'n' ? '\n' : c == 'r' ? '\r' : c;
        }
        scratch->at[scratch->length++] = c;
    }
    return (struct ind_slice){scratch->at + start, scratch->length - start};
}

const char *ind_pairs_end(const char *at, const char *end)
{
    enum { LONGEST_KEY = 128 }; /* bounds what is looked at in vain */
    const char *last = NULL;
    if (at >= end || !memchr(at, '=', end - at > LONGEST_KEY ? LONGEST_KEY + 1 : (size_t)(end - at)))
        return NULL;
    while (key_follows(at, end)) {
        const char *value = (const char *)memchr(at, '=', (size_t)(end - at)) + 1;
        bool quoted = value < end && (*value == '"' || *value == '\'');
        last = quoted ? skip_quoted(value, end) : NULL;
        last = last ? last : skip_bare(value, end);
        for (at = last; at < end && (ends_word(*at) || *at == ',' || *at == ';');)
            at++;
    }
    return last;
}

/* "prefix.name" in the scratch memory; the name itself where there is no room. */
static IND_COLD struct ind_slice prefixed(struct ind_slice prefix, struct ind_slice name,
                                          struct ind_payload *payload)
{
    struct ind_buffer *scratch = &payload->scratch;
    size_t start = scratch->length;
    if (!ind_buffer_room(scratch, prefix.length + 1 + name.length))
        return name;
    ind_buffer_slice(scratch, prefix);
    ind_buffer_byte(scratch, '.');
    ind_buffer_slice(scratch, name);
    return (struct ind_slice){scratch->at + start, scratch->length - start};
}

static IND_INLINE void read_pairs(struct ind_slice text, struct ind_slice prefix, struct ind_payload *payload)
{
    const char *at = text.at, *end = text.at + text.length;
    const char *floor = at; /* no key reaches back behind the value before it */
    for (;;) {
        const char *equals = at < end ? memchr(at, '=', (size_t)(end - at)) : NULL;
        if (!equals)
            return;
        const char *key = equals;
        while (key > floor && is(key[-1], IND_IN_KEY))
            key--;
        at = equals + 1;
        if (key == equals || !is(*key, IND_BEGINS_KEY) || (key > floor && !is(key[-1], IND_BEFORE_KEY)))
            continue;
        bool quoted = at < end && (*at == '"' || *at == '\'');
        const char *stop = quoted ? skip_quoted(at, end) : NULL;
        struct ind_slice value;
        if (stop) {
            value = (struct ind_slice){at + 1, (size_t)(stop - at) - 2};
            value = ind_payload_undo(value, *at == '"' ? "\"\\" : "'\\", payload);
        } else {
            stop = skip_bare(at, end);
            value = (struct ind_slice){at, (size_t)(stop - at)};
        }
        struct ind_slice name = {key, (size_t)(equals - key)};
        name = prefix.length ? prefixed(prefix, name, payload) : name;
        if (!ind_payload_add(payload, name, value))
            return;
        payload->kinds |= IND_PAYLOAD_PAIRS;
        at = floor = stop;
    }
}

void ind_payload_read_pairs(struct ind_slice text, struct ind_slice prefix, struct ind_payload *payload)
{
    read_pairs(text, prefix, payload);
}

/* ---- Event codes ---- */

#define NAME(text)                                                                                           \
    {                                                                                                        \
        text, sizeof(text) - 1                                                                               \
    }
static const struct ind_slice code_names[] = {NAME("code_group"), NAME("code_subgroup"),
                                              NAME("code_severity"), NAME("code_name"),
                                              NAME("code_sequence")};

static size_t read_code(const struct ind_message *message, struct ind_payload *payload)
{
    struct ind_event_code code;
    if (!ind_event_code_read(message->text, &code))
        return 0;
    if (payload->count + sizeof code_names / sizeof *code_names > IND_PAYLOAD_FIELDS) {
        payload->more = true;
        return code.length;
    }
    struct ind_pair *fields = payload->fields + payload->count;
    size_t count = 0;
    fields[count++] = (struct ind_pair){code_names[0], code.group};
    fields[count] = (struct ind_pair){code_names[1], code.subgroup};
    count += code.subgroup.length > 0;
    fields[count++] = (struct ind_pair){code_names[2], code.severity};
    fields[count++] = (struct ind_pair){code_names[3], code.name};
    fields[count] = (struct ind_pair){code_names[4], message->sequence};
    payload->count += count + (message->sequence.length > 0);
    payload->kinds |= IND_PAYLOAD_CODE;
    return code.length;
}

void ind_payload_begin(struct ind_payload *payload, char *scratch, size_t room)
{
    payload->kinds = 0;
    payload->pattern = IND_NOTHING;
    payload->from_pattern = 0;
    payload->more = false;
    payload->count = 0;
    payload->scratch = ind_buffer_on(scratch, room);
}

void ind_payload_add_known(const struct ind_message *message, struct ind_payload *payload)
{
    struct ind_slice text = message->text;
    const size_t before = payload->count;
    const bool more = payload->more;
    while (text.length && text.at[0] == ' ')
        text = ind_slice_from(text, 1);
    if (text.length == 0)
        return;
    if (text.at[0] == '{' && ind_payload_read_json(text, IND_NOTHING, payload)) {
        payload->kinds |= IND_PAYLOAD_JSON;
    } else if (ind_slice_starts(text, IND_SLICE("CEF:")) &&
               ind_payload_read_cef(ind_slice_from(text, 4), payload)) {
        payload->kinds |= IND_PAYLOAD_CEF;
    } else {
        payload->count = before;
        payload->more = more;
        size_t code = *text.at == '%' || *text.at == '#' ? read_code(message, payload) : 0;
        read_pairs(ind_slice_from(text, code), IND_NOTHING, payload);
    }
    payload->more |= payload->scratch.full;
}

void ind_payload_read(const struct ind_message *message, char *scratch, size_t room,
                      struct ind_payload *payload)
{
    ind_payload_begin(payload, scratch, room);
    ind_payload_add_known(message, payload);
}

bool ind_payload_find(const struct ind_payload *payload, struct ind_slice name, size_t *from,
                      struct ind_slice *value)
{
    for (; *from < payload->count; (*from)++)
        if (ind_slice_equal(payload->fields[*from].name, name)) {
            *value = payload->fields[(*from)++].value;
            return true;
        }
    return false;
}

bool ind_payload_may_give(struct ind_slice name, const char **near)
{
    static const char *const names[] = {"code_group",         "code_subgroup",      "code_severity",
                                        "code_name",          "code_sequence",      "cef_version",
                                        "cef_device_vendor",  "cef_device_product", "cef_device_version",
                                        "cef_event_class_id", "cef_name",           "cef_severity"};
    const size_t count = sizeof names / sizeof *names;
    *near = NULL;
    if (!ind_slice_starts(name, IND_SLICE("code_")) && !ind_slice_starts(name, IND_SLICE("cef_")))
        return true;
    for (size_t i = 0; i < count; i++)
        if (ind_slice_equal(name, ind_slice_of(names[i])))
            return true;
    *near = ind_near(name, names, count);
    return false;
}
