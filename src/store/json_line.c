#include "store/json_line.h"

#include "core/names.h"
#include <jansson.h>
#include <stdlib.h>

struct ind_json_line {
    json_t *object;
    char *data; /* structured data put together again */
    size_t room;
};

struct ind_json_line *ind_json_line_new(void)
{
    return calloc(1, sizeof(struct ind_json_line));
}

void ind_json_line_free(struct ind_json_line *line)
{
    if (!line)
        return;
    json_decref(line->object);
    free(line->data);
    free(line);
}

static struct ind_slice text_of(const json_t *object, const char *name)
{
    const json_t *value = json_object_get(object, name);
    return json_is_string(value) ? (struct ind_slice){json_string_value(value), json_string_length(value)}
                                 : IND_NOTHING;
}

static ind_time time_of(const json_t *object, const char *name)
{
    ind_time time;
    enum ind_time_style style;
    struct ind_slice text = text_of(object, name);
    return text.length && ind_time_read(text, &time, &style) == text.length ? time : IND_TIME_NONE;
}

static void write_param(struct ind_buffer *buffer, const char *name, const json_t *value)
{
    ind_buffer_byte(buffer, ' ');
    ind_buffer_text(buffer, name);
    ind_buffer_text(buffer, "=\"");
    const char *text = json_string_value(value);
    for (size_t i = 0; text && i < json_string_length(value); i++) {
        if (text[i] == '"' || text[i] == '\\' || text[i] == ']')
            ind_buffer_byte(buffer, '\\');
        ind_buffer_byte(buffer, text[i]);
    }
    ind_buffer_byte(buffer, '"');
}

static struct ind_slice data_of(struct ind_json_line *line, size_t room)
{
    json_t *data = json_object_get(line->object, "data"), *params, *value, *each;
    const char *id, *name;
    size_t i;
    if (!json_is_object(data))
        return IND_NOTHING;
    if (line->room <
        room * 2 + 64) { /* an escape doubles a byte; a list repeats names shorter than its quotes */
        char *grown = realloc(line->data, room * 8 + 64);
        if (!grown)
            return IND_NOTHING;
        line->data = grown;
        line->room = room * 8 + 64;
    }
    struct ind_buffer buffer = ind_buffer_on(line->data, line->room);
    json_object_foreach(data, id, params)
    {
        ind_buffer_byte(&buffer, '[');
        ind_buffer_text(&buffer, id);
        json_object_foreach(params, name, value)
        {
            if (!json_is_array(value))
                write_param(&buffer, name, value);
            else
                json_array_foreach(value, i, each) write_param(&buffer, name, each);
        }
        ind_buffer_byte(&buffer, ']');
    }
    return buffer.full ? IND_NOTHING : ind_buffer_view(&buffer);
}

static unsigned form_of(struct ind_slice name)
{
    for (unsigned form = IND_FORM_RFC3164; form <= IND_FORM_RFC5424; form++)
        if (ind_slice_equal(name, ind_form_name(form)))
            return form;
    return IND_FORM_BARE;
}

static unsigned malformed_of(struct ind_slice name)
{
    for (unsigned reason = 1; name.length && reason < IND_MALFORMED_KINDS; reason++)
        if (ind_slice_equal(name, ind_malformed_name(reason)))
            return reason;
    return IND_MALFORMED_NOT;
}

bool ind_json_line_read(struct ind_json_line *line, struct ind_slice text, struct ind_message *message)
{
    json_decref(line->object);
    line->object = json_loadb(text.at, text.length, JSON_ALLOW_NUL, NULL);
    const json_t *object = line->object;
    int facility = ind_facility_read(text_of(object, "facility"));
    int severity = ind_severity_read(text_of(object, "severity"));
    ind_time time = time_of(object, "time");
    if (!json_is_object(object) || facility < 0 || severity < 0 || time == IND_TIME_NONE)
        return false;
    *message = (struct ind_message){
        .received = time_of(object, "received"),
        .sent = time_of(object, "sent"),
        .time = time,
        .facility = (uint8_t)facility,
        .severity = (uint8_t)severity,
        .form = (uint8_t)form_of(text_of(object, "format")),
        .malformed = (uint8_t)malformed_of(text_of(object, "malformed")),
        .transport = (uint8_t)ind_transport_read(text_of(object, "transport")),
        .pri_given = true,
        .original = text,
        .host = text_of(object, "host"),
        .app = text_of(object, "app"),
        .procid = text_of(object, "procid"),
        .msgid = text_of(object, "msgid"),
        .text = text_of(object, "text"),
        .sender = text_of(object, "sender"),
        .device = text_of(object, "device"),
        .listener = text_of(object, "listener"),
        .location = text_of(object, "location"),
        .sequence = text_of(json_object_get(object, "fields"), "code_sequence"),
    };
    message->data = data_of(line, text.length);
    return true;
}
