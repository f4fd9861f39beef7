/* core/line/plain.c: the layout `plain`. A line with nothing to escape is put together in one go, each byte
 * looked at while it is copied; any other is written column by column. */
#include "core/line/line_private.h"

#include "core/message/names.h"

/* What a byte becomes at most; bytes of the longest lag, and of a line without its columns. A column may be
 * copied with 16 bytes that are not its own. */
enum { ESCAPED = 4, LAG_MOST = 24, FIXED = IND_TIME_WIDTH_MOST + LAG_MOST + IND_PRI_ROOM + 16 + 16 };

/* ---- Times ---- */

static void put_two(char *at, unsigned number)
{
    memcpy(at, ind_digit_pairs + 2 * number, 2);
}

/* The text of the second of `time`. In UTC another second of the same day only has another clock. */
IND_COLD static void turn_clock(struct ind_line_clock *clock, ind_time time)
{
    const int64_t seconds = ind_time_seconds(time);
    clock->from = seconds * IND_SECOND;
    clock->to = clock->from + IND_SECOND;
    if (!clock->zone && seconds >= clock->day && seconds - clock->day < IND_DAY_SECONDS &&
        clock->end_length) {
        const unsigned of_day = (unsigned)(seconds - clock->day);
        put_two(clock->text + 11, of_day / 3600);
        put_two(clock->text + 14, of_day / 60 % 60);
        put_two(clock->text + 17, of_day % 60);
        return;
    }
    char whole[IND_TIME_WIDTH_MOST];
    struct ind_buffer written = ind_buffer_on(whole, sizeof whole);
    ind_zone_write_time(clock->zone, time, &written);
    memcpy(clock->text, whole, sizeof clock->text);
    clock->end_length = (uint8_t)(written.length - (IND_TIME_WIDTH - 1));
    memcpy(clock->end, whole + IND_TIME_WIDTH - 1, clock->end_length);
    clock->day = seconds - (seconds % IND_DAY_SECONDS + IND_DAY_SECONDS) % IND_DAY_SECONDS;
}

char *ind_line_put_time(char *at, struct ind_line_clock *clock, ind_time time)
{
    if (time < clock->from || time >= clock->to)
        turn_clock(clock, time);
    memcpy(at, clock->text, sizeof clock->text);
    ind_put_six(at + 20, (uint32_t)((time - clock->from) / 1000));
    memcpy(at + 26, clock->end, sizeof clock->end);
    return at + IND_TIME_WIDTH - 1 + clock->end_length;
}

/* Hundredths of a second, with sign: enough for eyes. Returns where it ends; LAG_MOST bytes are free. */
static IND_INLINE char *put_lag(char *at, const struct ind_message *message)
{
    if (message->sent == IND_TIME_NONE || message->received == IND_TIME_NONE) {
        *at = '-';
        return at + 1;
    }
    const int64_t lag = ind_lag_hundredths(message->received, message->sent);
    const uint64_t size = lag < 0 ? 0 - (uint64_t)lag : (uint64_t)lag;
    if (size >= 10000) { /* a clock that is off, or was never set */
        struct ind_buffer written = ind_buffer_on(at, LAG_MOST);
        ind_hundredths_write(&written, lag);
        return at + written.length;
    }
    *at = '-';
    at += lag < 0;
    const unsigned whole = (unsigned)size / 100;
    const bool two = whole >= 10;
    memcpy(at, ind_digit_pairs + 2 * whole + !two, 2);
    at += 1 + two;
    *at = '.';
    put_two(at + 1, (unsigned)size % 100);
    return at + 3;
}

/* ---- At one go ---- */

/* One column without looking for room; an absent one is `-`. Returns where the next begins; NULL where there
 * is something to escape. `brackets`: parentheses are. */
