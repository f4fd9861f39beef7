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
    if (!close || close == at + 1 || (close + 1 < end && close[1] != ' ' && close[1] != ':') ||
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

/* A time that is read without looking any closer, and a blank or the end behind it. */
struct plain_time {
    int year, month, day, of_day; /* year 0: none */
    int milliseconds;
    bool whole; /* `sent` is known */
    ind_time sent;
};

/* A time of RFC 3339's form. Returns the bytes read, or 0. */
static size_t read_new_time(const char *at, const char *end, const struct ind_zone *zone,
                            struct plain_time *time)
{
    enum ind_time_style style;
    size_t used = ind_stamp_read_new(at, end, zone, &time->sent, &style);
    time->whole = used && style != IND_TIME_LOCAL && at + used < end && at[used] == ' ';
    return time->whole ? used : 0;
}

/* "Nov 23 04:45:00", "Nov 23 2026 04:45:00", either with milliseconds, or a time of RFC 3339's form. Returns
 * the bytes read, or 0. */
static IND_INLINE size_t read_plain_time(const char *at, const char *end, const struct ind_zone *zone,
                                         struct plain_time *time)
{
    time->year = time->milliseconds = 0;
    time->whole = false;
    if (end - at < 15)
        return 0;
    if (at[4] == '-' && ind_is_digit(*at))
        return end - at > 20 ? read_new_time(at, end, zone, time) : 0;
    const char *stop = at + 15;
    if (!ind_stamp_fields(at, &time->month, &time->day, &time->of_day)) {
        stop = at + 20;
        if (end - at < 20 ||
            !ind_stamp_fields_of_year(at, &time->year, &time->month, &time->day, &time->of_day))
            return 0;
    }
    const bool oldest = stop < end ? *stop == ' ' && !time->year : !time->year;
    if (end - stop > 5 && *stop == '.') {
        time->milliseconds = ind_three_digits(stop + 1);
        stop += 4;
    }
    if (time->milliseconds < 0 || (stop < end && (*stop != ' ' || ind_stamp_may_go_on(stop + 1, end))))
        return 0;
    /* "2026:" may be the year of a time; behind the oldest form it is not looked for. */
    if (!oldest && (stop == end || (ind_is_digit(stop[1]) && stop[5] == ':')))
        return 0;
    return (size_t)(stop - at);
}

static IND_INLINE ind_time settle_plain_time(const struct plain_time *time, ind_time reference,
                                             const struct ind_zone *zone)
{
    if (time->whole)
        return time->sent;
    int64_t seconds;
    if (time->year)
        seconds = ind_zone_to_utc(
            zone, ind_days_from_civil(time->year, time->month, time->day) * IND_DAY_SECONDS + time->of_day);
    else
        seconds = ind_settle_year(time->month, time->day, time->of_day, reference, zone);
    return seconds * IND_SECOND + time->milliseconds * (IND_SECOND / 1000);
}

/* A word in front of a bracket, a colon or a blank, where no time begins and no words before a code: the tag
 * or the beginning of free text, as most messages without a time have it. What may be anything else is left
 * to those who look closer: NULL. */
static const char *read_word_first(const char *at, const char *end, struct ind_message *message)
{
    bool letters;
    struct ind_slice procid;
    if (end - at < 8 || !ind_is_alpha(*at) || at[3] == ' ' || at[3] == ',')
        return NULL;
    const char *stop = ind_skip_tag(at, end, &letters);
    if (end - stop < 8)
        return NULL;
    if (*stop == ' ')
        return stop[1] == ':' || ind_stamp_may_begin(stop + 1, end) || ind_is_location(stop + 1, end) ? NULL
                                                                                                      : at;
    const struct ind_slice app = ind_between(at, stop);
    const char *text = ind_end_tag(stop, end, &procid);
    if (!text || may_go_on(text, end) || !message->pri_given || ind_begins_payload(app))
        return NULL;
    message->app = app;
    message->procid = procid;
    message->form = IND_FORM_RFC3164;
    return text;
}

/* Behind a time, and a host where there is one. */
static IND_INLINE const char *read_tag_behind_time(const struct ind_reading *reading, const char *at,
                                                   struct ind_message *message)
{
    const char *end = reading->end, *text = ind_read_tag_at_once(at, end, message);
    if (text == at ? at == end : !may_go_on(text, end))
        return text;
    return text == at ? read_untagged(reading, at, message) : read_behind_tag(reading, at, text, message);
}

/* `closely`: without the common prelude, the word at the start, and the times that RFC 3164 does not have. */
static IND_INLINE void read_all(bool closely, const struct ind_reading *reading, const char *at,
                                struct ind_message *message)
{
    enum { OLDEST = 15 }; /* "Nov 23 04:45:00" */
    const char *end = reading->end, *text = NULL;
    struct plain_time time;
    size_t used = read_plain_time(at, end, reading->zone, &time);
    if (used == 0 || (closely && used != OLDEST && !time.whole)) {
        if (!closely)
            text = read_word_first(at, end, message);
        if (!closely && !text && at < end)
            text = ind_read_common_prelude(reading, at, message);
        message->text = ind_between(text ? text : read_other(reading, at, message), end);
        return;
    }
    const struct ind_slice timestamp = {at, used};
    at += at + used < end ? used + 1 : used;
    if (at < end)
        at = read_host(at, end, message);
    if (!closely && at < end && ind_is_digit(*at))
        text = ind_read_common_prelude(reading, at, message);
    if (!text) { /* what stands before a code may have a time of its own, which then counts */
        message->form = IND_FORM_RFC3164;
        message->timestamp = timestamp;
        message->sent = settle_plain_time(&time, reading->reference, reading->zone);
        text = read_tag_behind_time(reading, at, message);
    }
    message->text = ind_between(text, end);
}

void ind_rfc3164_read(const char *at, const char *end, ind_time reference, const struct ind_zone *zone,
                      struct ind_message *message)
{
    const struct ind_reading reading = {end, reference, zone};
    read_all(false, &reading, at, message);
}

void ind_rfc3164_read_closely(const char *at, const char *end, ind_time reference,
                              const struct ind_zone *zone, struct ind_message *message)
{
    const struct ind_reading reading = {end, reference, zone};
    read_all(true, &reading, at, message);
}
