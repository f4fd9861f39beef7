#include "core/message/rfc3164.h"

#include "core/base/address.h"
#include "core/base/scan.h"
#include "core/message/event_code.h"
#include "core/message/stamp.h"
#include "core/time/plain_stamp.h"

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

static const char *skip_procid(const char *at, const char *end)
{
    const char *stop = ind_scan_either(at, end - at > PROCID_LIMIT ? at + PROCID_LIMIT + 1 : end, ']', ' ');
    return stop < end && *stop == ']' ? stop : NULL;
}

/* Behind the bytes at `at` that may be part of a tag; *letters: some are letters. */
static IND_INLINE const char *skip_tag(const char *at, const char *end, bool *letters)
{
    return at + ind_scan_tag(at, end - at > TAG_LIMIT ? at + TAG_LIMIT : end, letters);
}

/* "app: text", "app[procid]: text", "app[procid] text", spaces before the colon. Returns where the text
 * starts: `at` itself where there is no tag. "CEF:" starts a payload, it names no app. */
static IND_INLINE const char *read_tag_at_once(const char *at, const char *end, struct ind_message *message)
{
    bool letters;
    const char *p = skip_tag(at, end, &letters);
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

IND_COLD static const char *read_tag(const char *at, const char *end, struct ind_message *message)
{
    return read_tag_at_once(at, end, message);
}

/* ---- What devices put before an event code ---- */

struct prelude {
    const char *rest; /* where it ends */
    bool timed, code; /* there was a time; a code follows */
    bool closed;      /* a colon ended the time: no host follows it */
    struct ind_stamp stamp;
    struct ind_slice sequence, location, host;
};

/* "29: ": digits, a colon, a space. */
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

IND_COLD static size_t read_stamp(const struct reading *reading, const char *at, struct ind_stamp *stamp)
{
    return ind_stamp_read(at, reading->end, reading->reference, reading->zone, stamp);
}

/* "RP/0/RP0/CPU0:": a word with a slash in it and a colon. */
static bool is_location(const char *at, const char *end)
{
    bool letters;
    const char *stop = skip_tag(at, end, &letters);
    return letters && stop < end && *stop == ':' && memchr(at, '/', (size_t)(stop - at)) != NULL;
}

/* A word and a colon that a time or a code follows: without a space between, or with a slash in it, it is the
 * part of the device that speaks ("RP/0/RP0/CPU0:Nov 23 …"), otherwise its host. "host Nov 23 …" too. */
static const char *read_speaker(const char *at, const char *end, struct prelude *prelude)
{
    bool letters;
    const char *stop = skip_tag(at, end, &letters);
    if (stop == at || end - stop < 2)
        return NULL;
    struct ind_slice word = between(at, stop);
    bool colon = *stop == ':', slash = memchr(at, '/', word.length) != NULL;
    if (!colon) {
        if (*stop != ' ' || prelude->timed || prelude->host.length || !letters ||
            !(ind_stamp_may_begin(stop + 1, end) || is_location(stop + 1, end)))
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
    if (!letters && !memchr(at, '.', word.length))
        return NULL;
    if (is_code(stop + 2, end)) {
        if (!slash)
            return NULL; /* a process or a task */
    } else if (!ind_stamp_may_begin(stop + 2, end)) {
        return NULL;
    }
    *(slash ? &prelude->location : &prelude->host) = word;
    return stop + 2;
}

/* The device's own time; of two the one nearer to the code, unless that clock was never set. */
static const char *keep_stamp(const char *at, const struct ind_stamp *stamp, const char *end,
                              struct prelude *prelude)
{
    bool unset = ind_mark_is_unset(stamp->mark);
    at += stamp->marked.length;
    if (prelude->timed && unset)
        prelude->stamp.mark = stamp->mark;
    else
        prelude->stamp = *stamp;
    prelude->timed = true;
    prelude->closed = at < end && *at == ':';
    return skip_blanks(at + prelude->closed, end);
}

/* One word of it; NULL where none stands here. */
static const char *read_word(const struct reading *reading, const char *at, struct prelude *prelude)
{
    const char *end = reading->end, *next;
    struct ind_stamp stamp;
    if (ind_is_digit(*at) && (next = skip_number(at, end, &prelude->sequence)) != NULL)
        return next;
    if (ind_stamp_may_begin(at, end) && read_stamp(reading, at, &stamp))
        return keep_stamp(at, &stamp, end, prelude);
    return read_speaker(at, end, prelude);
}

/* Reads as much of it as there is: bounded, since each part is there at most a few times. */
static void read_prelude(const struct reading *reading, const char *at, struct prelude *prelude)
{
    const char *end = reading->end;
    for (int parts = 0; parts < 8; parts++) {
        if (at < end && *at == ' ')
            at = skip_blanks(at, end);
        if (end - at > 1 && at[0] == ':' && at[1] == ' ')
            at = skip_blanks(at + 1, end);
        prelude->rest = at;
        if (at == end)
            return;
        if (*at == '%' || *at == '#') {
            prelude->code = is_code(at, end);
            return;
        }
        const char *next = read_word(reading, at, prelude);
        if (!next)
            break;
        at = next;
    }
    /* A process with a colon may stand right before the code. */
    struct ind_message unused = {0};
    const char *behind = read_tag(prelude->rest, end, &unused);
    prelude->code = behind != prelude->rest && is_code(skip_blanks(behind, end), end);
}

IND_COLD static void adopt(const struct prelude *prelude, struct ind_message *message)
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
}

/* The process, if any, that stands between the words and the code; returns where the code is. */
static const char *read_process(const char *at, const char *end, struct ind_message *message)
{
    return *at == '%' || *at == '#' ? at : skip_blanks(read_tag(at, end, message), end);
}

/* ---- Time, host, tag, text ---- */

/* "192.0.2.9:", "fe80::": an address is never a tag. */
IND_COLD static const char *read_address(const char *at, const char *stop, struct ind_message *message)
{
    struct ind_address address;
    bool whole = stop - at <= ADDRESS_LIMIT && ind_address_read(between(at, stop), &address);
    if (!whole && (stop - at > ADDRESS_LIMIT || !ind_address_read(between(at, stop - 1), &address)))
        return at;
    message->host = between(at, whole ? stop : stop - 1);
    return stop + 1;
}

/* Behind the time: "host tag: text"; a word that ends as a tag does is no host, unless it is an address. `at`
 * is before the end. */
static IND_INLINE const char *read_host(const char *at, const char *end, struct ind_message *message)
{
    const char *stop = ind_scan_either(at, end, ' ', '[');
    if (stop == end || *stop == '[')
        return at; /* a lone word is the text; a bracket belongs to a tag */
    if (stop == at)
        return at + 1; /* two spaces: a host left empty */
    if (stop[-1] == ':')
        return read_address(at, stop, message);
    message->host = between(at, stop);
    return stop + 1;
}

/* Whether the words before a code may begin here. */
IND_COLD static bool begins_words(const char *at)
{
    const char *stop = at;
    if (*at >= 'A' && *at <= 'Z')
        return true;
    if (!ind_is_digit(*at))
        return *at != ':' || at[1] == ' ';
    while (stop - at < 7 && ind_is_digit(*stop))
        stop++;
    return *stop == ':' || ind_is_digit(*stop) || (stop - at == 4 && (*stop == '-' || *stop == ' '));
}

/* The same, most texts told apart without a branch: what they begin with is as good as random. */
static IND_INLINE bool may_begin_words(const char *at, const char *end)
{
    if (end - at < 8)
        return false;
    unsigned c = (unsigned char)*at;
    unsigned sign = (c - '0' <= ':' - '0') | (c == '*') | (c == '.'); /* ':' follows '9' */
    unsigned capital = (c - 'A' < 26) & (at[3] == ' ');
    return (sign | capital) && begins_words(at);
}

/* "SLOT1:Nov 23": a word and a colon without a space behind it. */
static bool is_glued(const char *at, const char *end)
{
    bool letters;
    const char *stop = skip_tag(at, end, &letters);
    return letters && end - stop > 8 && stop[0] == ':' && stop[1] != ' ';
}

/* The text looks like the words before a code: where a code does follow they are parsed, otherwise
 * nothing of them is touched. `text` is behind the tag, `at` before it. */
IND_COLD static const char *read_words(const struct reading *reading, const char *at, const char *text,
                                       struct ind_message *message)
{
    const char *end = reading->end;
    struct prelude prelude = {.stamp = {.sent = IND_TIME_NONE}};
    read_prelude(reading, at, &prelude);
    if (prelude.code) {
        message->app = message->procid = IND_NOTHING;
        adopt(&prelude, message);
        return read_process(prelude.rest, end, message);
    }
    if (text == at && end - at > 1 && at[0] == ':' && at[1] == ' ' && message->host.length) {
        /* "app : text" without a host before it */
        message->app = message->host;
        message->host = IND_NOTHING;
        return at + 2;
    }
    return text;
}

/* Tag and text of a form that is not the commonest. */
IND_COLD static const char *read_tag_and_words(const struct reading *reading, const char *at,
                                               struct ind_message *message)
{
    const char *end = reading->end, *text = read_tag(at, end, message);
    if (may_begin_words(text, end) || (text == at && is_glued(at, end)))
        return read_words(reading, at, text, message);
    return text;
}

/* Whether words that a code or a time may follow stand here instead of a tag or of free text. */
static bool may_be_words(const char *at, const char *text, const char *end)
{
    if (may_begin_words(text, end))
        return true;
    if (text > at || at == end || !ind_is_alpha(*at))
        return text > at && may_begin_words(at, end);
    bool letters;
    const char *stop = skip_tag(at, end, &letters);
    if (end - stop < 8)
        return false;
    return *stop == ':' ||
           (*stop == ' ' && (ind_stamp_may_begin(stop + 1, end) || is_location(stop + 1, end)));
}

/* Without a code behind them words are only parsed where nothing else can be meant: "backup: Nov 23 …"
 * is a tag and its text, and "12:30:00: done" is no uptime, unless the device numbers its messages. */
static bool is_sure(const struct prelude *prelude)
{
    bool numbered = prelude->sequence.length || prelude->location.length;
    return prelude->timed &&
           (numbered || (prelude->host.length == 0 && prelude->stamp.mark != IND_MARK_UPTIME));
}

/* The words of a device that stand where the time should. False where there are none. */
static bool read_words_first(const struct reading *reading, const char **at, struct ind_message *message)
{
    const char *end = reading->end;
    struct prelude prelude = {.stamp = {.sent = IND_TIME_NONE}};
    read_prelude(reading, *at, &prelude);
    if (prelude.code ? prelude.rest == *at : !is_sure(&prelude))
        return false;
    adopt(&prelude, message);
    message->form = prelude.timed || prelude.host.length ? IND_FORM_RFC3164 : IND_FORM_BARE;
    *at = prelude.rest;
    if (prelude.code) {
        *at = read_process(*at, end, message);
        return true;
    }
    if (!prelude.closed && *at < end)
        *at = read_host(*at, end, message);
    *at = read_tag_and_words(reading, *at, message);
    return true;
}

/* No time at the start: the words of a device, or a tag (with a PRI), or free text. */
IND_COLD static const char *read_without_time(const struct reading *reading, const char *at,
                                              struct ind_message *message)
{
    const char *text = read_tag(at, reading->end, message);
    if (may_be_words(at, text, reading->end)) {
        struct ind_slice app = message->app, procid = message->procid;
        message->app = message->procid = IND_NOTHING;
        if (read_words_first(reading, &at, message))
            return at;
        message->app = app;
        message->procid = procid;
    }
    if (text == at)
        return at;
    if (!message->pri_given) {
        message->app = message->procid = IND_NOTHING;
        return at;
    }
    message->form = IND_FORM_RFC3164;
    return text;
}

/* Everything but "Nov 23 04:45:00 " at the start. */
IND_COLD static const char *read_other(const struct reading *reading, const char *at,
                                       struct ind_message *message)
{
    const char *end = reading->end;
    struct ind_stamp stamp;
    size_t used = read_stamp(reading, at, &stamp);
    message->sent = IND_TIME_NONE;
    if (used == 0 || stamp.mark == IND_MARK_UPTIME)
        return read_without_time(reading, at, message);
    message->form = IND_FORM_RFC3164;
    message->sent = stamp.sent;
    message->mark = stamp.mark;
    message->timestamp = stamp.marked;
    at += used;
    if (at < end && *at == ':')
        at = skip_blanks(at + 1, end);
    else if (end - at > 1)
        at = read_host(at + 1, end, message);
    else
        at = end;
    return read_tag_and_words(reading, at, message);
}

/* "Nov 23 04:45:00" or a time of RFC 3339's form, and a space (or the end). */
static IND_INLINE size_t read_plain_time(const char *at, const char *end, ind_time reference,
                                         const struct ind_zone *zone, ind_time *sent)
{
    if (end - at > 20 && at[4] == '-' && ind_is_digit(*at)) {
        enum ind_time_style style;
        size_t used = ind_stamp_read_new(at, end, zone, sent, &style);
        bool whole = used && style != IND_TIME_LOCAL && at + used < end && at[used] == ' ';
        return whole ? used : 0;
    }
    size_t used = ind_stamp_read_plain(at, end, reference, zone, sent);
    bool whole = used && (at + used == end || (at[used] == ' ' && !ind_stamp_may_go_on(at + used + 1, end)));
    return whole ? used : 0;
}

void ind_rfc3164_read(const char *at, const char *end, ind_time reference, const struct ind_zone *zone,
                      struct ind_message *message)
{
    size_t used = read_plain_time(at, end, reference, zone, &message->sent);
    if (used == 0) {
        const struct reading reading = {end, reference, zone};
        at = read_other(&reading, at, message);
    } else {
        message->form = IND_FORM_RFC3164;
        message->timestamp = between(at, at + used);
        at += at + used < end ? used + 1 : used;
        if (at < end)
            at = read_host(at, end, message);
        const char *text = read_tag_at_once(at, end, message);
        if (may_begin_words(text, end) || (text == at && is_glued(at, end))) {
            const struct reading reading = {end, reference, zone};
            text = read_words(&reading, at, text, message);
        }
        at = text;
    }
    message->text = between(at, end);
}
