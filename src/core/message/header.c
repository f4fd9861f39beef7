#include "core/message/header.h"

#include "core/base/mask.h"
#include "core/message/event_code.h"
#include "core/message/names.h"
#include "core/message/passed.h"
#include "core/message/rfc3164.h"
#include "core/message/structured_data.h"
#include "core/time/plain_stamp.h"

struct ind_slice ind_form_name(unsigned form)
{
    static const struct ind_slice names[] = {IND_LITERAL("bare"), IND_LITERAL("rfc3164"),
                                             IND_LITERAL("rfc5424")};
    return names[form];
}

struct ind_slice ind_malformed_name(unsigned reason)
{
    static const struct ind_slice names[IND_MALFORMED_KINDS] = {IND_LITERAL(""),
                                                                IND_LITERAL("PRI"),
                                                                IND_LITERAL("time"),
                                                                IND_LITERAL("form of the time"),
                                                                IND_LITERAL("header ends early"),
                                                                IND_LITERAL("field too long"),
                                                                IND_LITERAL("structured data"),
                                                                IND_LITERAL("cut at the size limit")};
    return names[reason];
}

struct ind_slice ind_transport_name(unsigned transport)
{
    static const struct ind_slice names[] = {
        IND_LITERAL("file"), IND_LITERAL("udp"),  IND_LITERAL("tcp"),
        IND_LITERAL("tls"),  IND_LITERAL("unix"), IND_LITERAL("internal"),
        IND_LITERAL("nats"), IND_LITERAL("trap"), IND_LITERAL("")};
    return names[transport];
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
    const uint32_t first =
        end - at > 4 ? ind_word4(at + 1) : IND_WORD4(at[1], at[2], end - at > 3 ? at[3] : 0, 0);
    const uint32_t ends = first ^ UINT32_C(0x3E3E3E3E); /* a zero for each '>' */
    const uint32_t zeros = (ends - UINT32_C(0x01010101)) & ~ends & UINT32_C(0x80808000);
    if (!zeros)
        return 0;
    const unsigned digits = ind_lowest_bit(zeros) / 8;
    /* No branch depends on the number of digits: they are moved to the top, behind zeros. */
    const uint32_t word = (first ^ UINT32_C(0x30303030)) << (32 - 8 * digits);
    const unsigned pri = (word >> 8 & 0xFF) * 100 + (word >> 16 & 0xFF) * 10 + (word >> 24);
    const bool bad =
        (ind_above_nine(word) != 0) | ((digits > 1) & ((first & 0xFF) == '0')) | (pri >= IND_PRIS);
    *value_read = pri;
    return bad ? 0 : digits + 2;
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

/* Bytes of APP-NAME and MSGID (section 6). */
enum { LONGEST_APP = 48, LONGEST_MSGID = 32 };

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

/* NILVALUE (section 6) is no value. */
static IND_INLINE struct ind_slice field(const char *at, const char *stop)
{
    const size_t length = (size_t)(stop - at);
    const bool nil = (length == 1) & (*at == '-');
    return (struct ind_slice){at, length & ((size_t)nil - 1)}; /* a branch would be as good as random */
}

/* HOSTNAME, APP-NAME, PROCID and MSGID (sections 6.2.4 to 6.2.7) where all end within a block and none is too
 * long. Returns what is behind them; NULL where it is otherwise. */
static IND_INLINE const char *read_short_fields(const char *at, const char *end, struct ind_message *message)
{
    if (end - at < IND_BLOCK)
        return NULL;
    const uint64_t first = ind_mask_of(at, ' '), second = first & (first - 1), third = second & (second - 1),
                   fourth = third & (third - 1);
    if (!fourth)
        return NULL;
    const char *host = at + ind_lowest_bit(first), *app = at + ind_lowest_bit(second),
               *procid = at + ind_lowest_bit(third), *msgid = at + ind_lowest_bit(fourth);
    if ((app - host > LONGEST_APP + 1) | (msgid - procid > LONGEST_MSGID + 1))
        return NULL;
    message->host = field(at, host);
    message->app = field(host + 1, app);
    message->procid = field(app + 1, procid);
    message->msgid = field(procid + 1, msgid);
    return msgid + 1;
}

/* The same, however long they are, and what follows them (sections 6.3 and 6.4). */
static void read_fields(const char *at, const char *end, struct ind_message *message)
{
    static const size_t limits[] = {255, LONGEST_APP, 128, LONGEST_MSGID};
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
        *fields[i] = field(at, stop);
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

/* Behind the PRI, where VERSION and a blank stand; false where it is not of RFC 5424's form. */
static IND_INLINE bool read_rfc5424(bool closely, const char *at, const char *end, ind_time reference,
                                    const struct ind_zone *zone, struct ind_message *message)
{
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
        const char *behind = closely ? NULL : read_short_fields(at + 1, end, message);
        if (behind)
            read_data_and_text(behind, end, message);
        else
            read_fields(at + 1, end, message);
    }
    return true;
}

static IND_INLINE void read_behind_pri(bool closely, const char *at, const char *end, ind_time reference,
                                       const struct ind_zone *zone, struct ind_message *message)
{
    const bool versioned = message->pri_given && end - at >= 3 && at[0] == '1' && at[1] == ' ';
    if (versioned && read_rfc5424(closely, at, end, reference, zone, message))
        return;
    if (closely)
        ind_rfc3164_read_closely(at, end, reference, zone, message);
    else
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
    read_behind_pri(true, at, end, reference, zone, message);
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
    /* Each by itself: what is assigned in a chain is read back from memory, which waits for the write. */
    message->host = IND_NOTHING;
    message->app = IND_NOTHING;
    message->procid = IND_NOTHING;
    message->msgid = IND_NOTHING;
    message->data = IND_NOTHING;
    message->text = IND_NOTHING;
    message->timestamp = IND_NOTHING;
    message->sequence = IND_NOTHING;
    message->location = IND_NOTHING;
    message->sender = IND_NOTHING;
    message->device = IND_NOTHING;
    message->listener = IND_NOTHING;
    message->certificate = IND_NOTHING;
    message->configured = message->claimed = NULL;
    message->payload = NULL;
    message->additions = NULL;
}

static IND_INLINE void read_header(bool closely, struct ind_slice original, ind_time reference,
                                   const struct ind_zone *zone, struct ind_message *message)
{
    const char *bytes = original.at;
    size_t length = original.length;
    while (length > 0 &&
           (bytes[length - 1] == '\n' || bytes[length - 1] == '\r' || bytes[length - 1] == '\0'))
        length--;
    begin(message, (struct ind_slice){bytes, length});
    const char *at = bytes, *end = bytes + length;
    at += read_pri(at, end, message);
    bool gap = message->pri_given && at < end && (*at == ' ' || *at == ':');
    if (!gap || !read_behind_gap(at, end, reference, zone, message))
        read_behind_pri(closely, at, end, reference, zone, message);
    if (message->host.length == 1 && *message->host.at == '-')
        message->host = IND_NOTHING; /* RFC 5424's word for none, met in old headers too */
}

void ind_header_read(const char *bytes, size_t length, ind_time reference, const struct ind_zone *zone,
                     struct ind_message *message)
{
    read_header(false, (struct ind_slice){bytes, length}, reference, zone, message);
}

void ind_header_read_closely(const char *bytes, size_t length, ind_time reference,
                             const struct ind_zone *zone, struct ind_message *message)
{
    read_header(true, (struct ind_slice){bytes, length}, reference, zone, message);
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
IND_COLD static ind_time sent_in_zone(struct ind_slice bytes, ind_time reference, const struct ind_zone *zone)
{
    struct ind_message again;
    ind_header_read(bytes.at, bytes.length, reference, zone, &again);
    return again.sent;
}

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
    if (own != first)
        message->sent = sent_in_zone(bytes, context->reference, own);
}
