/* core/line/json.c: the layout `json`. Where a string has bytes that are not UTF-8 the line is written once
 * more, in the way that can be undone, and says so: "escaped". */
#include "core/line/line_private.h"

#include "core/message/names.h"
#include "core/message/structured_data.h"
#include "core/payload/payload.h"

/* A line under way. */
struct writing {
    struct ind_buffer *buffer;
    struct ind_line_clock *clock; /* of its times */
    struct ind_slice original;    /* the message as received */
    bool reversible;
    bool odd; /* some string has bytes that are not UTF-8 */
};

static void put_string(struct writing *writing, struct ind_slice text, bool key)
{
    ind_buffer_byte(writing->buffer, '"');
    writing->odd |= !ind_escape_json(writing->buffer, text, writing->reversible, key);
    ind_buffer_byte(writing->buffer, '"');
}

/* Copies a text with nothing to escape. False where it has something. */
static IND_INLINE bool copy_clean(char *to, struct ind_slice text, struct ind_slice original)
{
    return ind_line_copy_clean(to, text, original, ' ', '"', '\\', false);
}

/* What stands in front of a member: `lead` is `,"name":"`. */
#define LEAD(name) IND_SLICE(",\"" name "\":\"")

/* A member that is a string; an empty one is left out. The comma in front of the first is taken back at the
 * end of the object. */
static IND_INLINE void member(struct writing *writing, struct ind_slice lead, struct ind_slice value)
{
    struct ind_buffer *buffer = writing->buffer;
    if (value.length == 0 || !ind_buffer_room(buffer, lead.length + value.length + 17))
        return;
    char *at = buffer->at + buffer->length;
    memcpy(at, lead.at, lead.length);
    at += lead.length;
    if (copy_clean(at, value, writing->original)) {
        at[value.length] = '"';
        buffer->length += lead.length + value.length + 1;
        return;
    }
    buffer->length += lead.length;
    writing->odd |= !ind_escape_json(buffer, value, writing->reversible, false);
    ind_buffer_byte(buffer, '"');
}

static IND_INLINE void time_member(struct writing *writing, struct ind_slice lead, ind_time time)
{
    struct ind_buffer *buffer = writing->buffer;
    if (time == IND_TIME_NONE || !ind_buffer_room(buffer, lead.length + IND_TIME_WIDTH_MOST + 1))
        return;
    char *at = buffer->at + buffer->length;
    memcpy(at, lead.at, lead.length);
    at = ind_line_put_time(at + lead.length, writing->clock, time);
    *at++ = '"';
    buffer->length = (size_t)(at - buffer->at);
}

/* ---- Structured data ---- */

/* With more elements, or parameters in one, the data is written as text: names have to be compared each with
 * each. */
enum { ELEMENTS = 64, PARAMS = 64 };

struct elements {
    size_t count;
    struct {
        struct ind_slice id;
        size_t params; /* where they begin */
    } list[ELEMENTS];
};

static bool list_elements(struct ind_slice data, struct elements *elements)
{
    struct ind_slice id;
    struct ind_param param;
    size_t params, after = 0;
    elements->count = 0;
    for (size_t at = 0; ind_data_element(data, at, &id, &params); at = after) {
        if (elements->count == ELEMENTS)
            return false;
        elements->list[elements->count].id = id;
        elements->list[elements->count++].params = params;
        size_t count = 0;
        for (; ind_data_param(data, params, &param, &after); params = param.next)
            if (count++ == PARAMS)
                return false;
    }
    return true;
}

/* One parameter's value: the escapes of RFC 5424 section 6.3.3 undone in place, those of JSON put in. */
static void write_param_value(struct writing *writing, struct ind_slice value)
{
    char room[512];
    struct ind_buffer undone = ind_buffer_on(room, sizeof room);
    if (value.length == 0 || !memchr(value.at, '\\', value.length)) {
        put_string(writing, value, false);
        return;
    }
    ind_data_unescape(value, &undone);
    if (!undone.full) {
        put_string(writing, ind_buffer_view(&undone), false);
        return;
    }
    /* A long one is undone behind what is written, where there is room for the outcome as well. */
    struct ind_buffer *buffer = writing->buffer;
    size_t start = buffer->length + 6 * value.length + 2;
    if (buffer->full || start > buffer->capacity || buffer->capacity - start < value.length) {
        buffer->full = true;
        return;
    }
    undone = ind_buffer_on(buffer->at + start, value.length);
    ind_data_unescape(value, &undone);
    put_string(writing, ind_buffer_view(&undone), false);
}

/* Between members. */
static void put_comma(struct ind_buffer *buffer)
{
    if (buffer->at[buffer->length - 1] != '{')
        ind_buffer_byte(buffer, ',');
}

