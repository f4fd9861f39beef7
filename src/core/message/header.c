#include "core/message/header.h"

#include "core/base/scan.h"
#include "core/message/event_code.h"
#include "core/message/names.h"
#include "core/message/passed.h"
#include "core/message/rfc3164.h"
#include "core/message/structured_data.h"
#include "core/time/plain_stamp.h"

struct ind_slice ind_form_name(unsigned form)
{
    static const char *const names[] = {"bare", "rfc3164", "rfc5424"};
    return ind_slice_of(names[form]);
}

struct ind_slice ind_malformed_name(unsigned reason)
{
    static const char *const names[IND_MALFORMED_KINDS] = {"",
                                                           "PRI",
                                                           "time",
                                                           "form of the time",
                                                           "header ends early",
                                                           "field too long",
                                                           "structured data",
                                                           "cut at the size limit"};
    return ind_slice_of(names[reason]);
}

struct ind_slice ind_transport_name(unsigned transport)
{
    static const char *const names[] = {"file", "udp", "tcp", "tls", "unix", "internal", "nats", "trap", ""};
    return ind_slice_of(names[transport]);
}

unsigned ind_transport_read(struct ind_slice name)
{
    unsigned transport = 0;
    while (transport < IND_TRANSPORT_UNKNOWN && !ind_slice_equal(name, ind_transport_name(transport)))
        transport++;
    return transport;
}

static void malformed(struct ind_message *message, enum ind_malformed reason)
{
    if (message->malformed == IND_MALFORMED_NOT)
        message->malformed = (uint8_t)reason;
}

/* The PRI part (RFC 5424 section 6.2.1). Returns its bytes, 0 where there is no usable one. */
static IND_INLINE size_t measure_pri(const char *at, const char *end, unsigned *value_read)
{
    if (end - at < 3 || *at != '<')
        return 0; /* even "<>" is text that happens to begin so */
    unsigned digits = at[2] == '>'                   ? 1
                      : end - at > 3 && at[3] == '>' ? 2
                      : end - at > 4 && at[4] == '>' ? 3
                                                     : 0;
    unsigned pri = 0, bad = digits == 0;
    for (unsigned i = 1; i <= 3; i++) { /* always three steps: no branch depends on the number of digits */
        unsigned value = i <= digits ? (unsigned)(unsigned char)at[i] - '0' : 0;
        bad |= value > 9;
        pri = i <= digits ? pri * 10 + value : pri;
    }
    bad |= (digits > 1) & (at[1] == '0');
    *value_read = pri;
    return bad || pri >= IND_PRIS ? 0 : digits + 2;
}

static size_t read_pri(const char *at, const char *end, struct ind_message *message)
{
    unsigned pri;
    const size_t length = measure_pri(at, end, &pri);
    if (length) {
        message->facility = (uint8_t)(pri / 8);
        message->severity = (uint8_t)(pri % 8);
        message->pri_given = true;
    } else if (end - at >= 3 && *at == '<' && ind_is_digit(at[1])) {
        malformed(message, IND_MALFORMED_PRI);
    }
    return length;
}

unsigned ind_header_pri(const char *bytes, size_t length)
{
    unsigned pri;
    return measure_pri(bytes, bytes + length, &pri) ? pri : IND_FACILITY_USER * 8 + IND_SEVERITY_NOTICE;
}

static void set_text(struct ind_message *message, const char *at, const char *end)
{
    if (end - at >= 3 && memcmp(at, "\xEF\xBB\xBF", 3) == 0)
        at += 3; /* the byte order mark of RFC 5424 section 6.4 says UTF-8 and is no part of the text */
    message->text = (struct ind_slice){at, (size_t)(end - at)};
}

static void read_data_and_text(const char *at, const char *end, struct ind_message *message)
{
    const char *after = NULL;
    if (at < end && *at == '-' && (end - at == 1 || at[1] == ' ')) {
        after = at + 1;
    } else if (at < end && *at == '[') {
        after = at + ind_data_length((struct ind_slice){at, (size_t)(end - at)});
        if (after > at && (after == end || *after == ' '))
            message->data = (struct ind_slice){at, (size_t)(after - at)};
        else
            after = NULL;
    }
    if (!after)
        malformed(message, at == end ? IND_MALFORMED_HEADER_END : IND_MALFORMED_STRUCTURED_DATA);
    else
        at = after < end ? after + 1 : end;
    set_text(message, at, end);
}

