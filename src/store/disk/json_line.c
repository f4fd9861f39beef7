#include "store/disk/json_line.h"

#include "core/base/escape.h"
#include "core/message/names.h"
#include "core/message/structured_data.h"
#include "store/disk/json_quick.h"
#include <jansson.h>
#include <stdlib.h>

struct ind_json_line {
    json_t *object;
    bool escaped; /* strings are to be undone */
    char *data;   /* structured data put together again, and strings undone */
    size_t room, used;
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

static struct ind_slice string_of(const json_t *value)
{
    return json_is_string(value) ? (struct ind_slice){json_string_value(value), json_string_length(value)}
                                 : IND_NOTHING;
}

static struct ind_slice text_of(const json_t *object, const char *name)
{
    return string_of(json_object_get(object, name));
}

static ind_time time_of(const json_t *object, const char *name)
{
    ind_time time;
    enum ind_time_style style;
    struct ind_slice text = text_of(object, name);
    return text.length && ind_time_read(text, &time, &style) == text.length ? time : IND_TIME_NONE;
}

/* A message has no more structured data than this; what would take more is no line of ours. */
enum { MOST_DATA = 1 << 20 };

/* Room for all that is put together from one line: undone strings are no longer than they were, of structured
 * data each byte can need an escape, and each value of a list a name of its own. */
static size_t room_for_data(const json_t *data, size_t most)
{
    const char *id, *name;
    json_t *elements, *value;
    size_t room = 0;
    if (!json_is_object(data))
        return most;
    json_object_foreach((json_t *)(uintptr_t)data, id, elements)
    {
        size_t count = json_is_array(elements) ? json_array_size(elements) : 1;
        room += count * (strlen(id) + 2);
        for (size_t i = 0; i < count; i++) {
            json_t *element = json_is_array(elements) ? json_array_get(elements, i) : elements;
            json_object_foreach(element, name, value) room +=
                (json_is_array(value) ? json_array_size(value) : 1) * (strlen(name) + 4);
        }
    }
    return room + 2 * most;
}

static bool make_room(struct ind_json_line *line, size_t room)
{
    line->used = 0;
    if (line->room >= room)
        return true;
    char *grown = realloc(line->data, room * 2);
    if (!grown)
        return false;
    line->data = grown;
    line->room = room * 2;
    return true;
}

/* A string as it was before it was written. */
static struct ind_slice undo(struct ind_json_line *line, struct ind_slice text)
{
    if (!line->escaped || text.length == 0 || !memchr(text.at, '\\', text.length))
        return text;
    char *to = line->data + line->used;
    size_t length = ind_unescape_json(to, text);
    line->used += length;
    return (struct ind_slice){to, length};
}

static struct ind_slice member(struct ind_json_line *line, const char *name)
{
    return undo(line, text_of(line->object, name));
}

static void write_param(struct ind_json_line *line, struct ind_buffer *buffer, struct ind_slice name,
                        const json_t *value)
{
    ind_buffer_byte(buffer, ' ');
    ind_buffer_slice(buffer, name);
    ind_buffer_text(buffer, "=\"");
    struct ind_slice text = undo(line, string_of(value));
    for (size_t i = 0; i < text.length; i++) {
        if (text.at[i] == '"' || text.at[i] == '\\' || text.at[i] == ']')
            ind_buffer_byte(buffer, '\\');
        ind_buffer_byte(buffer, text.at[i]);
    }
    ind_buffer_byte(buffer, '"');
}

/* Names are undone once, however many have them: so what is undone is never more than the line. */
static void write_element(struct ind_json_line *line, struct ind_buffer *buffer, struct ind_slice id,
                          json_t *params)
{
    const char *key;
    json_t *value, *each;
    size_t i;
    ind_buffer_byte(buffer, '[');
    ind_buffer_slice(buffer, id);
    json_object_foreach(params, key, value)
    {
        struct ind_slice name = undo(line, ind_slice_of(key));
        if (json_is_array(value))
            json_array_foreach(value, i, each) write_param(line, buffer, name, each);
        else
            write_param(line, buffer, name, value);
    }
    ind_buffer_byte(buffer, ']');
}

/* Behind the strings that are undone. */
static struct ind_slice data_of(struct ind_json_line *line, json_t *data, size_t most)
{
    const char *key;
    json_t *elements, *each;
    size_t i;
    if (!json_is_object(data))
        return member(line, "data_text");
    struct ind_buffer buffer = ind_buffer_on(line->data + 2 * most, line->room - 2 * most);
    json_object_foreach(data, key, elements)
    {
        struct ind_slice id = undo(line, ind_slice_of(key));
        if (json_is_array(elements))
            json_array_foreach(elements, i, each) write_element(line, &buffer, id, each);
        else
            write_element(line, &buffer, id, elements);
    }
    return buffer.full ? IND_NOTHING : ind_buffer_view(&buffer);
}

bool ind_json_line_read(struct ind_json_line *line, struct ind_slice text, struct ind_message *message)
{
    if (ind_json_quick_read(text, message))
        return true;
    return ind_json_line_read_any(line, text, message);
}

bool ind_json_line_read_any(struct ind_json_line *line, struct ind_slice text, struct ind_message *message)
{
    json_decref(line->object);
    line->object = json_loadb(text.at, text.length, JSON_ALLOW_NUL, NULL);
    const json_t *object = line->object;
    json_t *data = json_object_get(object, "data");
    const size_t room = room_for_data(data, text.length);
    int facility = ind_facility_read(text_of(object, "facility"));
    int severity = ind_severity_read(text_of(object, "severity"));
    ind_time time = time_of(object, "time");
    if (!json_is_object(object) || facility < 0 || severity < 0 || time == IND_TIME_NONE ||
        room > MOST_DATA + 2 * text.length || !make_room(line, 2 * text.length + room))
        return false;
    line->escaped = json_is_true(json_object_get(object, "escaped"));
    *message = (struct ind_message){
        .received = time_of(object, "received"),
        .sent = time_of(object, "sent"),
        .time = time,
        .facility = (uint8_t)facility,
        .severity = (uint8_t)severity,
        .form = (uint8_t)ind_json_form(text_of(object, "format")),
        .malformed = (uint8_t)ind_json_malformed(text_of(object, "malformed")),
        .transport = (uint8_t)ind_transport_read(text_of(object, "transport")),
        .pri_given = true,
        .line_cut = json_is_true(json_object_get(object, "line_cut")),
        .original = text,
        .host = member(line, "host"),
        .app = member(line, "app"),
        .procid = member(line, "procid"),
        .msgid = member(line, "msgid"),
        .text = member(line, "text"),
        .sender = member(line, "sender"),
        .device = member(line, "device"),
        .listener = member(line, "listener"),
        .certificate = member(line, "certificate"),
        .location = member(line, "location"),
        .sequence = text_of(json_object_get(object, "fields"), "code_sequence"),
    };
    message->data = data_of(line, data, text.length);
    return ind_data_length(message->data) == message->data.length;
}