/* A parameter given twice is a list. */
static void write_element(struct writing *writing, struct ind_slice data, size_t at)
{
    struct ind_param params[PARAMS];
    size_t count = 0, after;
    struct ind_buffer *buffer = writing->buffer;
    for (; count < PARAMS && ind_data_param(data, at, &params[count], &after); at = params[count++].next)
        ;
    ind_buffer_byte(buffer, '{');
    for (size_t i = 0; i < count; i++) {
        if (!params[i].name.at)
            continue; /* written with its like */
        struct ind_slice name = params[i].name;
        size_t alike = 0;
        for (size_t j = i + 1; j < count; j++)
            alike += params[j].name.at && ind_slice_equal(params[j].name, name);
        put_comma(buffer);
        put_string(writing, name, true);
        ind_buffer_text(buffer, alike ? ":[" : ":");
        write_param_value(writing, params[i].value);
        for (size_t j = i + 1; alike && j < count; j++)
            if (params[j].name.at && ind_slice_equal(params[j].name, name)) {
                ind_buffer_byte(buffer, ',');
                write_param_value(writing, params[j].value);
                params[j].name.at = NULL;
            }
        ind_buffer_text(buffer, alike ? "]" : "");
    }
    ind_buffer_byte(buffer, '}');
}

/* Elements of one SD-ID are a list. */
static void write_data(struct writing *writing, struct ind_slice data)
{
    struct elements elements;
    struct ind_buffer *buffer = writing->buffer;
    if (!list_elements(data, &elements)) {
        member(writing, LEAD("data_text"), data);
        return;
    }
    ind_buffer_text(buffer, ",\"data\":{");
    for (size_t i = 0; i < elements.count && !buffer->full; i++) {
        struct ind_slice id = elements.list[i].id;
        size_t alike = 0;
        if (!id.at)
            continue;
        for (size_t j = i + 1; j < elements.count; j++)
            alike += elements.list[j].id.at && ind_slice_equal(elements.list[j].id, id);
        put_comma(buffer);
        put_string(writing, id, true);
        ind_buffer_text(buffer, alike ? ":[" : ":");
        for (size_t j = i; j < elements.count; j++)
            if (elements.list[j].id.at && ind_slice_equal(elements.list[j].id, id)) {
                ind_buffer_text(buffer, j > i ? "," : "");
                write_element(writing, data, elements.list[j].params);
                elements.list[j].id.at = NULL;
            }
        ind_buffer_text(buffer, alike ? "]" : "");
    }
    ind_buffer_byte(buffer, '}');
}

/* ---- Fields and labels ---- */

/* How often names are met that are alike at first sight: most fields of a payload have a name of their own,
 * which nothing else has to be compared with. */
enum { KINDS_OF_NAMES = 256 };
struct names {
    unsigned char met[KINDS_OF_NAMES]; /* up to 2 */
};

static unsigned kind_of_name(struct ind_slice name)
{
    const unsigned first = name.length ? (unsigned char)name.at[0] : 0,
                   middle = name.length ? (unsigned char)name.at[name.length / 2] : 0,
                   last = name.length ? (unsigned char)name.at[name.length - 1] : 0;
    return (first * 7 + middle * 31 + last * 113 + (unsigned)name.length * 59) % KINDS_OF_NAMES;
}

static void meet_names(const struct ind_payload *payload, struct names *names)
{
    *names = (struct names){{0}};
    for (size_t i = 0; i < payload->count; i++) {
        unsigned char *met = &names->met[kind_of_name(payload->fields[i].name)];
        *met = (unsigned char)(*met + (*met < 2));
    }
}

static bool same_name_before(const struct ind_payload *payload, size_t index)
{
    for (size_t i = 0; i < index; i++)
        if (ind_slice_equal(payload->fields[i].name, payload->fields[index].name))
            return true;
    return false;
}

/* A field that may be there several times: then it is a list. */
static void write_values(struct writing *writing, const struct ind_payload *payload, size_t index)
{
    struct ind_buffer *buffer = writing->buffer;
    struct ind_slice name = payload->fields[index].name, value;
    size_t next = index, count = 0;
    while (ind_payload_find(payload, name, &next, &value))
        count++;
    ind_buffer_text(buffer, count > 1 ? "[" : "");
    next = index;
    for (size_t i = 0; ind_payload_find(payload, name, &next, &value); i++) {
        ind_buffer_text(buffer, i ? "," : "");
        put_string(writing, value, false);
    }
    ind_buffer_text(buffer, count > 1 ? "]" : "");
}

/* Name and value where neither has anything to escape; false, and nothing is added, where one has, or there
 * is little room. */
