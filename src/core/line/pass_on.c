#include "core/line/pass_on.h"

#include "core/line/line.h"
#include "core/message/passed.h"
#include "core/message/structured_data.h"

enum { MOST_FIELD = 4 << 10, MOST_DATA = 96 << 10, MOST_TEXT = 256 << 10 };
_Static_assert(MOST_DATA + MOST_TEXT + 6 * MOST_FIELD < IND_LINE_MOST, "what was cut fits");

/* Section 6.2: PRINTUSASCII. What is no such byte has no place in a header. */
static void write_field(struct ind_buffer *buffer, struct ind_slice value)
{
    if (value.length == 0)
        ind_buffer_byte(buffer, '-');
    for (size_t i = 0; i < value.length && i < MOST_FIELD; i++)
        ind_buffer_byte(buffer, value.at[i] > ' ' && value.at[i] < 0x7f ? value.at[i] : '_');
    ind_buffer_byte(buffer, ' ');
}

static void write_param(struct ind_buffer *buffer, struct ind_slice name, struct ind_slice value)
{
    ind_buffer_byte(buffer, ' ');
    ind_buffer_slice(buffer, name);
    ind_buffer_text(buffer, "=\"");
    ind_buffer_slice(buffer, value);
    ind_buffer_byte(buffer, '"');
}

static unsigned count_of(struct ind_slice value)
{
    return value.length == 1 && ind_is_digit(value.at[0]) ? (unsigned)(value.at[0] - '0') : IND_PASS_ON_HOPS;
}

static unsigned hops_of(struct ind_slice data, const struct ind_element *element, struct ind_slice *received)
{
    struct ind_param param;
    size_t after;
    unsigned hops = 0;
    for (size_t at = element->params; ind_data_param(data, at, &param, &after); at = param.next) {
        if (ind_slice_equal(param.name, IND_SLICE("hops")))
            hops = count_of(param.value);
        else if (ind_slice_equal(param.name, IND_SLICE("received")))
            *received = param.value;
    }
    return hops;
}

/* All parameters but the address: that is the sender's word, and we know better. */
static void write_origin(struct ind_buffer *buffer, struct ind_slice data, const struct ind_element *element,
                         struct ind_slice sender)
{
    struct ind_param param;
    size_t after;
    ind_buffer_text(buffer, "[" IND_ORIGIN_ID);
    if (sender.length)
        write_param(buffer, IND_SLICE("ip"), sender);
    for (size_t at = element ? element->params : data.length;
         element && ind_data_param(data, at, &param, &after); at = param.next)
        if (!sender.length || !ind_slice_equal(param.name, IND_SLICE("ip")))
            write_param(buffer, param.name, param.value);
    ind_buffer_byte(buffer, ']');
}

/* Returns how often the message was passed on before. */
static unsigned write_data(struct ind_buffer *buffer, const struct ind_message *message)
{
    const struct ind_slice data = message->data.length > MOST_DATA ? IND_NOTHING : message->data;
    struct ind_slice received = IND_NOTHING;
    struct ind_element element;
    unsigned hops = 0;
    bool has_origin = false;
    for (size_t at = 0; ind_data_next(data, at, &element); at = element.after) {
        if (ind_slice_equal(element.id, IND_SLICE(IND_PASSED_ID))) {
            const unsigned these = hops_of(data, &element, &received);
            hops = these > hops ? these : hops;
        } else if (ind_slice_equal(element.id, IND_SLICE(IND_ORIGIN_ID))) {
            if (!has_origin) /* section 6.3.2: once */
                write_origin(buffer, data, &element, message->sender);
            has_origin = true;
        } else {
            ind_buffer_slice(buffer, (struct ind_slice){data.at + at, element.after - at});
        }
    }
    if (!has_origin && message->sender.length)
        write_origin(buffer, data, NULL, message->sender);
    ind_buffer_text(buffer, "[" IND_PASSED_ID " hops=\"");
    ind_buffer_number(buffer, hops + 1);
    ind_buffer_byte(buffer, '"');
    if (received.length) {
        write_param(buffer, IND_SLICE("received"), received);
    } else if (message->received != IND_TIME_NONE) {
        ind_buffer_text(buffer, " received=\"");
        ind_time_write(buffer, message->received);
        ind_buffer_byte(buffer, '"');
    }
    ind_buffer_byte(buffer, ']');
    return hops;
}

/* TIMESTAMP is what the device claims: nothing where it claims nothing. HOSTNAME likewise, but for a name
 * that it has no right to: the other side believes what a relay says. */
static unsigned write_5424(struct ind_buffer *buffer, const struct ind_message *message)
{
    ind_buffer_byte(buffer, '<');
    ind_buffer_number(buffer, message->facility * 8u + message->severity);
    ind_buffer_text(buffer, ">1 ");
    if (message->sent == IND_TIME_NONE)
        ind_buffer_byte(buffer, '-');
    else
        ind_time_write(buffer, message->sent);
    ind_buffer_byte(buffer, ' ');
    write_field(buffer, message->host.length && !message->claimed ? message->host : message->device);
    write_field(buffer, message->app);
    write_field(buffer, message->procid);
    write_field(buffer, message->msgid);
    const unsigned hops = write_data(buffer, message);
    if (message->text.length) {
        ind_buffer_byte(buffer, ' ');
        ind_buffer_slice(buffer, ind_slice_begin(message->text, MOST_TEXT));
    }
    return hops;
}

bool ind_pass_on_write(enum ind_pass_on form, const struct ind_message *message, struct ind_buffer *buffer)
{
    const size_t before = buffer->length;
    if (form == IND_PASS_ON_AS_RECEIVED) {
        ind_buffer_slice(buffer, ind_slice_begin(message->original, MOST_TEXT));
        return message->original.length > MOST_TEXT;
    }
    if (write_5424(buffer, message) >= IND_PASS_ON_HOPS && !buffer->full)
        buffer->length = before;
    return message->text.length > MOST_TEXT || message->data.length > MOST_DATA;
}