/* HOSTNAME, APP-NAME, PROCID, MSGID and what follows them (sections 6.2.4 to 6.4). */
static void read_fields(const char *at, const char *end, struct ind_message *message)
{
    static const size_t limits[] = {255, 48, 128, 32};
    struct ind_slice *const fields[] = {&message->host, &message->app, &message->procid, &message->msgid};
    for (int i = 0; i < 4; i++) {
        const char *stop = ind_scan_blank(at, end);
        size_t length = (size_t)(stop - at);
        if (stop == end) { /* what was read stays: the last word is what its place says, where it can be */
            malformed(message, IND_MALFORMED_HEADER_END);
            if (length <= limits[i] && !(length == 1 && *at == '-'))
                *fields[i] = (struct ind_slice){at, length};
            else if (length > limits[i])
                set_text(message, at, end);
            return;
        }
        if (length > limits[i])
            malformed(message, IND_MALFORMED_FIELD_LENGTH);
        bool nil = (length == 1) & (*at == '-');
        *fields[i] = (struct ind_slice){at, nil ? 0 : length};
        at = stop + 1;
    }
    read_data_and_text(at, end, message);
}

/* The TIMESTAMP: 0 where there is none that could be meant as one. The old form is readable, but against
 * section 6.2.3. */
static size_t read_timestamp(const char *at, const char *end, ind_time reference, const struct ind_zone *zone,
                             struct ind_message *message)
{
    enum ind_time_style style;
    size_t used = ind_stamp_read_new(at, end, zone, &message->sent, &style);
    if (used == 0) {
        used = ind_stamp_read_plain(at, end, reference, zone, &message->sent);
        style = IND_TIME_LENIENT;
    }
    if (used && style != IND_TIME_STRICT)
        malformed(message, IND_MALFORMED_TIME_FORM);
    return used;
}

/* Behind the PRI of what may be RFC 5424's form; false where it is not. */
static bool read_rfc5424(const char *at, const char *end, ind_time reference, const struct ind_zone *zone,
                         struct ind_message *message)
{
    if (end - at < 3 || at[0] != '1' || at[1] != ' ')
        return false;
    at += 2;
    while (end - at > 1 && *at == ' ')
        at++;
    if (*at == '-' && (end - at == 1 || at[1] == ' ')) {
        at++;
    } else {
        size_t used = read_timestamp(at, end, reference, zone, message);
        if (used == 0 && !(end - at > 10 && ind_is_digit(at[0]) && ind_is_digit(at[3]) && at[4] == '-'))
            return false;
        message->form = IND_FORM_RFC5424;
        if (used == 0 || (at + used < end && at[used] != ' ')) {
            message->sent = IND_TIME_NONE;
            message->malformed = IND_MALFORMED_NOT;
            malformed(message, IND_MALFORMED_TIME);
            set_text(message, at, end);
            return true;
        }
        message->timestamp = (struct ind_slice){at, used};
        at += used;
    }
    message->form = IND_FORM_RFC5424;
    if (at == end) {
        malformed(message, IND_MALFORMED_HEADER_END);
        set_text(message, at, end);
    } else {
        read_fields(at + 1, end, message);
    }
    return true;
}

static IND_INLINE void read_behind_pri(const char *at, const char *end, ind_time reference,
                                       const struct ind_zone *zone, struct ind_message *message)
{
    if (!message->pri_given || !read_rfc5424(at, end, reference, zone, message))
        ind_rfc3164_read(at, end, reference, zone, message);
}

static bool is_payload(struct ind_slice text)
{
    return text.length &&
           (*text.at == '{' || ind_slice_starts(text, IND_SLICE("CEF:")) ||
            ind_slice_starts(text, IND_SLICE("LEEF:")) || ind_slice_starts(text, IND_SLICE("@cee:")));
}

/* A colon, or blanks, between the PRI and the rest: they count as nothing where a header, a code or a payload
 * follows, and belong to the text otherwise. False where they do. */
IND_COLD static bool read_behind_gap(const char *at, const char *end, ind_time reference,
                                     const struct ind_zone *zone, struct ind_message *message)
{
    const struct ind_message before = *message;
    const bool colon = *at == ':';
    at += colon;
    while (at < end && *at == ' ')
        at++;
    read_behind_pri(at, end, reference, zone, message);
    struct ind_event_code code;
    bool understood = message->timestamp.length || message->form == IND_FORM_RFC5424 ||
                      ind_event_code_read(message->text, &code) ||
                      (!colon && (message->app.length || message->host.length || is_payload(message->text)));
    if (!understood)
        *message = before;
    return understood;
}