static IND_INLINE bool put_clean_field(struct writing *writing, const struct ind_pair *field)
{
    struct ind_buffer *buffer = writing->buffer;
    if (buffer->full || buffer->capacity - buffer->length < field->name.length + field->value.length + 40)
        return false;
    char *at = buffer->at + buffer->length;
    *at = ',';
    at += at[-1] != '{';
    *at++ = '"';
    if (!copy_clean(at, field->name, writing->original))
        return false;
    at += field->name.length;
    memcpy(at, "\":\"", 3);
    at += 3;
    if (!copy_clean(at, field->value, writing->original))
        return false;
    at += field->value.length;
    *at++ = '"';
    buffer->length = (size_t)(at - buffer->at);
    return true;
}

static void write_fields(struct writing *writing, const struct ind_payload *payload)
{
    struct ind_buffer *buffer = writing->buffer;
    struct names names;
    bool cut = payload->more;
    size_t start = buffer->length;
    meet_names(payload, &names);
    ind_buffer_text(buffer, ",\"fields\":{");
    for (size_t i = 0; i < payload->count && !cut && !buffer->full; i++) {
        struct ind_buffer before = *buffer;
        const struct ind_pair *field = &payload->fields[i];
        const bool alone = names.met[kind_of_name(field->name)] < 2;
        if (!alone && same_name_before(payload, i))
            continue;
        if (!alone || !put_clean_field(writing, field)) {
            put_comma(buffer);
            put_string(writing, field->name, true);
            ind_buffer_byte(buffer, ':');
            write_values(writing, payload, i);
        }
        cut = buffer->length - start > IND_FIELDS_ROOM - 64;
        if (cut)
            *buffer = before;
    }
    ind_buffer_byte(buffer, '}');
    ind_buffer_text(buffer, cut ? ",\"fields_cut\":true" : "");
}

static void write_labels(struct writing *writing, const struct ind_message *message)
{
    struct ind_buffer *buffer = writing->buffer;
    size_t state = 0;
    struct ind_slice name, value;
    const char *before = ",\"labels\":{";
    while (ind_message_next_label(message, &state, &name, &value)) {
        ind_buffer_text(buffer, before);
        before = ",";
        put_string(writing, name, true);
        ind_buffer_byte(buffer, ':');
        put_string(writing, value, false);
    }
    if (before[1] == '\0')
        ind_buffer_byte(buffer, '}');
}

static void write_flag(struct ind_buffer *buffer, const char *name, bool set)
{
    if (!set)
        return;
    ind_buffer_text(buffer, ",\"");
    ind_buffer_text(buffer, name);
    ind_buffer_text(buffer, "\":true");
}

static void write_object(struct writing *writing, const struct ind_message *message, bool cut)
{
    struct ind_buffer *buffer = writing->buffer;
    const size_t start = buffer->length;
    time_member(writing, LEAD("time"), message->time);
    time_member(writing, LEAD("sent"), message->sent);
    time_member(writing, LEAD("received"), message->received);
    member(writing, LEAD("device"), message->device);
    member(writing, LEAD("sender"), message->sender);
    member(writing, LEAD("transport"), ind_transport_name(message->transport));
    member(writing, LEAD("listener"), message->listener);
    member(writing, LEAD("certificate"), message->certificate);
    member(writing, LEAD("host"), message->host);
    member(writing, LEAD("facility"), ind_facility_name(message->facility));
    member(writing, LEAD("severity"), ind_severity_name(message->severity));
    member(writing, LEAD("app"), message->app);
    member(writing, LEAD("procid"), message->procid);
    member(writing, LEAD("msgid"), message->msgid);
    member(writing, LEAD("location"), message->location);
    if (message->data.length)
        write_data(writing, message->data);
    member(writing, LEAD("text"), message->text);
    if (message->form != IND_FORM_BARE)
        member(writing, LEAD("format"), ind_form_name(message->form));
    member(writing, LEAD("malformed"), ind_malformed_name(message->malformed));
    if (message->payload)
        member(writing, LEAD("pattern"), message->payload->pattern);
    if (message->payload && message->payload->count)
        write_fields(writing, message->payload);
    if (message->additions || (message->configured && message->configured->label_count))
        write_labels(writing, message);
    write_flag(buffer, "line_cut", cut);
    write_flag(buffer, "escaped", writing->reversible);
    ind_buffer_byte(buffer, '}');
    if (!buffer->full)
        buffer->at[start] = '{'; /* where the first comma is: facility and severity are always there */
}

void ind_line_write_json(const struct ind_message *message, struct ind_line_clock *clock, bool cut,
                         struct ind_buffer *buffer)
{
    struct writing writing = {.buffer = buffer, .clock = clock, .original = message->original};
    const struct ind_buffer before = *buffer;
    write_object(&writing, message, cut);
    if (!writing.odd || buffer->full)
        return;
    *buffer = before;
    writing.reversible = true;
    write_object(&writing, message, cut);
}
