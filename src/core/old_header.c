#include "core/old_header.h"

#include "core/address.h"
#include "core/event_code.h"
#include "core/scan.h"
#include "core/stamp.h"

/* clang-format off */
const unsigned char ind_byte_kinds[256] = {
    0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0,
    0, 4, 0, 4, 4, 4, 4, 4, 4, 4, 4, 5, 4, 5, 5, 5, 5, 5, 5, 5, 5, 5, 5, 5, 5, 5, 4, 4, 4, 0, 4, 4,
    5, 7, 7, 7, 7, 7, 7, 7, 7, 7, 7, 7, 7, 7, 7, 7, 7, 7, 7, 7, 7, 7, 7, 7, 7, 7, 7, 4, 4, 0, 4, 5,
    4, 7, 7, 7, 7, 7, 7, 7, 7, 7, 7, 7, 7, 7, 7, 7, 7, 7, 7, 7, 7, 7, 7, 7, 7, 7, 7, 4, 4, 4, 4, 0,
    0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0,
    0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0,
    0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0,
    0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0,
};
/* clang-format on */

enum { TAG_LIMIT = 64, PROCID_LIMIT = 128, ADDRESS_LIMIT = 48 };

/* Where messages of one kind are read: the bytes, and what settles times in them. */
struct reading {
    const char *end;
    ind_time reference;
    const struct ind_zone *zone;
};

static struct ind_slice between(const char *from, const char *to)
{
    return (struct ind_slice){from, (size_t)(to - from)};
}

static const char *skip_blanks(const char *at, const char *end)
{
    while (at < end && *at == ' ')
        at++;
    return at;
}

static bool is_code(const char *at, const char *end)
{
    struct ind_event_code code;
    return at < end && (*at == '%' || *at == '#') && ind_event_code_read(between(at, end), &code);
}

static const char *skip_procid(const char *at, const char *end)
{
    const char *stop = ind_scan_either(at, end - at > PROCID_LIMIT ? at + PROCID_LIMIT + 1 : end, ']', ' ');
    return stop < end && *stop == ']' ? stop : NULL;
}

/* "app: text", "app[procid]: text", "app[procid] text", blanks before the colon. Returns where the text
 * starts: `at` itself where there is no tag. "CEF:" starts a payload, it names no app. */
static const char *read_tag(const char *at, const char *end, struct ind_message *message)
{
    bool letters;
    const char *p = at + ind_scan_tag(at, end - at > TAG_LIMIT ? at + TAG_LIMIT : end, &letters);
    struct ind_slice app = between(at, p), procid = IND_NOTHING;
    if (!letters || p == end || ind_slice_equal(app, IND_SLICE("CEF")))
        return at;
    if (*p == '[') {
        const char *close = skip_procid(p + 1, end);
        if (!close)
            return at;
        procid = between(p + 1, close);
        p = close + 1;
        if (p < end && *p == ':')
            p++;
        else if (p < end && *p != ' ')
            return at;
        else if (end - p > 1 && p[1] == ':')
            p += 2;
    } else if (*p == ':' && (p + 1 == end || p[1] == ' ')) {
        p++;
    } else if (*p == ' ' && end - p > 1 && p[1] == ':' && (end - p == 2 || p[2] == ' ')) {
        p += 2;
    } else {
        return at;
    }
    message->app = app;
    message->procid = procid;
    return p < end && *p == ' ' ? p + 1 : p;
}

/* ---- What devices put before an event code ---- */

struct prelude {
    const char *rest; /* where it ends */
    bool timed, code; /* there was a time; a code follows */
    bool closed;      /* a colon ended the time: no host follows it */
    struct ind_stamp stamp;
    struct ind_slice sequence, location, host;
};

/* "29: ": digits, a colon, a blank. */
static const char *skip_number(const char *at, const char *end, struct ind_slice *number)
{
    const char *stop = at;
    while (stop < end && stop - at < 12 && ind_is_digit(*stop))
        stop++;
    if (stop == at || end - stop < 2 || stop[0] != ':' || stop[1] != ' ')
        return NULL;
    *number = between(at, stop);
    return stop + 2;
}

static size_t read_stamp(const struct reading *reading, const char *at, struct ind_stamp *stamp)
{
    return ind_stamp_read(at, reading->end, reading->reference, reading->zone, stamp);
}

/* A word and a colon that a time or a code follows: without a blank between, or with a slash in it, it is the
 * part of the device that speaks ("RP/0/RP0/CPU0:Nov 23 …"), otherwise its host. "host Nov 23 …" too. */
