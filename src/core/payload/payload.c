#include "core/payload/payload.h"

#include "core/base/scan.h"
#include "core/message/event_code.h"
#include "core/message/names.h"
#include "core/payload/payload_private.h"

/* ---- Event codes ---- */

static const struct ind_slice code_names[] = {IND_LITERAL("code_group"), IND_LITERAL("code_subgroup"),
                                              IND_LITERAL("code_severity"), IND_LITERAL("code_name"),
                                              IND_LITERAL("code_sequence")};

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

/* A JSON object, "@cee:" before it or not. */
static bool read_json(struct ind_slice text, struct ind_payload *payload)
{
    if (*text.at == '@') {
        if (!ind_slice_starts(text, IND_SLICE("@cee:")))
            return false;
        text = ind_slice_from(text, 5);
        while (text.length && text.at[0] == ' ')
            text = ind_slice_from(text, 1);
    }
    if (text.length == 0 || *text.at != '{' || !ind_payload_read_json(text, IND_NOTHING, payload))
        return false;
    payload->kinds |= IND_PAYLOAD_JSON;
    return true;
}

/* What is all of the text, by its first byte. */
static bool read_whole(struct ind_slice text, struct ind_payload *payload)
{
    switch (*text.at) {
    case '{':
    case '@':
        return read_json(text, payload);
    case 'C':
        if (!ind_slice_starts(text, IND_SLICE("CEF:")) ||
            !ind_payload_read_cef(ind_slice_from(text, 4), payload))
            return false;
        payload->kinds |= IND_PAYLOAD_CEF;
        return true;
    case 'L':
        if (!ind_slice_starts(text, IND_SLICE("LEEF:")) ||
            !ind_payload_read_leef(ind_slice_from(text, 5), payload))
            return false;
        payload->kinds |= IND_PAYLOAD_LEEF;
        return true;
    default:
        return false;
    }
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
    if (!read_whole(text, payload)) {
        payload->count = before;
        payload->more = more;
        size_t code = *text.at == '%' || *text.at == '#' ? read_code(message, payload) : 0;
        ind_payload_read_pairs(ind_slice_from(text, code), IND_NOTHING, payload);
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
    static const char *const names[] = {
        "code_group",         "code_subgroup",      "code_severity",     "code_name",
        "code_sequence",      "cef_version",        "cef_device_vendor", "cef_device_product",
        "cef_device_version", "cef_event_class_id", "cef_name",          "cef_severity",
        "leef_version",       "leef_vendor",        "leef_product",      "leef_product_version",
        "leef_event_id"};
    const size_t count = sizeof names / sizeof *names;
    *near = NULL;
    if (!ind_slice_starts(name, IND_SLICE("code_")) && !ind_slice_starts(name, IND_SLICE("cef_")) &&
        !ind_slice_starts(name, IND_SLICE("leef_")))
        return true;
    for (size_t i = 0; i < count; i++)
        if (ind_slice_equal(name, ind_slice_of(names[i])))
            return true;
    *near = ind_near(name, names, count);
    return false;
}
