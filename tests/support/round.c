#include "round.h"

static bool same_lag(const struct ind_message *a, const struct ind_message *b)
{
    bool none_a = a->sent == IND_TIME_NONE || a->received == IND_TIME_NONE;
    bool none_b = b->sent == IND_TIME_NONE || b->received == IND_TIME_NONE;
    return none_a == none_b &&
           (none_a || ind_lag_hundredths(a->received, a->sent) == ind_lag_hundredths(b->received, b->sent));
}

static ind_time whole(ind_time time)
{
    ind_time rest = time == IND_TIME_NONE ? 0 : ((time % 1000) + 1000) % 1000;
    return time - rest;
}

static const char *compare(enum ind_layout layout, const struct ind_message *was,
                           const struct ind_message *is)
{
    const bool json = layout == IND_LAYOUT_JSON;
    struct ind_slice host = layout == IND_LAYOUT_RFC5424 && !was->host.length ? was->device : was->host;
    if (was->facility != is->facility || was->severity != is->severity)
        return "PRI";
    if (whole(was->time) != is->time)
        return "time";
    if (!ind_slice_equal(host, is->host))
        return "host";
    if (layout != IND_LAYOUT_RFC5424 && !ind_slice_equal(was->device, is->device))
        return "device";
    if (!ind_slice_equal(was->app, is->app) || !ind_slice_equal(was->procid, is->procid) ||
        !ind_slice_equal(was->msgid, is->msgid))
        return "app, procid or msgid";
    if (!json && !ind_slice_equal(was->data, is->data))
        return "data";
    if (!ind_slice_equal(was->text, is->text))
        return "text";
    if (layout != IND_LAYOUT_RFC5424 && !same_lag(was, is))
        return "lag";
    if (json && (whole(was->sent) != is->sent || whole(was->received) != is->received))
        return "sent or received";
    if (json && (!ind_slice_equal(was->sender, is->sender) || !ind_slice_equal(was->listener, is->listener)))
        return "sender or listener";
    return NULL;
}

static const char *round_trip_in(const struct ind_zone *zone, enum ind_layout layout,
                                 const struct ind_message *message, struct ind_line_reader *reader,
                                 char *room)
{
    struct ind_line_clock clock = {.zone = zone};
    struct ind_message back;
    struct ind_slice bytes;
    struct ind_buffer first = ind_buffer_on(room, IND_LINE_MOST),
                      second = ind_buffer_on(room + IND_LINE_MOST, IND_LINE_MOST);
    bool cut = ind_line_write(layout, message, &clock, &first);
    if (first.full || first.length == 0 || memchr(room, '\n', first.length) != room + first.length - 1)
        return "it is not one line";
    struct ind_slice line = {room, first.length - 1};
    bool read = ind_line_reader_read(reader, (int)layout, line, &back, &bytes);
    if (layout == IND_LAYOUT_RAW)
        return cut || ind_slice_equal(bytes, message->original) ? NULL : "the bytes";
    if (!read)
        return "it cannot be read";
    if (back.line_cut != cut)
        return "whether it was cut";
    if (cut)
        return NULL;
    const char *wrong = compare(layout, message, &back);
    if (wrong)
        return wrong;
    back.transport = layout == IND_LAYOUT_JSON ? back.transport : message->transport;
    back.payload = message->payload;
    back.additions = message->additions;
    back.configured = message->configured;
    (void)ind_line_write(layout, &back, &clock, &second);
    return ind_slice_equal(ind_buffer_view(&first), ind_buffer_view(&second)) ? NULL
                                                                              : "what is written again";
}

const char *round_trip(enum ind_layout layout, const struct ind_message *message,
                       struct ind_line_reader *reader, char *room)
{
    struct ind_zone *zone = ind_zone_fixed(-12600);
    const char *wrong = round_trip_in(NULL, layout, message, reader, room);
    if (!wrong && zone)
        wrong = round_trip_in(zone, layout, message, reader, room);
    ind_zone_free(zone);
    return wrong;
}
