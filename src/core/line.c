#include "core/line.h"

#include "core/condition.h"
#include "core/escape.h"
#include "core/header.h"
#include "core/names.h"
#include "core/payload.h"
#include "core/structured_data.h"

static const char *const layout_names[IND_LAYOUTS] = {"plain", "json", "rfc5424", "raw"};

struct ind_slice ind_layout_name(enum ind_layout layout)
{
    return ind_slice_of(layout_names[layout]);
}

int ind_layout_read(struct ind_slice name)
{
    for (int i = 0; i < IND_LAYOUTS; i++)
        if (ind_slice_equal(name, ind_slice_of(layout_names[i])))
            return i;
    return -1;
}

unsigned ind_layout_lacks(enum ind_layout layout)
{
    const unsigned receipt = 1u << IND_FIELD_SENDER | 1u << IND_FIELD_LISTENER | 1u << IND_FIELD_TRANSPORT;
    const unsigned original = 1u << IND_FIELD_ORIGINAL, lag = 1u << IND_FIELD_LAG;
    switch (layout) {
    case IND_LAYOUT_JSON:
        return original;
    case IND_LAYOUT_PLAIN:
        return receipt | original;
    case IND_LAYOUT_RFC5424:
        return receipt | original | lag;
    default:
        return receipt | lag;
    }
}

/* Hundredths of a second, with sign: enough for eyes. */
static void write_lag(struct ind_buffer *buffer, const struct ind_message *message)
{
    if (message->sent == IND_TIME_NONE || message->received == IND_TIME_NONE) {
        ind_buffer_byte(buffer, '-');
        return;
    }
    ind_time_write_hundredths(buffer, message->received - message->sent);
}

static void write_time(struct ind_buffer *buffer, struct ind_line_clock *clock, ind_time time)
{
    if (time < clock->from || time >= clock->to) {
        char whole[IND_TIME_WIDTH];
        struct ind_buffer written = ind_buffer_on(whole, sizeof whole);
        ind_time_write(&written, time);
        memcpy(clock->text, whole, sizeof clock->text);
        clock->from = ind_time_seconds(time) * IND_SECOND;
        clock->to = clock->from + IND_SECOND;
    }
    if (!ind_buffer_room(buffer, IND_TIME_WIDTH))
        return;
    char *at = buffer->at + buffer->length;
    memcpy(at, clock->text, sizeof clock->text);
    ind_put_six(at + 20, (uint32_t)((time - clock->from) / 1000));
    at[26] = 'Z';
    buffer->length += IND_TIME_WIDTH;
}

static bool calls_itself_otherwise(const struct ind_message *message, struct ind_slice domain)
{
    return message->host.length && message->host.at != message->device.at &&
           !ind_slice_equal_nocase(ind_without_domain(message->host, domain), message->device);
}

/* One column without looking for room; an absent one is `-`. Returns where the next begins; NULL where there
 * is something to escape. */
static char *put_clean(char *at, struct ind_slice text, char also)
{
    if (text.length == 0) {
        *at = '-';
        text.length = 1;
    } else if (!ind_copy_clean(at, text.at, text.length, ' ' + 1, also)) {
        return NULL;
    }
    at[text.length] = ' ';
    return at + text.length + 1;
}

/* The rule: nothing to escape, room for all. The beginning, up to the lag, stands in the buffer; the rest is
 * added, or nothing where it is no such message. */
static bool write_clean(const struct ind_message *message, struct ind_buffer *buffer)
{
    size_t before = buffer->length;
    size_t most = message->device.length + message->app.length + message->procid.length +
                  message->msgid.length + message->text.length + 96;
    if (message->device.length == 0 || message->text.length == 0 || message->data.length || buffer->full ||
        buffer->capacity - buffer->length < most)
        return false;
    char *at = put_clean(buffer->at + before, message->device, '/');
    if (!at)
        return false;
    buffer->length = (size_t)(at - 1 - buffer->at);
    ind_pri_write(buffer, message->facility, message->severity);
    at = put_clean(buffer->at + buffer->length, message->app, ' ');
    at = at ? put_clean(at, message->procid, ' ') : NULL;
    at = at ? put_clean(at, message->msgid, ' ') : NULL;
    if (!at || !ind_copy_clean(at + 2, message->text.at, message->text.length, ' ', '\0')) {
        buffer->length = before;
        return false;
    }
    at[0] = '-';
    at[1] = ' ';
    at += 2 + message->text.length;
    *at++ = '\n';
    buffer->length = (size_t)(at - buffer->at);
    return true;
}

