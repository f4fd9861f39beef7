#include "core/line/line_private.h"

#include "core/base/escape.h"

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

/* Without its end. */
static void write(enum ind_layout layout, const struct ind_message *message, bool cut,
                  struct ind_line_clock *clock, struct ind_buffer *buffer)
{
    switch (layout) {
    case IND_LAYOUT_JSON:
        ind_line_write_json(message, clock, cut, buffer);
        break;
    case IND_LAYOUT_RFC5424:
        write_rfc5424(message, clock, buffer);
        break;
    case IND_LAYOUT_RAW:
        ind_escape_raw(buffer, message->original);
        break;
    default:
        ind_line_write_columns(message, clock, buffer);
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

bool ind_line_write(enum ind_layout layout, const struct ind_message *message, struct ind_line_clock *clock,
                    struct ind_buffer *buffer)
{
    if (layout == IND_LAYOUT_PLAIN && ind_line_write_plain(message, clock, buffer))
        return false;
    struct ind_buffer line = line_room(buffer);
    write(layout, message, false, clock, &line);
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
    write(layout, &less, true, clock, &line);
    if (layout != IND_LAYOUT_JSON)
        ind_buffer_add(&line, IND_CUT_MARK, CUT_MARK);
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