/* Field by field: clearing the whole structure at once costs more than reading a short header. */
static void begin(struct ind_message *message, struct ind_slice original)
{
    message->received = message->sent = message->time = IND_TIME_NONE;
    message->facility = IND_FACILITY_USER;
    message->severity = IND_SEVERITY_NOTICE;
    message->form = IND_FORM_BARE;
    message->malformed = IND_MALFORMED_NOT;
    message->transport = IND_TRANSPORT_FILE;
    message->mark = IND_MARK_NONE;
    message->pri_given = message->line_cut = false;
    message->original = original;
    message->host = message->app = message->procid = message->msgid = message->data = message->text =
        IND_NOTHING;
    message->timestamp = message->sequence = message->location = IND_NOTHING;
    message->sender = message->device = message->listener = message->certificate = IND_NOTHING;
    message->configured = message->claimed = NULL;
    message->payload = NULL;
    message->additions = NULL;
}

void ind_header_read(const char *bytes, size_t length, ind_time reference, const struct ind_zone *zone,
                     struct ind_message *message)
{
    while (length > 0 &&
           (bytes[length - 1] == '\n' || bytes[length - 1] == '\r' || bytes[length - 1] == '\0'))
        length--;
    begin(message, (struct ind_slice){bytes, length});
    const char *at = bytes, *end = bytes + length;
    at += read_pri(at, end, message);
    bool gap = message->pri_given && at < end && (*at == ' ' || *at == ':');
    if (!gap || !read_behind_gap(at, end, reference, zone, message))
        read_behind_pri(at, end, reference, zone, message);
    if (message->host.length == 1 && *message->host.at == '-')
        message->host = IND_NOTHING; /* RFC 5424's word for none, met in old headers too */
}

/* "hq-relay hq-rtr1: %LINK-3-CHANGE: …": of two words in front of a code the second is a process, unless it
 * is the name of a device, or the first is the relay's that sent it: then a relay has put itself before the
 * host. */
IND_COLD static void find_device_before_code(const struct ind_header_context *context,
                                             struct ind_message *message)
{
    const struct ind_device *relay =
        context->of_sender && context->of_sender->relay ? context->of_sender : NULL;
    struct ind_event_code code;
    if (!ind_event_code_read(message->text, &code) ||
        (!ind_devices_by_name(context->devices, message->app) &&
         !(relay && ind_devices_by_name(context->devices, message->host) == relay)))
        return;
    message->host = message->app;
    message->app = IND_NOTHING;
}

/* Of what a collector of ours has passed on the sender is the first one; where that is a device's address it
 * is as if the message had come from there. */
IND_COLD static const struct ind_device *first_sender(const struct ind_header_context *context,
                                                      struct ind_message *message)
{
    const struct ind_slice sender = ind_passed_sender(message->data);
    struct ind_address address;
    if (sender.length == 0 || !ind_address_read(sender, &address))
        return context->of_sender;
    message->sender = sender;
    const struct ind_device *device = ind_devices_by_address(context->devices, &address);
    return device ? device : context->of_sender;
}

/* Behind a relay the device, and so its zone, is known only once the host has been read: then the time is
 * read again. */
void ind_header_read_with_device(const struct ind_header_context *context, struct ind_slice bytes,
                                 struct ind_message *message)
{
    const struct ind_device *of_sender = context->of_sender, *speaker;
    const struct ind_zone *first = of_sender && of_sender->zone ? of_sender->zone : context->zone;
    ind_header_read(bytes.at, bytes.length, context->reference, first, message);
    if (message->app.length && message->procid.length == 0 && message->text.length &&
        *message->text.at == '%')
        find_device_before_code(context, message);
    message->sender = context->sender;
    speaker =
        of_sender && of_sender->relay && message->data.length ? first_sender(context, message) : of_sender;
    ind_device_resolve(context->devices, speaker, message, context->scratch);
    const struct ind_device *device = message->configured;
    if (!device || device == of_sender || message->sent == IND_TIME_NONE)
        return;
    const struct ind_zone *own = device->zone ? device->zone : context->zone;
    struct ind_message again;
    if (own == first)
        return;
    ind_header_read(bytes.at, bytes.length, context->reference, own, &again);
    message->sent = again.sent;
}