static void write_plain(const struct ind_message *message, struct ind_slice domain,
                        struct ind_line_clock *clock, struct ind_buffer *buffer)
{
    write_time(buffer, clock, message->time);
    ind_buffer_byte(buffer, ' ');
    write_lag(buffer, message);
    ind_buffer_byte(buffer, ' ');
    bool otherwise = calls_itself_otherwise(message, domain);
    if (!otherwise && write_clean(message, buffer))
        return;
    ind_escape_column(buffer, message->device, '/');
    if (otherwise) {
        ind_buffer_byte(buffer, '/');
        ind_escape_column(buffer, message->host, '/');
    }
    ind_pri_write(buffer, message->facility, message->severity);
    ind_escape_column(buffer, message->app, '\0');
    ind_buffer_byte(buffer, ' ');
    ind_escape_column(buffer, message->procid, '\0');
    ind_buffer_byte(buffer, ' ');
    ind_escape_column(buffer, message->msgid, '\0');
    ind_buffer_byte(buffer, ' ');
    ind_escape_column(buffer, message->data, '\0');
    ind_buffer_byte(buffer, ' ');
    if (message->text.length)
        ind_escape_text(buffer, message->text);
    else
        ind_buffer_byte(buffer, '-');
    ind_buffer_byte(buffer, '\n');
}

static void member(struct ind_buffer *buffer, const char *name, struct ind_slice value)
{
    if (value.length == 0)
        return;
    ind_buffer_text(buffer, buffer->at[buffer->length - 1] == '{' ? "\"" : ",\"");
    ind_buffer_text(buffer, name);
    ind_buffer_text(buffer, "\":\"");
    ind_escape_json(buffer, value);
    ind_buffer_byte(buffer, '"');
}

static void time_member(struct ind_buffer *buffer, const char *name, ind_time time)
{
    char text[IND_TIME_WIDTH];
    struct ind_buffer written = ind_buffer_on(text, sizeof text);
    if (time == IND_TIME_NONE)
        return;
    ind_time_write(&written, time);
    member(buffer, name, ind_buffer_view(&written));
}

/* One parameter's value: the escapes of RFC 5424 section 6.3.3 undone, those of JSON put in. */
static void write_param_value(struct ind_slice value, struct ind_buffer *buffer)
{
    size_t from = 0;
    ind_buffer_byte(buffer, '"');
    for (size_t at = 0; at < value.length; at++)
        if (ind_data_is_escape(value, at)) {
            ind_escape_json(buffer, (struct ind_slice){value.at + from, at - from});
            from = ++at;
        }
    ind_escape_json(buffer, ind_slice_from(value, from));
    ind_buffer_byte(buffer, '"');
}

static bool given_before(struct ind_slice data, size_t from, const struct ind_param *wanted)
{
    struct ind_param param;
    size_t after;
    for (size_t at = from; ind_data_param(data, at, &param, &after); at = param.next) {
        if (param.name.at == wanted->name.at)
            return false;
        if (ind_slice_equal(param.name, wanted->name))
            return true;
    }
    return false;
}

/* A parameter given twice is a list. Elements hold few parameters: each looks ahead for its like. */
static void write_param(struct ind_slice data, const struct ind_param *param, struct ind_buffer *buffer)
{
    struct ind_param next;
    size_t after, count = 1;
    ind_buffer_byte(buffer, '"');
    ind_escape_json(buffer, param->name);
    ind_buffer_text(buffer, "\":");
    size_t list_at = buffer->length;
    ind_buffer_byte(buffer, '[');
    write_param_value(param->value, buffer);
    for (size_t at = param->next; ind_data_param(data, at, &next, &after); at = next.next)
        if (ind_slice_equal(next.name, param->name)) {
            ind_buffer_byte(buffer, ',');
            write_param_value(next.value, buffer);
            count++;
        }
    if (buffer->full)
        return;
    if (count > 1) {
        ind_buffer_byte(buffer, ']');
    } else {
        memmove(buffer->at + list_at, buffer->at + list_at + 1, buffer->length - list_at - 1);
        buffer->length--;
    }
}

enum { PARAMS_LOOKED_AT = 64 }; /* bounds the steps for a hostile element; what is beyond is left out */

static void write_data(struct ind_slice data, struct ind_buffer *buffer)
{
    struct ind_slice id;
    struct ind_param param;
    size_t params, after = 0;
    ind_buffer_text(buffer, ",\"data\":{");
    for (size_t at = 0; ind_data_element(data, at, &id, &params); at = after) {
        size_t first = params, count = 0;
        if (at > 0)
            ind_buffer_byte(buffer, ',');
        ind_buffer_byte(buffer, '"');
        ind_escape_json(buffer, id);
        ind_buffer_text(buffer, "\":{");
        for (; ind_data_param(data, params, &param, &after); params = param.next) {
            if (count++ >= PARAMS_LOOKED_AT || given_before(data, first, &param))
                continue;
            if (buffer->at[buffer->length - 1] != '{')
                ind_buffer_byte(buffer, ',');
            write_param(data, &param, buffer);
        }
        ind_buffer_byte(buffer, '}');
    }
    ind_buffer_byte(buffer, '}');
}

