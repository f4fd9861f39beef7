#include "core/line/line_private.h"

#include "core/base/escape.h"
#include "core/message/names.h"

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

/* Hundredths of a second, with sign: enough for eyes. */
static void write_lag(struct ind_buffer *buffer, const struct ind_message *message)
{
    if (message->sent == IND_TIME_NONE || message->received == IND_TIME_NONE)
        ind_buffer_byte(buffer, '-');
    else
        ind_hundredths_write(buffer, ind_lag_hundredths(message->received, message->sent));
}

static void write_time(struct ind_buffer *buffer, struct ind_line_clock *clock, ind_time time)
{
    if (time < clock->from || time >= clock->to) {
        char whole[IND_TIME_WIDTH_MOST];
        struct ind_buffer written = ind_buffer_on(whole, sizeof whole);
        ind_zone_write_time(clock->zone, time, &written);
        memcpy(clock->text, whole, sizeof clock->text);
        clock->end_length = (uint8_t)(written.length - (IND_TIME_WIDTH - 1));
        memcpy(clock->end, whole + IND_TIME_WIDTH - 1, clock->end_length);
        clock->from = ind_time_seconds(time) * IND_SECOND;
        clock->to = clock->from + IND_SECOND;
    }
    if (!ind_buffer_room(buffer, IND_TIME_WIDTH_MOST))
        return;
    char *at = buffer->at + buffer->length;
    memcpy(at, clock->text, sizeof clock->text);
    ind_put_six(at + 20, (uint32_t)((time - clock->from) / 1000));
    memcpy(at + 26, clock->end, sizeof clock->end);
    buffer->length += IND_TIME_WIDTH - 1u + clock->end_length;
}

/* Whether a bare DEVICE tells the host as well. */
static bool is_own_host(const struct ind_message *message)
{
    return message->host.at == message->device.at ? message->host.length == message->device.length
                                                  : ind_slice_equal(message->host, message->device);
}

/* One column without looking for room; an absent one is `-`. Returns where the next begins; NULL where there
 * is something to escape. */
static char *put_clean(char *at, struct ind_slice text)
{
    if (text.length == 0)
        *at = '-';
    else if ((text.length == 1 && text.at[0] == '-') ||
             !ind_copy_clean(at, text.at, text.length, ' ' + 1, '\\'))
        return NULL;
    text.length += text.length == 0;
    at[text.length] = ' ';
    return at + text.length + 1;
}

/* A name without what would be taken for the end of one. */
static bool has_parenthesis(struct ind_slice name)
{
    return name.length && (memchr(name.at, '(', name.length) || memchr(name.at, ')', name.length));
}

/* DEVICE, or DEVICE(HOST); `-` for no host. NULL as above. */
static char *put_device(char *at, const struct ind_message *message)
{
    if (has_parenthesis(message->device))
        return NULL;
    at = put_clean(at, message->device);
    if (!at || is_own_host(message))
        return at;
    if (has_parenthesis(message->host))
        return NULL;
    at[-1] = '(';
    at = put_clean(at, message->host);
    if (!at)
        return NULL;
    at[-1] = ')';
    *at = ' ';
    return at + 1;
}

/* The rule: nothing to escape, room for all. The beginning, up to the lag, stands in the buffer; the rest is
 * added, or nothing where it is no such message. */