static const char *read_speaker(const struct reading *reading, const char *at, struct prelude *prelude)
{
    const char *end = reading->end;
    bool letters;
    const char *stop = at + ind_scan_tag(at, end - at > TAG_LIMIT ? at + TAG_LIMIT : end, &letters);
    struct ind_stamp stamp;
    if (stop == at || end - stop < 2)
        return NULL;
    struct ind_slice word = between(at, stop);
    bool colon = *stop == ':', slash = memchr(at, '/', word.length) != NULL;
    if (!colon) {
        if (*stop != ' ' || prelude->timed || prelude->host.length || !letters ||
            read_stamp(reading, stop + 1, &stamp) == 0)
            return NULL;
        prelude->host = word;
        return stop + 1;
    }
    if (stop[1] != ' ') {
        if (!letters || (!slash && read_stamp(reading, stop + 1, &stamp) == 0))
            return NULL;
        prelude->location = word;
        return stop + 1;
    }
    if (!letters && !memchr(at, '.', word.length))
        return NULL;
    if (is_code(stop + 2, end)) {
        if (!slash)
            return NULL; /* a process or a task */
    } else if (read_stamp(reading, stop + 2, &stamp) == 0) {
        return NULL;
    }
    *(slash ? &prelude->location : &prelude->host) = word;
    return stop + 2;
}

/* The device's own time; of two the one nearer to the code, unless that clock was never set. */
static const char *take_stamp(const char *at, const struct ind_stamp *stamp, const char *end,
                              struct prelude *prelude)
{
    bool unset = stamp->mark == IND_MARK_NOT_SET || stamp->mark == IND_MARK_UPTIME;
    at += stamp->marked.length;
    if (prelude->timed && unset)
        prelude->stamp.mark = stamp->mark;
    else
        prelude->stamp = *stamp;
    prelude->timed = true;
    prelude->closed = at < end && *at == ':';
    return skip_blanks(at + prelude->closed, end);
}

/* Reads as much of it as there is: bounded, since each part is there at most a few times. */
static void read_prelude(const struct reading *reading, const char *at, struct prelude *prelude)
{
    const char *end = reading->end;
    for (int parts = 0; parts < 8; parts++) {
        struct ind_stamp stamp;
        at = skip_blanks(at, end);
        if (end - at > 1 && at[0] == ':' && at[1] == ' ')
            at = skip_blanks(at + 1, end);
        prelude->rest = at;
        prelude->code = is_code(at, end);
        if (prelude->code || at == end)
            return;
        const char *next = ind_is_digit(*at) ? skip_number(at, end, &prelude->sequence) : NULL;
        if (!next && read_stamp(reading, at, &stamp))
            next = take_stamp(at, &stamp, end, prelude);
        if (!next)
            next = read_speaker(reading, at, prelude);
        if (!next)
            break;
        at = next;
    }
    /* A process with a colon may stand right before the code. */
    struct ind_message unused = {0};
    const char *behind = read_tag(prelude->rest, end, &unused);
    prelude->code = behind != prelude->rest && is_code(skip_blanks(behind, end), end);
}

static void adopt(const struct prelude *prelude, struct ind_message *message)
{
    bool unset = prelude->stamp.mark == IND_MARK_NOT_SET || prelude->stamp.mark == IND_MARK_UPTIME;
    if (prelude->timed && !(unset && message->sent != IND_TIME_NONE)) {
        message->sent = prelude->stamp.sent;
        message->timestamp = prelude->stamp.marked;
    }
    message->mark = prelude->timed ? prelude->stamp.mark : message->mark;
    message->sequence = prelude->sequence;
    message->location = prelude->location;
    if (prelude->host.length)
        message->host = prelude->host;
}

/* ---- Time, host, tag, text ---- */

/* Behind the time: "host tag: text"; a word that ends as a tag does is no host, unless it is an address. `at`
 * is before the end. */
static const char *read_host(const char *at, const char *end, struct ind_message *message)
{
    const char *stop = ind_scan_either(at, end, ' ', '[');
    if (stop == end || *stop == '[')
        return at; /* a lone word is the text; a bracket belongs to a tag */
    if (stop == at)
        return at + 1; /* two blanks: a host left empty */
    if (stop[-1] == ':') {
        struct ind_address address;
        bool whole = stop - at <= ADDRESS_LIMIT && ind_address_read(between(at, stop), &address);
        if (!whole && (stop - at > ADDRESS_LIMIT || !ind_address_read(between(at, stop - 1), &address)))
            return at;
        message->host = between(at, whole ? stop : stop - 1);
        return stop + 1;
    }
    message->host = between(at, stop);
    return stop + 1;
}