static IND_INLINE char *put_clean(char *at, struct ind_slice text, struct ind_slice original, bool brackets)
{
    if (text.length == 0) {
        memcpy(at, "- ", 2);
        return at + 2;
    }
    if (text.length == 1 && text.at[0] == '-')
        return NULL;
    if (!ind_line_copy_clean(at, text, original, ' ' + 1, '\\', '\\', brackets))
        return NULL;
    at[text.length] = ' ';
    return at + text.length + 1;
}

/* Whether a bare DEVICE tells the host as well. */
static IND_INLINE bool is_own_host(const struct ind_message *message)
{
    return message->host.at == message->device.at ? message->host.length == message->device.length
                                                  : ind_slice_equal(message->host, message->device);
}

/* DEVICE, or DEVICE(HOST); `-` for no host. NULL as above. */
static IND_INLINE char *put_device(char *at, const struct ind_message *message)
{
    at = put_clean(at, message->device, message->original, true);
    if (!at || is_own_host(message))
        return at;
    at[-1] = '(';
    at = put_clean(at, message->host, message->original, true);
    if (!at)
        return NULL;
    memcpy(at - 1, ") ", 2);
    return at + 1;
}

/* Structured data has blanks in it, which are written as escapes. */
static char *put_data(char *at, struct ind_slice data)
{
    struct ind_buffer written = ind_buffer_on(at, ESCAPED * data.length + 1);
    if (data.length == 0)
        *at = '-';
    else
        ind_escape_column(&written, data);
    at += data.length == 0 ? 1 : written.length;
    *at = ' ';
    return at + 1;
}

/* The rule: nothing to escape, room for all. */
bool ind_line_write_plain(const struct ind_message *message, struct ind_line_clock *clock,
                          struct ind_buffer *buffer)
{
    const size_t most = message->device.length + message->host.length + message->app.length +
                        message->procid.length + message->msgid.length + ESCAPED * message->data.length +
                        message->text.length + FIXED;
    if (message->device.length == 0 || message->text.length < 2 || buffer->full || most > IND_LINE_MOST ||
        buffer->capacity - buffer->length < most)
        return false;
    char *at = ind_line_put_time(buffer->at + buffer->length, clock, message->time);
    *at++ = ' ';
    at = put_lag(at, message);
    *at++ = ' ';
    at = put_device(at, message);
    if (!at)
        return false;
    at = ind_pri_put(at - 1, message->facility, message->severity);
    at = put_clean(at, message->app, message->original, false);
    at = at ? put_clean(at, message->procid, message->original, false) : NULL;
    at = at ? put_clean(at, message->msgid, message->original, false) : NULL;
    if (!at)
        return false;
    at = put_data(at, message->data);
    if (!ind_copy_clean(at, message->text.at, message->text.length, ' ', '\\'))
        return false;
    at += message->text.length;
    *at++ = '\n';
    buffer->length = (size_t)(at - buffer->at);
    return true;
}

/* ---- Column by column ---- */

static void write_device(const struct ind_message *message, struct ind_buffer *buffer)
{
    ind_escape_odd_column(buffer, message->device, "()");
    if (is_own_host(message))
        return;
    ind_buffer_byte(buffer, '(');
    ind_escape_odd_column(buffer, message->host, "()");
    ind_buffer_byte(buffer, ')');
}

IND_COLD void ind_line_write_columns(const struct ind_message *message, struct ind_line_clock *clock,
                                     struct ind_buffer *buffer)
{
    if (!ind_buffer_room(buffer, FIXED))
        return;
    char *at = ind_line_put_time(buffer->at + buffer->length, clock, message->time);
    *at++ = ' ';
    at = put_lag(at, message);
    *at++ = ' ';
    buffer->length = (size_t)(at - buffer->at);
    write_device(message, buffer);
    ind_pri_write(buffer, message->facility, message->severity);
    const struct ind_slice columns[] = {message->app, message->procid, message->msgid, message->data};
    for (size_t i = 0; i < sizeof columns / sizeof *columns; i++) {
        ind_escape_column(buffer, columns[i]);
        ind_buffer_byte(buffer, ' ');
    }
    ind_escape_text(buffer, message->text);
}
