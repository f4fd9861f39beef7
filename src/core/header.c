#include "core/header.h"

#include "core/names.h"
#include "core/scan.h"

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
    static const char *const names[] = {"file", "udp", "tcp", "unix", "internal", ""};
    return ind_slice_of(names[transport]);
}

/* What bytes may be part of: a tag (RFC 3164 section 4.1.3 says letters and digits; paths and names of units
 * are common), a letter, an SD-NAME (RFC 5424 section 6.3: printable ASCII but `=`, `]`, `"` and blank).
 * The first two bits are those of core/scan.h. */
enum { IN_DATA_NAME = 4 };
/* clang-format off */
static const unsigned char byte_kinds[256] = {
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

static void malformed(struct ind_message *message, enum ind_malformed reason)
{
    if (message->malformed == IND_MALFORMED_NOT)
        message->malformed = (uint8_t)reason;
}

/* The PRI part (RFC 5424 section 6.2.1). Returns the bytes read, 0 where there is no usable one. */
static size_t read_pri(const char *at, const char *end, struct ind_message *message)
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
    if (bad || pri >= IND_PRIS) {
        if (ind_is_digit(at[1]))
            malformed(message, IND_MALFORMED_PRI);
        return 0;
    }
    message->facility = (uint8_t)(pri / 8);
    message->severity = (uint8_t)(pri % 8);
    message->pri_given = true;
    return digits + 2;
}

/* 1 to 12 from "Jan" to "Dec", 0 for anything else. The multiplier gives each of the twelve a place of its
 * own. */
static int month_of(const char *at)
{
    static const char names[] = "JanFebMarAprMayJunJulAugSepOctNovDec";
    static const unsigned char places[16] = {7, 11, 0, 10, 5, 12, 3, 4, 0, 9, 0, 0, 1, 6, 2, 8};
    uint32_t word = (uint32_t)(unsigned char)at[0] | (uint32_t)(unsigned char)at[1] << 8 |
                    (uint32_t)(unsigned char)at[2] << 16;
    int month = places[word * UINT32_C(0x67e5) >> 28];
    return month && memcmp(at, names + 3 * (month - 1), 3) == 0 ? month : 0;
}

/* Two digits; anything else sets *bad. No branch: the digits of times are as good as random. */
static int two_digits(const char *at, unsigned *bad)
{
    unsigned tens = (unsigned)(unsigned char)at[0] - '0', ones = (unsigned)(unsigned char)at[1] - '0';
    *bad |= (tens > 9) | (ones > 9);
    return (int)(tens * 10 + ones);
}

/* Days since 1970 to a year: exact, but for a year at the very turn. */
static int year_of_days(int64_t days)
{
    return 1970 + (int)(days * 400 / 146097);
}

/* The latest year that does not put the date more than a day ahead of the reference; the latest leap year for
 * 29 February. No zone is more than a day off UTC, so that the search begins two days ahead, and a year that
 * is too late whatever the zone is passed over without asking it. */
static int64_t settle_year(int month, int day, int of_day, ind_time reference, const struct ind_zone *zone)
{
    int64_t latest = ind_time_seconds(reference) + IND_DAY_SECONDS;
    for (int year = year_of_days(latest / IND_DAY_SECONDS + 2);; year--) {
        if (day > 28 && day > ind_days_in_month(year, month))
            continue;
        int64_t local = ind_days_from_civil(year, month, day) * IND_DAY_SECONDS + of_day;
        if (local > latest + IND_DAY_SECONDS)
            continue;
        int64_t utc = ind_zone_to_utc(zone, local);
        if (utc <= latest)
            return utc;
    }
}

