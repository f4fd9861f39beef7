#include "core/line/line_private.h"

#include "core/base/escape.h"
#include "core/message/names.h"
#include "core/message/structured_data.h"

ind_time ind_line_plain_time(struct ind_slice line, size_t *width)
{
    ind_time time;
    enum ind_time_style style;
    if (line.length <= IND_TIME_WIDTH)
        return IND_TIME_NONE;
    char end = line.at[IND_TIME_WIDTH - 1];
    *width = end == 'Z' ? IND_TIME_WIDTH : IND_TIME_WIDTH_MOST;
    if ((end != 'Z' && end != '+' && end != '-') || line.length <= *width || line.at[*width] != ' ' ||
        ind_time_read(line, &time, &style) != *width)
        return IND_TIME_NONE;
    return time;
}

static struct ind_slice read_column(struct ind_slice *rest)
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
static bool read_lag(struct ind_slice column, ind_time time, struct ind_message *message)
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
    hundredths = negative ? -hundredths : hundredths;
    ind_time exact = ind_time_before(time, hundredths), step = IND_SECOND / 100;
    if (exact == IND_TIME_NONE) { /* an edit has moved the time: what counts is the lag */
        message->sent = time;
        message->received = ind_time_before(time, -hundredths);
        return message->received != IND_TIME_NONE;
    }
    /* The column tells no more than hundredths, and most clocks send no more: but the same lag must follow.
     */
    ind_time rounded = (exact + step / 2) / step * step;
    message->sent = ind_lag_hundredths(time, rounded) == hundredths ? rounded : exact;
    message->received = time;
    return true;
}

static struct ind_slice undo(struct ind_slice written, char **scratch)
{
    if (written.length == 0 || !memchr(written.at, '\\', written.length))
        return written;
    struct ind_slice undone = {*scratch, ind_unescape(*scratch, written)};
    *scratch += undone.length;
    return undone;
}

static struct ind_slice undo_column(struct ind_slice *rest, char **scratch)
{
    return undo(present(read_column(rest)), scratch);
}

/* The mark of a line that was cut goes. */
static struct ind_slice without_mark(struct ind_slice text, struct ind_message *message)
{
    const struct ind_slice mark = IND_SLICE(IND_CUT_MARK);
    message->line_cut =
        text.length >= mark.length && memcmp(text.at + text.length - mark.length, mark.at, mark.length) == 0;
    text.length -= message->line_cut ? mark.length : 0;
    return text;
}

static bool read_names(struct ind_slice *rest, struct ind_message *message)
{
    int facility = ind_facility_read(read_column(rest)), severity = ind_severity_read(read_column(rest));
    message->facility = (uint8_t)facility;
    message->severity = (uint8_t)severity;
    return facility >= 0 && severity >= 0;
}

/* What the layouts of text have in common. */
static struct ind_message blank(struct ind_slice line, ind_time time)
{
    return (struct ind_message){.received = IND_TIME_NONE,
                                .sent = IND_TIME_NONE,
                                .time = time,
                                .original = line,
                                .pri_given = true,
                                .transport = IND_TRANSPORT_UNKNOWN}; /* as is the form: no column holds it */
}

/* DEVICE or DEVICE(HOST): neither holds a parenthesis of its own. */
static bool read_device(struct ind_slice column, char **scratch, struct ind_message *message)
{
    const char *open = column.length ? memchr(column.at, '(', column.length) : NULL;
    struct ind_slice device = open ? (struct ind_slice){column.at, (size_t)(open - column.at)} : column;
    if (device.length == 0 || (open && column.at[column.length - 1] != ')'))
        return false;
    message->device = message->host = undo(device, scratch);
    if (open)
        message->host =
            undo(present((struct ind_slice){open + 1, column.length - device.length - 2}), scratch);
    return true;
}

static bool begin_plain(struct ind_slice line, struct ind_message *message, struct ind_slice *rest)
{
    size_t width;
    ind_time time = ind_line_plain_time(line, &width);
    if (time == IND_TIME_NONE)
        return false;
    *message = blank(line, time);
    *rest = ind_slice_from(line, width + 1);
    return read_lag(read_column(rest), time, message);
}

bool ind_line_read_plain(struct ind_slice line, char *scratch, struct ind_message *message)
{
    struct ind_slice rest;
    if (!begin_plain(line, message, &rest) || !read_device(read_column(&rest), &scratch, message) ||
        !read_names(&rest, message))
        return false;
    message->app = undo_column(&rest, &scratch);
    message->procid = undo_column(&rest, &scratch);
    message->msgid = undo_column(&rest, &scratch);
    message->data = undo_column(&rest, &scratch);
    message->text = undo(present(without_mark(rest, message)), &scratch);
    return ind_data_length(message->data) == message->data.length;
}

bool ind_line_read_plain_old(struct ind_slice line, struct ind_message *message)
{
    struct ind_slice rest;
    if (!begin_plain(line, message, &rest))
        return false;
    struct ind_slice device = read_column(&rest);
    const char *slash = device.length ? memchr(device.at, '/', device.length) : NULL;
    message->device = slash ? (struct ind_slice){device.at, (size_t)(slash - device.at)} : device;
    message->host = slash ? ind_slice_from(device, message->device.length + 1) : device;
    if (!read_names(&rest, message))
        return false;
    message->app = present(read_column(&rest));
    message->procid = present(read_column(&rest));
    message->msgid = present(read_column(&rest));
    message->data = present(read_column(&rest));
    message->text = present(rest);
    return true;
}

/* "<PRI>1 ". */
static size_t read_pri(struct ind_slice line, struct ind_message *message)
{
    unsigned pri = 0;
    size_t at = 1;
    for (; at < line.length && at < 4 && ind_is_digit(line.at[at]); at++)
        pri = pri * 10 + (unsigned)(line.at[at] - '0');
    if (at < 2 || at + 3 > line.length || line.at[0] != '<' || memcmp(line.at + at, ">1 ", 3) != 0 ||
        pri >= IND_PRIS)
        return 0;
    message->facility = (uint8_t)(pri / 8);
    message->severity = (uint8_t)(pri % 8);
    return at + 3;
}

bool ind_line_read_rfc5424(struct ind_slice line, char *scratch, struct ind_message *message)
{
    *message = blank(line, IND_TIME_NONE);
    message->form = IND_FORM_RFC5424;
    size_t after = read_pri(line, message), data = 0, width = 0;
    struct ind_slice rest = ind_slice_from(line, after);
    message->time = after ? ind_line_plain_time(rest, &width) : IND_TIME_NONE;
    if (message->time == IND_TIME_NONE)
        return false;
    rest = ind_slice_from(rest, width + 1);
    message->host = message->device = undo_column(&rest, &scratch);
    message->app = undo_column(&rest, &scratch);
    message->procid = undo_column(&rest, &scratch);
    message->msgid = undo_column(&rest, &scratch);
    rest = without_mark(rest, message);
    data = rest.length && rest.at[0] == '-' ? 1 : ind_data_length(rest);
    if (message->device.length == 0 || data == 0 || (data < rest.length && rest.at[data] != ' '))
        return false;
    if (rest.at[0] != '-') {
        message->data =
            (struct ind_slice){scratch, ind_unescape_data(scratch, (struct ind_slice){rest.at, data})};
        scratch += message->data.length;
    }
    if (data < rest.length)
        message->text = undo(ind_slice_from(rest, data + 1), &scratch);
    return true;
}

struct ind_slice ind_line_read_raw(struct ind_slice line, char *scratch)
{
    return undo(line, &scratch);
}
