#include "core/header.h"

#include "core/names.h"

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
    return transport == IND_TRANSPORT_UDP ? IND_SLICE("udp") : IND_SLICE("file");
}

static void malformed(struct ind_message *message, enum ind_malformed reason)
{
    if (message->malformed == IND_MALFORMED_NOT)
        message->malformed = (uint8_t)reason;
}

/* The PRI part (RFC 5424 section 6.2.1). Returns the bytes read, 0 where there is no usable one. */
static size_t read_pri(const char *at, const char *end, struct ind_message *message)
{
    if (at == end || *at != '<')
        return 0;
    unsigned pri = 0;
    int digits = 0;
    const char *p = at + 1;
    for (; p < end && digits < 4 && ind_is_digit(*p); p++, digits++)
        pri = pri * 10 + (unsigned)(*p - '0');
    bool closed = p < end && *p == '>';
    if (digits == 0 && !closed)
        return 0; /* text that happens to begin with "<" */
    if (!closed || digits == 0 || digits > 3 || pri >= IND_PRIS || (digits > 1 && at[1] == '0')) {
        malformed(message, IND_MALFORMED_PRI);
        return 0;
    }
    message->facility = (uint8_t)(pri / 8);
    message->severity = (uint8_t)(pri % 8);
    message->pri_given = true;
    return (size_t)(p + 1 - at);
}

/* 1 to 12 from "Jan" to "Dec", 0 for anything else. */
static int month_of(const char *at)
{
#define MONTH(a, b, c) ((uint32_t)(a) << 16 | (uint32_t)(b) << 8 | (uint32_t)(c))
    switch (MONTH((unsigned char)at[0], (unsigned char)at[1], (unsigned char)at[2])) {
    case MONTH('J', 'a', 'n'):
        return 1;
    case MONTH('F', 'e', 'b'):
        return 2;
    case MONTH('M', 'a', 'r'):
        return 3;
    case MONTH('A', 'p', 'r'):
        return 4;
    case MONTH('M', 'a', 'y'):
        return 5;
    case MONTH('J', 'u', 'n'):
        return 6;
    case MONTH('J', 'u', 'l'):
        return 7;
    case MONTH('A', 'u', 'g'):
        return 8;
    case MONTH('S', 'e', 'p'):
        return 9;
    case MONTH('O', 'c', 't'):
        return 10;
    case MONTH('N', 'o', 'v'):
        return 11;
    case MONTH('D', 'e', 'c'):
        return 12;
    default:
        return 0;
    }
#undef MONTH
}

static int two_digits(const char *at)
{
    unsigned tens = at[0] == ' ' ? 0 : (unsigned)(at[0] - '0'), ones = (unsigned)(at[1] - '0');
    return tens > 9 || ones > 9 ? -1 : (int)(tens * 10 + ones);
}

/* The latest year that does not put the date more than a day ahead of the reference; the latest leap year for
 * 29 February. */
static int64_t settle_year(int month, int day, int of_day, ind_time reference, const struct ind_zone *zone)
{
    int64_t now = ind_time_seconds(reference);
    struct ind_civil today;
    ind_civil_from_seconds(now + ind_zone_offset(zone, now), &today);
    /* A day ahead reaches into the next year only from its last days. */
    int year = today.month == 12 && month == 1 ? today.year + 1 : today.year;
    for (;; year--) {
        if (day > ind_days_in_month(year, month))
            continue;
        int64_t utc = ind_zone_to_utc(zone, ind_days_from_civil(year, month, day) * IND_DAY_SECONDS + of_day);
        if (utc <= now + IND_DAY_SECONDS)
            return utc;
    }
}