/* "Nov 23 04:45:00" (RFC 3164 section 4.1.2), the day padded with a blank or a zero. Returns 15, or 0. */
static size_t read_old_time(const char *at, const char *end, ind_time reference, const struct ind_zone *zone,
                            ind_time *sent)
{
    if (end - at < 15)
        return 0;
    unsigned bad = (at[3] != ' ') | (at[6] != ' ') | (at[9] != ':') | (at[12] != ':');
    const char padded[2] = {at[4] == ' ' ? '0' : at[4], at[5]};
    int month = month_of(at), day = two_digits(padded, &bad);
    int hour = two_digits(at + 7, &bad), minute = two_digits(at + 10, &bad),
        second = two_digits(at + 13, &bad);
    if (bad || month == 0 || day < 1 || hour > 23 || minute > 59 || second > 60 ||
        (day > 28 && day > ind_days_in_month(2000, month)))
        return 0;
    *sent = settle_year(month, day, hour * 3600 + minute * 60 + second, reference, zone) * IND_SECOND;
    return 15;
}

static size_t read_new_time(const char *at, const char *end, const struct ind_zone *zone, ind_time *sent,
                            enum ind_time_style *style)
{
    size_t used = ind_time_read((struct ind_slice){at, (size_t)(end - at)}, sent, style);
    if (used && *style == IND_TIME_LOCAL) {
        int64_t seconds = ind_time_seconds(*sent);
        *sent += (ind_zone_to_utc(zone, seconds) - seconds) * IND_SECOND;
    }
    return used;
}

static const char *skip_data_name(const char *at, const char *end)
{
    const char *start = at;
    while (at < end && byte_kinds[(unsigned char)*at] & IN_DATA_NAME)
        at++;
    return at == start ? NULL : at;
}

/* From behind the opening quote to behind the closing one. */
static const char *skip_data_value(const char *at, const char *end)
{
    /* An unescaped "]" is against section 6.3.3, but common, and the quotes leave no doubt. */
    for (;;) {
        at = ind_scan_either(at, end, '"', '\\');
        if (at == end)
            return NULL;
        if (*at == '"')
            return at + 1;
        at += end - at > 1 ? 2 : 1;
    }
}

