/* core/message/common_prelude.c: what routers and switches mostly put before an event code, read at one go.
 * It takes only what prelude.c would read in the same way; everything else is left to that. */
#include "core/message/rfc3164_private.h"
#include "core/time/plain_stamp.h"

/* The shortest code behind anything: "%A-1-B:". With it, eight bytes are there to look at. */
enum { LEAST = 8 };

/* "29: ", up to eight digits: returns what follows, or NULL. */
static const char *skip_number(const char *at, const char *end, struct ind_slice *number)
{
    if (end - at < 2 * LEAST)
        return NULL;
    const uint64_t others = ind_above_nine(ind_word8(at) ^ UINT64_C(0x3030303030303030));
    const char *stop = at + (others ? ind_lowest_bit(others) / 8 : 8);
    if (stop == at || stop[0] != ':' || stop[1] != ' ')
        return NULL;
    *number = ind_between(at, stop);
    return stop + 2;
}

/* "Nov 23 04:45:00: ", with milliseconds, with " UTC": returns what follows, or NULL. */
static const char *read_stamp(const struct ind_reading *reading, const char *at, struct ind_message *message)
{
    int month, day, of_day, fraction = 0;
    if (reading->end - at < 15 + 4 + 6 + LEAST || !ind_stamp_fields(at, &month, &day, &of_day))
        return NULL;
    const char *stop = at + 15;
    if (*stop == '.') {
        fraction = ind_three_digits(stop + 1);
        stop += 4;
        if (fraction < 0)
            return NULL;
    }
    const bool utc = ind_word4(stop) == IND_WORD4(' ', 'U', 'T', 'C');
    stop += utc ? 4 : 0;
    if (stop[0] != ':' || stop[1] != ' ')
        return NULL;
    message->sent =
        ind_settle_year(month, day, of_day, reading->reference, utc ? NULL : reading->zone) * IND_SECOND +
        fraction * (IND_SECOND / 1000);
    message->timestamp = ind_between(at, stop);
    message->mark = IND_MARK_NONE;
    return stop + 2;
}

/* A host and a colon in front of a number or a time; with a slash in it, or without a blank behind the colon,
 * it is the part of the device that speaks. Returns what follows, or NULL. */
static const char *read_speaker(const char *at, const char *end, struct ind_message *message)
{
    bool letters;
    const char *stop = ind_skip_tag(at, end, &letters);
    if (!letters || end - stop < 2 * LEAST || *stop != ':')
        return NULL;
    const struct ind_slice word = ind_between(at, stop);
    const bool blank = stop[1] == ' ';
    if (!blank || memchr(word.at, '/', word.length))
        message->location = word;
    else
        message->host = word;
    return stop + 1 + blank;
}

/* The code, or a process in front of it: returns where the code is, or NULL. */
static const char *read_code(const char *at, const char *end, bool hosted, struct ind_message *message)
{
    if (at < end && *at == '%')
        return ind_is_code(at, end) ? at : NULL;
    if (at == end || !ind_is_alpha(*at))
        return NULL;
    const char *code = ind_read_tag(at, end, message);
    if (code == at || !ind_is_code(code, end))
        return NULL;
    if (message->procid.length)
        return code;
    if (memchr(message->app.at, '/', message->app.length))
        return NULL;
    if (*code == '%' && !hosted) {
        message->host = message->app;
        message->app = IND_NOTHING;
    }
    return code;
}

const char *ind_read_common_prelude(const struct ind_reading *reading, const char *at,
                                    struct ind_message *message)
{
    const char *end = reading->end, *next;
    struct ind_message read;
    read.host = IND_NOTHING;
    read.app = IND_NOTHING;
    read.procid = IND_NOTHING;
    read.sequence = IND_NOTHING;
    read.location = IND_NOTHING;
    if (ind_is_digit(*at) && !(at = skip_number(at, end, &read.sequence)))
        return NULL;
    next = read_stamp(reading, at, &read);
    if (!next) {
        if (!ind_is_alpha(*at) || !(at = read_speaker(at, end, &read)))
            return NULL;
        next = read_stamp(reading, at, &read);
    }
    const char *code = next ? read_code(next, end, read.host.length > 0, &read) : NULL;
    if (!code)
        return NULL;
    message->sent = read.sent;
    message->timestamp = read.timestamp;
    message->mark = read.mark;
    message->sequence = read.sequence;
    message->location = read.location;
    message->app = read.app;
    message->procid = read.procid;
    if (read.host.length)
        message->host = read.host;
    message->form = IND_FORM_RFC3164;
    return code;
}