/* "Nov 23 04:45:00" (RFC 3164 section 4.1.2), the day padded with a blank or a zero. Returns 15, or 0. */
static size_t read_old_time(const char *at, const char *end, ind_time reference, const struct ind_zone *zone,
                            ind_time *sent)
{
    if (end - at < 15 || at[3] != ' ' || at[6] != ' ' || at[9] != ':' || at[12] != ':')
        return 0;
    int month = month_of(at), day = two_digits(at + 4);
    int hour = two_digits(at + 7), minute = two_digits(at + 10), second = two_digits(at + 13);
    if (month == 0 || day < 1 || day > ind_days_in_month(2000, month) || hour < 0 || hour > 23 ||
        minute < 0 || minute > 59 || second < 0 || second > 60)
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

static const char *skip_field(const char *at, const char *end)
{
    while (at < end && *at != ' ')
        at++;
    return at;
}

/* Printable ASCII but `=`, `]`, `"` and blank (SD-NAME, RFC 5424 section 6.3). */
static const char *skip_data_name(const char *at, const char *end)
{
    const char *start = at;
    while (at<end && * at> ' ' && *at < 127 && *at != '=' && *at != ']' && *at != '"')
        at++;
    return at == start ? NULL : at;
}

/* From behind the opening quote to behind the closing one. */
static const char *skip_data_value(const char *at, const char *end)
{
    for (; at < end; at++) {
        if (*at == '\\' && end - at > 1)
            at++;
        else if (*at == '"')
            return at + 1; /* An unescaped "]" is against section 6.3.3, but common, and the quotes leave no
                              doubt. */
    }
    return NULL;
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
        const char *stop = skip_field(at, end);
        size_t length = (size_t)(stop - at);
        if (stop == end) {
            malformed(message, IND_MALFORMED_HEADER_END);
            set_text(message, at, end);
            return;
        }
        if (length > limits[i])
            malformed(message, IND_MALFORMED_FIELD_LENGTH);
        if (length != 1 || *at != '-')
            *fields[i] = (struct ind_slice){at, length};
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

/* What a tag is made of (RFC 3164 section 4.1.3 says letters and digits; paths and names of units are
 * common). */
static bool is_tag_byte(char c)
{
    return ind_is_alpha(c) || ind_is_digit(c) || c == '_' || c == '-' || c == '.' || c == '/' || c == '+' ||
           c == '@';
}

enum { TAG_LIMIT = 64, PROCID_LIMIT = 128 };

static const char *skip_procid(const char *at, const char *end)
{
    const char *start = at;
    while (at<end && * at> ' ' && *at != ']' && *at != '[' && at - start < PROCID_LIMIT)
        at++;
    return at < end && *at == ']' ? at : NULL;
}

/* "app: text", "app[procid]: text", "app[procid] text". Returns where the text starts: `at` itself where
 * there is no tag. "CEF:" starts a payload, it names no app. */
static const char *read_tag(const char *at, const char *end, struct ind_message *message)
{
    const char *p = at;
    bool letters = false;
    for (; p < end && is_tag_byte(*p) && p - at < TAG_LIMIT; p++)
        letters |= ind_is_alpha(*p);
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
    const char *stop = skip_field(at, end);
    if (stop == end)
        return at; /* a lone word is the text */
    if (stop == at)
        return at + 1; /* two blanks: a host left empty */
    if (stop[-1] == ':' || memchr(at, '[', (size_t)(stop - at)))
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

void ind_header_read(const char *bytes, size_t length, ind_time reference, const struct ind_zone *zone,
                     struct ind_message *message)
{
    while (length > 0 &&
           (bytes[length - 1] == '\n' || bytes[length - 1] == '\r' || bytes[length - 1] == '\0'))
        length--;
    *message = (struct ind_message){.received = IND_TIME_NONE,
                                    .sent = IND_TIME_NONE,
                                    .time = IND_TIME_NONE,
                                    .facility = IND_FACILITY_USER,
                                    .severity = IND_SEVERITY_NOTICE,
                                    .form = IND_FORM_BARE,
                                    .original = {bytes, length}};
    const char *at = bytes, *end = bytes + length;
    at += read_pri(at, end, message);
    if (!message->pri_given || !read_rfc5424(at, end, zone, message))
        read_rfc3164(at, end, reference, zone, message);
}
