/* core/message/rfc3164_private.h: what the readers of headers without a version share: rfc3164.c reads time,
 * host and tag; prelude.c what network devices put before an event code; odd_tag.c tags of unusual forms. */
#ifndef IND_CORE_MESSAGE_RFC3164_PRIVATE_H
#define IND_CORE_MESSAGE_RFC3164_PRIVATE_H

#include "core/base/scan.h"
#include "core/message/message.h"
#include "core/message/stamp.h"

enum { IND_TAG_LIMIT = 64, IND_PROCID_LIMIT = 128, IND_HOST_ADDRESS_LIMIT = 48 };

/* Where messages of one kind are read: the bytes, and what settles times in them. */
struct ind_reading {
    const char *end;
    ind_time reference;
    const struct ind_zone *zone;
};

static inline struct ind_slice ind_between(const char *from, const char *to)
{
    return (struct ind_slice){from, (size_t)(to - from)};
}

static inline const char *ind_skip_blanks(const char *at, const char *end)
{
    while (at < end && *at == ' ')
        at++;
    return at;
}

/* Behind "PID", at its bracket; NULL where there is none. */
static inline const char *ind_skip_procid(const char *at, const char *end)
{
    const char *stop =
        ind_scan_either(at, end - at > IND_PROCID_LIMIT ? at + IND_PROCID_LIMIT + 1 : end, ']', ' ');
    return stop < end && *stop == ']' ? stop : NULL;
}

/* Behind the bytes at `at` that may be part of a tag; *letters: some are letters. */
static IND_INLINE const char *ind_skip_tag(const char *at, const char *end, bool *letters)
{
    return at + ind_scan_tag(at, end - at > IND_TAG_LIMIT ? at + IND_TAG_LIMIT : end, letters);
}

/* Behind an app that ends at `p`: "[procid]:", "[procid] ", ":", " : ". Sets *procid; NULL where none of
 * these stands there. What is returned is where the text starts. */
static IND_INLINE const char *ind_end_tag(const char *p, const char *end, struct ind_slice *procid)
{
    *procid = IND_NOTHING;
    if (*p == '[') {
        const char *close = ind_skip_procid(p + 1, end);
        if (!close)
            return NULL;
        *procid = ind_between(p + 1, close);
        p = close + 1;
        if (p < end && *p == ':')
            p++;
        else if (p < end && *p != ' ')
            return NULL;
        else if (end - p > 1 && p[1] == ':')
            p += 2;
    } else if (*p == ':' && (p + 1 == end || p[1] == ' ')) {
        p++;
    } else if (*p == ' ' && end - p > 1 && p[1] == ':' && (end - p == 2 || p[2] == ' ')) {
        p += 2;
    } else {
        return NULL;
    }
    return p < end && *p == ' ' ? p + 1 : p;
}

/* "CEF:" starts a payload, "@cee:" stands before one; neither names an app. `app` has a byte. */
static IND_INLINE bool ind_begins_payload(struct ind_slice app)
{
    return ((*app.at == 'C') | (*app.at == '@')) &&
           (ind_slice_equal(app, IND_SLICE("CEF")) || ind_slice_equal(app, IND_SLICE("@cee")));
}

/* "app: text", "app[procid]: text", "app[procid] text", spaces before the colon. Returns where the text
 * starts: `at` itself where there is no tag. */
static IND_INLINE const char *ind_read_tag_at_once(const char *at, const char *end,
                                                   struct ind_message *message)
{
    bool letters;
    const char *p = ind_skip_tag(at, end, &letters);
    struct ind_slice app = ind_between(at, p), procid;
    if (!letters || p == end || ind_begins_payload(app))
        return at;
    const char *text = ind_end_tag(p, end, &procid);
    if (!text)
        return at;
    message->app = app;
    message->procid = procid;
    return text;
}

/* The same, not inlined. */
const char *ind_read_tag(const char *at, const char *end, struct ind_message *message);

/* Tags with parentheses: "su(pam_unix)[12]: ", "su(pam_unix): ", "(systemd)[1]: ". As above. */
const char *ind_read_odd_tag(const char *at, const char *end, struct ind_message *message);

/* "model,name: app[1]: " and "model,address,version: app: ", of which the name or address is the host:
 * returns where the tag starts; `at` itself where no such thing stands there. */
const char *ind_read_model_and_name(const char *at, const char *end, struct ind_message *message);

/* "[192.0.2.9] ": the host is that address; returns what is behind it, or `at` itself. */
const char *ind_read_bracketed_address(const char *at, const char *end, struct ind_message *message);

/* Whether an event code stands at `at`. */
bool ind_is_code(const char *at, const char *end);

/* The whole word from `at` up to a blank, without a colon at its end, where it is an address; empty where it
 * is none. */
struct ind_slice ind_address_at(const char *at, const char *end);

/* "SH/0/SL1/CPU0:": a word with a slash in it and a colon. */
bool ind_is_location(const char *at, const char *end);

/* What devices put before an event code: numbers, hosts, times, locations, tasks. */
struct ind_prelude {
    const char *rest; /* where it ends */
    bool timed, code; /* there was a time; a code follows */
    bool closed;      /* a colon ended the time: no host follows it */
    bool addressed;   /* the host is an address */
    struct ind_stamp stamp;
    struct ind_slice sequence, location, host, task;
};

/* Reads as much of it as there is; *prelude begins as {.stamp = {.sent = IND_TIME_NONE}}. Bounded. */
void ind_prelude_read(const struct ind_reading *reading, const char *at, struct ind_prelude *prelude);

/* Puts it into the message: the time nearest to the code counts, unless that clock was never set. */
void ind_prelude_adopt(const struct ind_prelude *prelude, struct ind_message *message);

/* The commonest of it, the process and the code behind it: sets what ind_prelude_adopt and
 * ind_prelude_read_process would, and the form; returns where the code is. NULL, and nothing is touched,
 * where the others must look. `at` is before the end. */
const char *ind_read_common_prelude(const struct ind_reading *reading, const char *at,
                                    struct ind_message *message);

/* What stands between the words and the code: a process ("ports[215]: "), or, in front of a percent sign and
 * without a number, the host. Returns where the code is. */
const char *ind_prelude_read_process(const struct ind_prelude *prelude, const char *end,
                                     struct ind_message *message);

#endif