static bool write_clean(const struct ind_message *message, struct ind_buffer *buffer)
{
    size_t before = buffer->length;
    size_t most = message->device.length + message->host.length + message->app.length +
                  message->procid.length + message->msgid.length + message->text.length + 96;
    if (message->device.length == 0 || message->text.length < 2 || message->data.length || buffer->full ||
        buffer->capacity - buffer->length < most)
        return false;
    char *at = put_device(buffer->at + before, message);
    if (!at)
        return false;
    buffer->length = (size_t)(at - 1 - buffer->at);
    ind_pri_write(buffer, message->facility, message->severity);
    at = put_clean(buffer->at + buffer->length, message->app);
    at = at ? put_clean(at, message->procid) : NULL;
    at = at ? put_clean(at, message->msgid) : NULL;
    if (!at || !ind_copy_clean(at + 2, message->text.at, message->text.length, ' ', '\\')) {
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

static void write_device(const struct ind_message *message, struct ind_buffer *buffer)
{
    ind_escape_odd_column(buffer, message->device, "()");
    if (is_own_host(message))
        return;
    ind_buffer_byte(buffer, '(');
    ind_escape_odd_column(buffer, message->host, "()");
    ind_buffer_byte(buffer, ')');
}

static void write_plain(const struct ind_message *message, struct ind_line_clock *clock,
                        struct ind_buffer *buffer)
{
    write_time(buffer, clock, message->time);
    ind_buffer_byte(buffer, ' ');
    write_lag(buffer, message);
    ind_buffer_byte(buffer, ' ');
    if (write_clean(message, buffer))
        return;
    write_device(message, buffer);
    ind_pri_write(buffer, message->facility, message->severity);
    const struct ind_slice columns[] = {message->app, message->procid, message->msgid, message->data};
    for (size_t i = 0; i < sizeof columns / sizeof *columns; i++) {
        ind_escape_column(buffer, columns[i]);
        ind_buffer_byte(buffer, ' ');
    }
    ind_escape_text(buffer, message->text);
}

static void field_5424(struct ind_buffer *buffer, struct ind_slice value)
{
    ind_escape_column(buffer, value);
    ind_buffer_byte(buffer, ' ');
}

/* TIMESTAMP is the time by which the message is filed, so that the file is in order and can be searched. */
static void write_rfc5424(const struct ind_message *message, const struct ind_line_clock *clock,
                          struct ind_buffer *buffer)
{
    ind_buffer_byte(buffer, '<');
    ind_buffer_number(buffer, message->facility * 8u + message->severity);
    ind_buffer_text(buffer, ">1 ");
    ind_zone_write_time(clock->zone, message->time, buffer);
    ind_buffer_byte(buffer, ' ');
    field_5424(buffer, message->host.length ? message->host : message->device);
    field_5424(buffer, message->app);
    field_5424(buffer, message->procid);
    field_5424(buffer, message->msgid);
    if (message->data.length)
        ind_escape_data(buffer, message->data);
    else
        ind_buffer_byte(buffer, '-');
    if (message->text.length) {
        ind_buffer_byte(buffer, ' ');
        ind_escape_text(buffer, message->text);
    }
}

/* Without its end where that is still to come: `plain` may have it. */
static void write(enum ind_layout layout, const struct ind_message *message, bool cut,
                  struct ind_line_clock *clock, struct ind_buffer *buffer)
{
    switch (layout) {
    case IND_LAYOUT_JSON:
        ind_line_write_json(message, clock->zone, cut, buffer);
        break;
    case IND_LAYOUT_RFC5424:
        write_rfc5424(message, clock, buffer);
        break;
    case IND_LAYOUT_RAW:
        ind_escape_raw(buffer, message->original);
        break;
    default:
        write_plain(message, clock, buffer);
        break;
    }
}

/* ---- Lines that are too long ---- */

enum {
    CUT_PART = 4 << 10,  /* of each part of the header */
    CUT_DATA = 8 << 10,  /* longer structured data is left out: a piece of it is none */
    CUT_TEXT = 32 << 10, /* of the text */
    CUT_MARK = sizeof IND_CUT_MARK - 1
};
/* JSON takes the most: six bytes for one. Eight parts of the header, names of the sender and listener
 * included. */
_Static_assert(6 * (8 * CUT_PART + CUT_DATA + CUT_TEXT) + 4096 < IND_LINE_MOST, "a cut line fits");

/* Not within a character. */
static struct ind_slice beginning(struct ind_slice text, size_t most)
{
    size_t length = text.length < most ? text.length : most;
    for (int i = 0; i < 3 && length < text.length && length > 0 && (text.at[length] & 0xC0) == 0x80; i++)
        length--;
    return (struct ind_slice){text.at, length};
}

static struct ind_message shorten(const struct ind_message *message)
{
    struct ind_message less = *message;
    struct ind_slice *parts[] = {&less.device, &less.host,   &less.app,      &less.procid,
                                 &less.msgid,  &less.sender, &less.listener, &less.location};
    for (size_t i = 0; i < sizeof parts / sizeof *parts; i++)
        *parts[i] = beginning(*parts[i], CUT_PART);
    if (less.data.length > CUT_DATA)
        less.data = IND_NOTHING;
    less.text = beginning(less.text, CUT_TEXT);
    less.original = beginning(less.original, CUT_TEXT);
    less.configured = NULL;
    less.additions = NULL;
    less.payload = NULL;
    return less;
}

/* The part of `buffer` that one line may fill. */
static struct ind_buffer line_room(const struct ind_buffer *buffer)
{
    size_t free = buffer->capacity - buffer->length;
    return ind_buffer_on(buffer->at + buffer->length, free < IND_LINE_MOST ? free : IND_LINE_MOST);
}

static void end_line(enum ind_layout layout, struct ind_buffer *line)
{
    bool ended = layout == IND_LAYOUT_PLAIN && line->length && line->at[line->length - 1] == '\n';
    if (!ended)
        ind_buffer_byte(line, '\n');
}

bool ind_line_write(enum ind_layout layout, const struct ind_message *message, struct ind_line_clock *clock,
                    struct ind_buffer *buffer)
{
    struct ind_buffer line = line_room(buffer);
    write(layout, message, false, clock, &line);
    end_line(layout, &line);
    if (!line.full) {
        buffer->length += line.length;
        return false;
    }
    if (line.capacity < IND_LINE_MOST) {
        buffer->full = true;
        return false;
    }
    struct ind_message less = shorten(message);
    line = line_room(buffer);
    write(layout, &less, true, clock, &line);
    if (layout != IND_LAYOUT_JSON) {
        line.length -= line.at[line.length - 1] == '\n';
        ind_buffer_add(&line, IND_CUT_MARK, CUT_MARK);
    }
    ind_buffer_byte(&line, '\n');
    buffer->length += line.length;
    return true;
}

/* What fits, up to the end of a value. */
bool ind_line_write_template(const struct ind_template *template, const struct ind_message *message,
                             struct ind_path_clock *clock, struct ind_buffer *buffer)
{
    struct ind_buffer line = line_room(buffer);
    ind_template_line(template, message, clock, &line);
    ind_buffer_byte(&line, '\n');
    if (!line.full) {
        buffer->length += line.length;
        return false;
    }
    if (line.capacity < IND_LINE_MOST) {
        buffer->full = true;
        return false;
    }
    struct ind_message less = shorten(message);
    line = line_room(buffer);
    line.capacity -= CUT_MARK + 1;
    ind_template_line(template, &less, clock, &line);
    line.full = false;
    line.capacity += CUT_MARK + 1;
    ind_buffer_add(&line, IND_CUT_MARK "\n", CUT_MARK + 1);
    buffer->length += line.length;
    return true;
}
