/* core/message/prelude.c: what network devices put before an event code. */
#include "core/message/event_code.h"
#include "core/message/rfc3164_private.h"

/* "29: ": digits, a colon, a space. */
static const char *skip_number(const char *at, const char *end, struct ind_slice *number)
{
    const char *stop = at;
    while (stop < end && stop - at < 12 && ind_is_digit(*stop))
        stop++;
    if (stop == at || end - stop < 2 || stop[0] != ':' || stop[1] != ' ')
        return NULL;
    *number = ind_between(at, stop);
    return stop + 2;
}

IND_COLD static size_t read_stamp(const struct ind_reading *reading, const char *at, struct ind_stamp *stamp)
{
    return ind_stamp_read(at, reading->end, reading->reference, reading->zone, stamp);
}

/* "SH/0/SL1/CPU0:": a word with a slash in it and a colon. */
bool ind_is_location(const char *at, const char *end)
{
    bool letters;
    const char *stop = ind_skip_tag(at, end, &letters);
    return letters && stop < end && *stop == ':' && memchr(at, '/', (size_t)(stop - at)) != NULL;
}

/* A number in front of a time or a code may stand between the two as well. */
static bool is_numbered(const char *at, const char *end)
{
    struct ind_slice number;
    const char *behind = at < end && ind_is_digit(*at) ? skip_number(at, end, &number) : NULL;
    return behind && (ind_is_code(behind, end) || ind_stamp_may_begin(behind, end));
}

/* Behind "*taskName: " in front of a time or a code; NULL where there is none. */
static const char *skip_task(const char *at, const char *end, struct ind_slice *task)
{
    bool letters;
    if (end - at < 3 || *at != '*' || !ind_is_alpha(at[1]))
        return NULL;
    const char *stop = ind_skip_tag(at + 1, end, &letters);
    if (end - stop < 3 || stop[0] != ':' || stop[1] != ' ' ||
        !(ind_is_code(stop + 2, end) || ind_stamp_may_begin(stop + 2, end)))
        return NULL;
    *task = ind_between(at + 1, stop);
    return stop + 2;
}

/* Whether what may follow a host stands here, but for a code. */
static bool may_follow_host(const char *at, const char *end)
{
    struct ind_slice task;
    return ind_stamp_may_begin(at, end) || is_numbered(at, end) || skip_task(at, end, &task);
}

/* Digits in front of a point, or up to four of hexadecimal in front of a colon that no blank follows. Quick.
 */
static bool may_be_address(const char *at, const char *end)
{
    const char *stop = at;
    while (stop < end && stop - at < 4 && ind_is_digit(*stop))
        stop++;
    if (stop > at && stop < end && *stop == '.')
        return true;
    while (stop < end && stop - at < 4 && ind_is_hex(*stop))
        stop++;
    return end - stop > 1 && *stop == ':' && stop[1] != ' ';
}

/* "2001:db8::131: ", "192.0.2.9 " in front of any of these. */
static const char *read_address(const char *at, const char *end, struct ind_prelude *prelude)
{
    if (!may_be_address(at, end))
        return NULL;
    struct ind_slice address = ind_address_at(at, end);
    if (address.length == 0)
        return NULL;
    const char *next = ind_skip_blanks(at + address.length + (at[address.length] == ':'), end);
    if (next == end || !(ind_is_code(next, end) || may_follow_host(next, end)))
        return NULL;
    prelude->host = address;
    prelude->addressed = true;
    return next;
}

/* A word and a colon that a time or a code follows: without a space between, or with a slash in it, it is the
 * part of the device that speaks ("SH/0/SL1/CPU0:Nov 23 …"), otherwise its host. "host Nov 23 …" too. */