static bool same_name_before(const struct ind_payload *payload, size_t index)
{
    for (size_t i = 0; i < index; i++)
        if (ind_slice_equal(payload->fields[i].name, payload->fields[index].name))
            return true;
    return false;
}

static void write_text(struct ind_buffer *buffer, struct ind_slice text)
{
    ind_buffer_byte(buffer, '"');
    ind_escape_json(buffer, text);
    ind_buffer_byte(buffer, '"');
}

/* A field that is there several times is a list. */
static void write_field(const struct ind_payload *payload, size_t index, struct ind_buffer *buffer)
{
    struct ind_slice name = payload->fields[index].name, value;
    size_t next = index, count = 0;
    while (ind_payload_find(payload, name, &next, &value))
        count++;
    write_text(buffer, name);
    ind_buffer_text(buffer, count > 1 ? ":[" : ":");
    next = index;
    for (size_t i = 0; ind_payload_find(payload, name, &next, &value); i++) {
        ind_buffer_text(buffer, i ? "," : "");
        write_text(buffer, value);
    }
    ind_buffer_text(buffer, count > 1 ? "]" : "");
}

static void write_fields(const struct ind_payload *payload, struct ind_buffer *buffer)
{
    bool cut = payload->more;
    size_t start = buffer->length;
    ind_buffer_text(buffer, ",\"fields\":{");
    for (size_t i = 0; i < payload->count && !cut; i++) {
        struct ind_buffer before = *buffer;
        if (same_name_before(payload, i))
            continue;
        ind_buffer_text(buffer, buffer->at[buffer->length - 1] == '{' ? "" : ",");
        write_field(payload, i, buffer);
        cut = buffer->length - start > IND_FIELDS_ROOM - 64;
        if (cut)
            *buffer = before;
    }
    ind_buffer_byte(buffer, '}');
    ind_buffer_text(buffer, cut ? ",\"fields_cut\":true" : "");
}

static void write_labels(const struct ind_message *message, struct ind_buffer *buffer)
{
    size_t state = 0;
    struct ind_slice name, value;
    const char *before = ",\"labels\":{";
    while (ind_message_next_label(message, &state, &name, &value)) {
        ind_buffer_text(buffer, before);
        before = ",";
        write_text(buffer, name);
        ind_buffer_byte(buffer, ':');
        write_text(buffer, value);
    }
    if (before[1] == '\0')
        ind_buffer_byte(buffer, '}');
}

static void write_json(const struct ind_message *message, struct ind_buffer *buffer)
{
    ind_buffer_byte(buffer, '{');
    time_member(buffer, "time", message->time);
    time_member(buffer, "sent", message->sent);
    time_member(buffer, "received", message->received);
    member(buffer, "device", message->device);
    member(buffer, "sender", message->sender);
    member(buffer, "transport", ind_transport_name(message->transport));
    member(buffer, "listener", message->listener);
    member(buffer, "host", message->host);
    member(buffer, "facility", ind_facility_name(message->facility));
    member(buffer, "severity", ind_severity_name(message->severity));
    member(buffer, "app", message->app);
    member(buffer, "procid", message->procid);
    member(buffer, "msgid", message->msgid);
    member(buffer, "location", message->location);
    if (message->data.length)
        write_data(message->data, buffer);
    member(buffer, "text", message->text);
    if (message->form != IND_FORM_BARE)
        member(buffer, "format", ind_form_name(message->form));
    member(buffer, "malformed", ind_malformed_name(message->malformed));
    if (message->payload)
        member(buffer, "pattern", message->payload->pattern);
    if (message->payload && message->payload->count)
        write_fields(message->payload, buffer);
    write_labels(message, buffer);
    ind_buffer_text(buffer, "}\n");
}

static void field_5424(struct ind_buffer *buffer, struct ind_slice value)
{
    ind_escape_column(buffer, value, '\0');
    ind_buffer_byte(buffer, ' ');
}

