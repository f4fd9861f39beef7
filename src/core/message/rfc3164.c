#include "core/message/rfc3164.h"

#include "core/base/address.h"
#include "core/message/rfc3164_private.h"
#include "core/time/plain_stamp.h"

/* "192.0.2.9:", "fe80::": an address is never a tag. */
IND_COLD static const char *read_address(const char *at, const char *stop, struct ind_message *message)
{
    struct ind_slice address = ind_address_at(at, stop + 1);
    if (address.length == 0)
        return at;
    message->host = address;
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
    message->host = ind_between(at, stop);
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
    return *stop == ':' || *stop == '.' || ind_is_digit(*stop) || (*stop && strchr("ywdh", *stop)) ||
           (stop - at == 4 && (*stop == '-' || *stop == ' ' || *stop == '/')) ||
           (stop - at < 3 && (*stop == ' ' || *stop == '-'));
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

/* The text looks like the words before a code: where a code does follow they are parsed, otherwise
 * nothing of them is touched. `text` is behind the tag, `at` before it. */
IND_COLD static const char *read_words(const struct ind_reading *reading, const char *at, const char *text,
                                       struct ind_message *message)
{
    const char *end = reading->end;
    struct ind_prelude prelude = {.stamp = {.sent = IND_TIME_NONE}};
    ind_prelude_read(reading, at, &prelude);
    if (prelude.code) {
        message->app = message->procid = IND_NOTHING;
        ind_prelude_adopt(&prelude, message);
        return ind_prelude_read_process(&prelude, end, message);
    }
    if (text == at && end - at > 1 && at[0] == ':' && at[1] == ' ' && message->host.length) {
        /* "app : text" without a host before it */
        message->app = message->host;
        message->host = IND_NOTHING;
        return at + 2;
    }
    return text;
}

/* "hq-rtr1: %LINK-3-CHANGE: …": in front of a percent sign a lone word without a number is the host, not a
 * process: a message that a relay passes on names its device so. */
IND_COLD static void take_host_from_tag(struct ind_message *message)
{
    message->host = message->app;
    message->app = IND_NOTHING;
}

static const char *read_tag_and_words(const struct ind_reading *reading, const char *at,
                                      struct ind_message *message);

/* No tag of the common form stands at `at`, which is before the end. */
IND_COLD static const char *read_untagged(const struct ind_reading *reading, const char *at,
                                          struct ind_message *message)
{
    const char *end = reading->end, *text;
    bool letters;
    if (*at == '%' || *at == '#')
        return at;
    if (*at == ' ') { /* blanks too many in front of a tag or of words; before a free text they are its own */
        const char *next = ind_skip_blanks(at, end);
        text = next < end ? read_tag_and_words(reading, next, message) : next;
        return text == next && !ind_is_code(next, end) ? at : text;
    }
    if (*at == '[' && message->host.length == 0) {
        const char *tag = ind_read_bracketed_address(at, end, message);
        text = tag == at ? at : read_tag_and_words(reading, tag, message);
        if (text != tag || ind_is_code(tag, end))
            return text;
        message->host = IND_NOTHING; /* without a tag it is a text's beginning */
        return at;
    }
    const char *stop = ind_skip_tag(at, end, &letters);
    if (stop < end && *stop == '(')
        return ind_read_odd_tag(at, end, message);
    if (stop < end && *stop == ',' && message->host.length == 0) {
        text = ind_read_model_and_name(at, end, message);
        return text == at ? at : ind_read_tag(text, end, message);
    }
    const bool glued = letters && end - stop > 8 && stop[0] == ':' && stop[1] != ' '; /* "SLOT1:Nov 23" */
    return glued || may_begin_words(at, end) ? read_words(reading, at, at, message) : at;
}

/* Whether more than free text may stand behind a tag. */
static IND_INLINE bool may_go_on(const char *text, const char *end)
{
    return text < end && (*text == '%' || may_begin_words(text, end));
}

/* Behind a tag, which was read before `text`. */
IND_COLD static const char *read_behind_tag(const struct ind_reading *reading, const char *at,
                                            const char *text, struct ind_message *message)
{
    const char *end = reading->end;
    if (*text == '%' && message->procid.length == 0 && message->host.length == 0 && ind_is_code(text, end))
        take_host_from_tag(message);
    else if (may_begin_words(text, end))
        return read_words(reading, at, text, message);
    return text;
}

/* Tag and text of a form that is not the commonest. */
IND_COLD static const char *read_tag_and_words(const struct ind_reading *reading, const char *at,
                                               struct ind_message *message)
{
    if (at == reading->end)
        return at;
    const char *text = ind_read_tag(at, reading->end, message);
    if (text == at)
        return read_untagged(reading, at, message);
    return may_go_on(text, reading->end) ? read_behind_tag(reading, at, text, message) : text;
}

/* "hq-srv1 app[7]: ", "192.0.2.9 app: ": a host only where a tag follows and both look the part; what
 * programs write into their own texts names none. */
IND_COLD static const char *read_host_before_tag(const char *at, const char *end, struct ind_message *message)
{
    struct ind_message tag = {0};
    const char *stop = ind_scan_either(at, end, ' ', '[');
    if (stop == at || stop == end || *stop == '[' || stop[-1] == ':')
        return at;
    const char *next = stop + 1, *text = ind_read_tag(next, end, &tag);
    text = text == next && next < end ? ind_read_odd_tag(next, end, &tag) : text;
    bool looks = tag.procid.length > 0;
    for (const char *p = at; p < stop; p++)
        looks |= ind_is_digit(*p) || *p == '.';
    if (!(text != next && looks) && !ind_is_code(next, end))
        return at;
    message->host = ind_between(at, stop);
    return next;
}

/* Whether words that a code or a time may follow stand here instead of a tag or of free text. `stop` is
 * behind what may be part of a tag. */
static bool may_be_words(const char *at, const char *text, const char *stop, const char *end)
{
    if (may_begin_words(text, end) || (text > at && text < end && *text == '%'))
        return true;
    if (text > at || at == end || !ind_is_alpha(*at))
        return text > at && may_begin_words(at, end);
    if (end - stop < 8)
        return false;
    return *stop == ':' ||
           (*stop == ' ' && (ind_stamp_may_begin(stop + 1, end) || ind_is_location(stop + 1, end)));
}

/* Without a code behind them words are only parsed where nothing else can be meant: "backup: Nov 23 …"
 * is a tag and its text, and "12:30:00: done" is no uptime, unless the device numbers its messages. */
static bool is_sure(const struct ind_prelude *prelude)
{
    bool marked =
        prelude->sequence.length || prelude->location.length || prelude->task.length || prelude->addressed;
    return prelude->timed &&
           (marked || (prelude->host.length == 0 && prelude->stamp.mark != IND_MARK_UPTIME));
}

/* The words of a device that stand where the time should. False where there are none. */
static bool read_words_first(const struct ind_reading *reading, const char **at, struct ind_message *message)
{
    const char *end = reading->end;
    struct ind_prelude prelude = {.stamp = {.sent = IND_TIME_NONE}};
    ind_prelude_read(reading, *at, &prelude);
    if (prelude.code ? *at < end && (**at == '%' || **at == '#') : !is_sure(&prelude))
        return false;
    ind_prelude_adopt(&prelude, message);
    message->form = prelude.timed || prelude.host.length ? IND_FORM_RFC3164 : IND_FORM_BARE;
    *at = prelude.rest;
    if (prelude.code) {
        *at = ind_prelude_read_process(&prelude, end, message);
        if (message->host.length)
            message->form = IND_FORM_RFC3164;
        return true;
    }
    if (!prelude.closed && *at < end)
        *at = prelude.addressed || prelude.stamp.of_program ? read_host_before_tag(*at, end, message)
                                                            : read_host(*at, end, message);
    if (prelude.task.length == 0)
        *at = read_tag_and_words(reading, *at, message);
    return true;
}

IND_COLD static const char *read_unusual_tag(const char *at, const char *end, struct ind_message *message)
{
    const char *text = ind_read_odd_tag(at, end, message);
    const char *tag = text == at ? ind_read_model_and_name(at, end, message) : at;
    return tag == at ? text : ind_read_tag(tag, end, message);
}

/* No time at the start: the words of a device, or a tag (with a PRI), or free text. */
IND_COLD static const char *read_without_time(const struct ind_reading *reading, const char *at,
                                              struct ind_message *message)
{
    bool letters;
    const char *end = reading->end, *text = ind_read_tag_at_once(at, end, message);
    const char *stop = text == at ? ind_skip_tag(at, end, &letters) : text;
    if (may_be_words(at, text, stop, end)) {
        struct ind_slice app = message->app, procid = message->procid;
        message->app = message->procid = IND_NOTHING;
        if (read_words_first(reading, &at, message))
            return at;
        message->app = app;
        message->procid = procid;
    }
    if (text == at && stop < end && (*stop == '(' || *stop == ',') && message->pri_given)
        text = read_unusual_tag(at, end, message);
    if (text == at)
        return at;
    if (!message->pri_given) {
        message->app = message->procid = IND_NOTHING;
        return at;
    }
    message->form = IND_FORM_RFC3164;
    return text;
}

/* A time at the start, also in brackets. Returns the bytes read, 0 where there is none. */
static size_t read_first_stamp(const struct ind_reading *reading, const char *at, struct ind_stamp *stamp)
{
    enum { LONGEST = 48 };
    const char *end = reading->end;
    if (at == end || *at != '[')
        return ind_stamp_read(at, end, reading->reference, reading->zone, stamp);
    const char *close = memchr(at, ']', end - at > LONGEST ? LONGEST : (size_t)(end - at));
    if (!close || (close + 1 < end && close[1] != ' ' && close[1] != ':') ||
        ind_stamp_read(at + 1, close, reading->reference, reading->zone, stamp) != (size_t)(close - at - 1))
        return 0;
    stamp->of_program = true;
    return (size_t)(close + 1 - at);
}

/* Everything but "Nov 23 04:45:00 " at the start. */
IND_COLD static const char *read_other(const struct ind_reading *reading, const char *at,
                                       struct ind_message *message)
{
    const char *end = reading->end;
    struct ind_stamp stamp;
    size_t used = read_first_stamp(reading, at, &stamp);
    message->sent = IND_TIME_NONE;
    if (used == 0 || stamp.mark == IND_MARK_UPTIME)
        return read_without_time(reading, at, message);
    message->form = IND_FORM_RFC3164;
    message->sent = stamp.sent;
    message->mark = stamp.mark;
    message->timestamp = stamp.marked;
    at += used;
    if (at < end && *at == ':')
        at = ind_skip_blanks(at + 1, end);
    else if (end - at > 1)
        at = stamp.of_program ? read_host_before_tag(ind_skip_blanks(at, end), end, message)
                              : read_host(at + 1, end, message);
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
        const struct ind_reading reading = {end, reference, zone};
        at = read_other(&reading, at, message);
    } else {
        message->form = IND_FORM_RFC3164;
        message->timestamp = ind_between(at, at + used);
        at += at + used < end ? used + 1 : used;
        if (at < end)
            at = read_host(at, end, message);
        const char *text = ind_read_tag_at_once(at, end, message);
        if (text == at ? at < end : may_go_on(text, end)) {
            const struct ind_reading reading = {end, reference, zone};
            text = text == at ? read_untagged(&reading, at, message)
                              : read_behind_tag(&reading, at, text, message);
        }
        at = text;
    }
    message->text = ind_between(at, end);
}