/* What a prelude may begin with where the text should. */
static bool may_begin_prelude(const char *at, const char *end)
{
    return at < end &&
           (ind_is_digit(*at) || *at == ':' || *at == '*' || *at == '.' || (*at >= 'A' && *at <= 'Z'));
}

/* Tag and text. Where the text looks like the words before a code, and a code does follow them, they are
 * taken apart; otherwise nothing of them is touched. */
static const char *read_tag_and_prelude(const struct reading *reading, const char *at,
                                        struct ind_message *message)
{
    const char *end = reading->end, *text = read_tag(at, end, message);
    if (text < end && (*text == '%' || *text == '#' || !may_begin_prelude(text, end)))
        return text;
    struct prelude prelude = {.stamp = {.sent = IND_TIME_NONE}};
    read_prelude(reading, at, &prelude);
    if (prelude.code) {
        message->app = message->procid = IND_NOTHING;
        adopt(&prelude, message);
        return skip_blanks(read_tag(prelude.rest, end, message), end);
    }
    if (text == at && end - at > 1 && at[0] == ':' && at[1] == ' ' && message->host.length) {
        /* "app : text" without a host before it */
        message->app = message->host;
        message->host = IND_NOTHING;
        return at + 2;
    }
    return text;
}

/* Behind a time that `at` points past. */
static const char *read_after_time(const struct reading *reading, const char *at, bool closed,
                                   struct ind_message *message)
{
    message->form = IND_FORM_RFC3164;
    if (closed)
        at = skip_blanks(at, reading->end);
    else if (at < reading->end)
        at = read_host(at, reading->end, message);
    return read_tag_and_prelude(reading, at, message);
}

/* "Nov 23 04:45:00 ", the commonest by far, or any other time. NULL where there is none. */
static const char *read_time(const struct reading *reading, const char *at, struct ind_message *message,
                             bool *closed)
{
    const char *end = reading->end;
    struct ind_stamp stamp;
    size_t used = ind_stamp_read_plain(at, end, reading->reference, reading->zone, &message->sent);
    if (used && (at + used == end || (at[used] == ' ' && !ind_stamp_may_go_on(at + used + 1, end)))) {
        message->timestamp = between(at, at + used);
        *closed = false;
        return at + used < end ? at + used + 1 : end;
    }
    message->sent = IND_TIME_NONE;
    used = read_stamp(reading, at, &stamp);
    if (used == 0)
        return NULL;
    message->sent = stamp.sent;
    message->mark = stamp.mark;
    message->timestamp = stamp.marked;
    at += used;
    *closed = at < end && *at == ':';
    return at < end ? at + 1 : at;
}

/* No time at the start: the words of a device, or a tag (with a PRI), or free text. */
static const char *read_without_time(const struct reading *reading, const char *at,
                                     struct ind_message *message)
{
    const char *end = reading->end;
    struct ind_message tag = {0};
    const char *text = read_tag(at, end, &tag);
    bool slash = text == at && at < end && ind_is_alpha(*at);
    if (slash || text < end) {
        struct prelude prelude = {.stamp = {.sent = IND_TIME_NONE}};
        if (slash || may_begin_prelude(text, end) || may_begin_prelude(at, end))
            read_prelude(reading, at, &prelude);
        if (prelude.timed || (prelude.code && prelude.rest > at)) {
            adopt(&prelude, message);
            message->form = prelude.timed || prelude.host.length ? IND_FORM_RFC3164 : (uint8_t)message->form;
            if (prelude.timed && !prelude.closed && !prelude.code)
                return read_after_time(reading, prelude.rest, false, message);
            return skip_blanks(read_tag(prelude.rest, end, message), end);
        }
    }
    if (!message->pri_given || text == at)
        return at;
    message->app = tag.app;
    message->procid = tag.procid;
    message->form = IND_FORM_RFC3164;
    return text;
}

void ind_old_header_read(const char *at, const char *end, ind_time reference, const struct ind_zone *zone,
                         struct ind_message *message)
{
    const struct reading reading = {end, reference, zone};
    bool closed;
    const char *behind = at < end ? read_time(&reading, at, message, &closed) : NULL;
    at = behind ? read_after_time(&reading, behind, closed, message)
                : read_without_time(&reading, at, message);
    message->text = between(at, end);
}