/* TIMESTAMP is the time by which the message is filed, so that the file is in order and can be searched. */
static void write_rfc5424(const struct ind_message *message, struct ind_buffer *buffer)
{
    ind_buffer_byte(buffer, '<');
    ind_buffer_number(buffer, message->facility * 8u + message->severity);
    ind_buffer_text(buffer, ">1 ");
    ind_time_write(buffer, message->time);
    ind_buffer_byte(buffer, ' ');
    field_5424(buffer, message->host.length ? message->host : message->device);
    field_5424(buffer, message->app);
    field_5424(buffer, message->procid);
    field_5424(buffer, message->msgid);
    if (message->data.length)
        ind_escape_text(buffer, message->data);
    else
        ind_buffer_byte(buffer, '-');
    if (message->text.length) {
        ind_buffer_byte(buffer, ' ');
        ind_escape_text(buffer, message->text);
    }
    ind_buffer_byte(buffer, '\n');
}

void ind_line_write(enum ind_layout layout, const struct ind_message *message, struct ind_slice domain,
                    struct ind_line_clock *clock, struct ind_buffer *buffer)
{
    switch (layout) {
    case IND_LAYOUT_JSON:
        write_json(message, buffer);
        break;
    case IND_LAYOUT_RFC5424:
        write_rfc5424(message, buffer);
        break;
    case IND_LAYOUT_RAW:
        ind_escape_raw(buffer, message->original);
        ind_buffer_byte(buffer, '\n');
        break;
    default:
        write_plain(message, domain, clock, buffer);
        break;
    }
}

ind_time ind_line_plain_time(struct ind_slice line)
{
    ind_time time;
    enum ind_time_style style;
    if (line.length <= IND_TIME_WIDTH || line.at[IND_TIME_WIDTH - 1] != 'Z' ||
        line.at[IND_TIME_WIDTH] != ' ' || ind_time_read(line, &time, &style) != IND_TIME_WIDTH)
        return IND_TIME_NONE;
    return time;
}

static struct ind_slice take_column(struct ind_slice *rest)
{
    const char *blank = rest->length ? memchr(rest->at, ' ', rest->length) : NULL;
    struct ind_slice column = {rest->at, blank ? (size_t)(blank - rest->at) : rest->length};
    *rest = ind_slice_from(*rest, blank ? column.length + 1 : column.length);
    return column;
}

static struct ind_slice present(struct ind_slice column)
{
    return column.length == 1 && column.at[0] == '-' ? IND_NOTHING : column;
}

/* "0.12", "-3.00" or "-"; false where it is none of these. */
static bool read_lag(struct ind_slice column, ind_time received, ind_time *sent)
{
    if (present(column).length == 0)
        return column.length == 1;
    bool negative = column.at[0] == '-';
    int64_t hundredths = 0;
    size_t at = negative ? 1 : 0, digits = 0;
    for (; at < column.length && digits < 15; at++) {
        if (ind_is_digit(column.at[at])) {
            hundredths = hundredths * 10 + (column.at[at] - '0');
            digits++;
        } else if (column.at[at] != '.' || at + 3 != column.length) {
            return false;
        }
    }
    if (column.length < 4 || column.at[column.length - 3] != '.' || at != column.length)
        return false;
    ind_time exact = received - (negative ? -hundredths : hundredths) * (IND_SECOND / 100);
    ind_time step = IND_SECOND / 100; /* the column tells no more than that */
    *sent = (exact + step / 2) / step * step;
    return true;
}

bool ind_line_read_plain(struct ind_slice line, struct ind_message *message)
{
    ind_time time = ind_line_plain_time(line);
    if (time == IND_TIME_NONE)
        return false;
    *message = (struct ind_message){
        .received = IND_TIME_NONE, .sent = IND_TIME_NONE, .time = time, .original = line};
    struct ind_slice rest = ind_slice_from(line, IND_TIME_WIDTH + 1);
    if (!read_lag(take_column(&rest), time, &message->sent))
        return false;
    if (message->sent != IND_TIME_NONE)
        message->received = time;
    struct ind_slice device = take_column(&rest);
    const char *slash = device.length ? memchr(device.at, '/', device.length) : NULL;
    message->device = slash ? (struct ind_slice){device.at, (size_t)(slash - device.at)} : device;
    message->host = slash ? ind_slice_from(device, message->device.length + 1) : device;
    int facility = ind_facility_read(take_column(&rest)), severity = ind_severity_read(take_column(&rest));
    if (facility < 0 || severity < 0)
        return false;
    message->facility = (uint8_t)facility;
    message->severity = (uint8_t)severity;
    message->app = present(take_column(&rest));
    message->procid = present(take_column(&rest));
    message->msgid = present(take_column(&rest));
    message->data = present(take_column(&rest));
    message->text = present(rest);
    message->pri_given = true;
    message->transport = IND_TRANSPORT_UNKNOWN; /* as is the form: the layout does not hold them */
    return true;
}