static const char *read_speaker(const char *at, const char *end, struct ind_prelude *prelude)
{
    bool letters;
    const char *stop = ind_skip_tag(at, end, &letters);
    if (stop == at || end - stop < 2)
        return NULL;
    struct ind_slice word = ind_between(at, stop);
    bool colon = *stop == ':', slash = memchr(at, '/', word.length) != NULL;
    if (!colon) {
        if (*stop != ' ' || prelude->timed || prelude->host.length || !letters ||
            !(ind_stamp_may_begin(stop + 1, end) || ind_is_location(stop + 1, end)))
            return NULL;
        prelude->host = word;
        return stop + 1;
    }
    if (stop[1] != ' ') {
        if (!letters || (!slash && !ind_stamp_may_begin(stop + 1, end)))
            return NULL;
        prelude->location = word;
        return stop + 1;
    }
    if (!letters)
        return NULL;
    if (ind_is_code(stop + 2, end)) {
        if (!slash)
            return NULL; /* a process, a task, or a host */
    } else if (!may_follow_host(stop + 2, end)) {
        return NULL;
    }
    *(slash ? &prelude->location : &prelude->host) = word;
    return stop + 2;
}

/* The device's own time; of two the one nearer to the code, unless that clock was never set. */
static const char *keep_stamp(const char *at, const struct ind_stamp *stamp, const char *end,
                              struct ind_prelude *prelude)
{
    bool unset = ind_mark_is_unset(stamp->mark);
    at += stamp->marked.length;
    if (prelude->timed && unset)
        prelude->stamp.mark = stamp->mark;
    else
        prelude->stamp = *stamp;
    prelude->timed = true;
    prelude->closed = at < end && *at == ':';
    return ind_skip_blanks(at + prelude->closed, end);
}

/* One word of it; NULL where none stands here. */
static const char *read_word(const struct ind_reading *reading, const char *at, struct ind_prelude *prelude)
{
    const char *end = reading->end, *next;
    struct ind_stamp stamp;
    if (ind_is_digit(*at) && (next = skip_number(at, end, &prelude->sequence)) != NULL)
        return next;
    if (ind_stamp_may_begin(at, end) && read_stamp(reading, at, &stamp))
        return keep_stamp(at, &stamp, end, prelude);
    if (*at == '*' && !prelude->task.length && (next = skip_task(at, end, &prelude->task)) != NULL)
        return next;
    if (!prelude->host.length && (next = read_address(at, end, prelude)) != NULL)
        return next;
    return read_speaker(at, end, prelude);
}

/* Reads as much of it as there is: bounded, since each part is there at most a few times. */
void ind_prelude_read(const struct ind_reading *reading, const char *at, struct ind_prelude *prelude)
{
    const char *end = reading->end;
    for (int parts = 0; parts < 8; parts++) {
        if (at < end && *at == ' ')
            at = ind_skip_blanks(at, end);
        if (end - at > 1 && at[0] == ':' && at[1] == ' ')
            at = ind_skip_blanks(at + 1, end);
        prelude->rest = at;
        if (at == end)
            return;
        if (*at == '%' || *at == '#') {
            prelude->code = ind_is_code(at, end);
            return;
        }
        const char *next = read_word(reading, at, prelude);
        if (!next)
            break;
        at = next;
    }
    /* A process with a colon, or a host, may stand right before the code. */
    struct ind_message unused = {0};
    const char *behind = ind_read_tag(prelude->rest, end, &unused);
    prelude->code = behind != prelude->rest && ind_is_code(ind_skip_blanks(behind, end), end);
}

IND_COLD void ind_prelude_adopt(const struct ind_prelude *prelude, struct ind_message *message)
{
    bool unset = ind_mark_is_unset(prelude->stamp.mark);
    if (prelude->timed && !(unset && message->sent != IND_TIME_NONE)) {
        message->sent = prelude->stamp.sent;
        message->timestamp = prelude->stamp.marked;
    }
    message->mark = prelude->timed ? prelude->stamp.mark : message->mark;
    message->sequence = prelude->sequence;
    message->location = prelude->location;
    if (prelude->host.length)
        message->host = prelude->host;
    if (prelude->task.length)
        message->app = prelude->task;
}

const char *ind_prelude_read_process(const struct ind_prelude *prelude, const char *end,
                                     struct ind_message *message)
{
    const char *at = prelude->rest;
    if (*at == '%' || *at == '#')
        return at;
    struct ind_message read = {0};
    at = ind_skip_blanks(ind_read_tag(at, end, &read), end);
    if (*at == '%' && read.procid.length == 0 && prelude->host.length == 0) {
        message->host = read.app;
    } else {
        message->app = read.app;
        message->procid = read.procid;
    }
    return at;
}