/* One or more elements (RFC 5424 section 6.3); the byte behind them, or NULL where they are broken. */
static const char *skip_structured_data(const char *at, const char *end)
{
    while (at < end && *at == '[') {
        at = skip_data_name(at + 1, end);
        while (at && at < end && *at == ' ') {
            at = skip_data_name(at + 1, end);
            if (!at || end - at < 2 || at[0] != '=' || at[1] != '"')
                return NULL;
            at = skip_data_value(at + 2, end);
        }
        if (!at || at == end || *at != ']')
            return NULL;
        at++;
    }
    return at;
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
        after = skip_structured_data(at, end);
        if (after && (after == end || *after == ' '))
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
        if (stop == end) {
            malformed(message, IND_MALFORMED_HEADER_END);
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

/* Behind the PRI of what may be RFC 5424's form; false where it is not. */
static bool read_rfc5424(const char *at, const char *end, const struct ind_zone *zone,
                         struct ind_message *message)
{
    if (end - at < 3 || at[0] != '1' || at[1] != ' ')
        return false;
    at += 2;
    if (*at == '-' && (end - at == 1 || at[1] == ' ')) {
        at++;
    } else {
        enum ind_time_style style;
        size_t used = read_new_time(at, end, zone, &message->sent, &style);
        if (used == 0 && !(end - at > 10 && ind_is_digit(at[0]) && ind_is_digit(at[3]) && at[4] == '-'))
            return false;
        message->form = IND_FORM_RFC5424;
        if (used == 0 || (at + used < end && at[used] != ' ')) {
            message->sent = IND_TIME_NONE;
            malformed(message, IND_MALFORMED_TIME);
            set_text(message, at, end);
            return true;
        }
        if (style != IND_TIME_STRICT)
            malformed(message, IND_MALFORMED_TIME_FORM);
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

enum { TAG_LIMIT = 64, PROCID_LIMIT = 128 };

static const char *skip_procid(const char *at, const char *end)
{
    const char *stop = ind_scan_either(at, end, ']', ' ');
    return stop < end && *stop == ']' && stop - at <= PROCID_LIMIT ? stop : NULL;
}

/* "app: text", "app[procid]: text", "app[procid] text". Returns where the text starts: `at` itself where
 * there is no tag. "CEF:" starts a payload, it names no app. */
static const char *read_tag(const char *at, const char *end, struct ind_message *message)
{
    bool letters;
    const char *p = at + ind_scan_tag(at, end - at > TAG_LIMIT ? at + TAG_LIMIT : end, byte_kinds, &letters);
    struct ind_slice app = {at, (size_t)(p - at)}, procid = IND_NOTHING;
    if (!letters || p == end || ind_slice_equal(app, IND_SLICE("CEF")))
        return at;
    if (*p == '[') {
        const char *close = skip_procid(p + 1, end);
        if (!close)
            return at;
        procid = (struct ind_slice){p + 1, (size_t)(close - p - 1)};
        p = close + 1;
        if (p < end && *p == ':')
            p++;
        else if (p < end && *p != ' ')
            return at;
    } else if (*p == ':' && (p + 1 == end || p[1] == ' ')) {
        p++;
    } else {
        return at;
    }
    message->app = app;
    message->procid = procid;
    return p < end && *p == ' ' ? p + 1 : p;
}

/* Behind the time of the old form: "host tag: text"; a word that ends as a tag does is no host. `at` is
 * before the end. */
static const char *read_old_host(const char *at, const char *end, struct ind_message *message)
{
    const char *stop = ind_scan_either(at, end, ' ', '[');
    if (stop == end || *stop == '[')
        return at; /* a lone word is the text; a bracket belongs to a tag */
    if (stop == at)
        return at + 1; /* two blanks: a host left empty */
    if (stop[-1] == ':')
        return at;
    message->host = (struct ind_slice){at, (size_t)(stop - at)};
    return stop + 1;
}

static void read_rfc3164(const char *at, const char *end, ind_time reference, const struct ind_zone *zone,
                         struct ind_message *message)
{
    enum ind_time_style style;
    size_t used = read_old_time(at, end, reference, zone, &message->sent);
    if (used == 0 && at < end && ind_is_digit(*at))
        used = read_new_time(at, end, zone, &message->sent, &style);
    if (used && at + used < end && at[used] != ' ')
        used = 0;
    if (used) {
        message->form = IND_FORM_RFC3164;
        at += at + used < end ? used + 1 : used;
        if (at < end)
            at = read_old_host(at, end, message);
        at = read_tag(at, end, message);
    } else {
        message->sent = IND_TIME_NONE;
        if (message->pri_given) {
            const char *text = read_tag(at, end, message);
            message->form = text == at ? IND_FORM_BARE : IND_FORM_RFC3164;
            at = text;
        }
    }
    message->text = (struct ind_slice){at, (size_t)(end - at)};
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
    message->pri_given = false;
    message->original = original;
    message->host = message->app = message->procid = message->msgid = message->data = message->text =
        IND_NOTHING;
    message->sender = message->device = message->listener = IND_NOTHING;
    message->configured = NULL;
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
    if (!message->pri_given || !read_rfc5424(at, end, zone, message))
        read_rfc3164(at, end, reference, zone, message);
}

/* Behind a relay the device, and so its zone, is known only once the host has been read: then the time is
 * read again. */
void ind_header_read_with_device(const struct ind_devices *devices, const struct ind_device *of_sender,
                                 struct ind_slice sender, struct ind_slice bytes, ind_time reference,
                                 const struct ind_zone *zone, char scratch[IND_DEVICE_SCRATCH],
                                 struct ind_message *message)
{
    const struct ind_zone *first = of_sender && of_sender->zone ? of_sender->zone : zone;
    ind_header_read(bytes.at, bytes.length, reference, first, message);
    message->sender = sender;
    ind_device_resolve(devices, of_sender, message, scratch);
    const struct ind_device *device = message->configured;
    if (!device || device == of_sender || message->sent == IND_TIME_NONE)
        return;
    const struct ind_zone *own = device->zone ? device->zone : zone;
    struct ind_message again;
    if (own == first)
        return;
    ind_header_read(bytes.at, bytes.length, reference, own, &again);
    message->sent = again.sent;
}
