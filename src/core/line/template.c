#include "core/line/template.h"

#include "core/archive/archive_name.h"
#include "core/base/escape.h"
#include "core/message/names.h"
#include "core/payload/payload.h"

static const char *const placeholder_names[IND_PUT_LITERAL] = {
    "device", "host", "sender", "facility", "severity", "app",    "listener", "year", "month", "day",
    "hour",   "date", "label",  "field",    "time",     "procid", "msgid",    "data", "text"};

static size_t names_for(enum ind_template_use use)
{
    return use == IND_TEMPLATE_PATH ? IND_PUT_LINE_ONLY : IND_PUT_LITERAL;
}

static void unknown(struct ind_slice name, size_t at, enum ind_template_use use, struct ind_mistake *mistake)
{
    const char *near = ind_near(name, placeholder_names, names_for(use));
    if (near)
        ind_mistake_say(mistake, at, name.length + 2, "unknown placeholder {", name, "}; did you mean {",
                        ind_slice_of(near), "}?");
    else
        ind_mistake_say(mistake, at, name.length + 2, "unknown placeholder {", name,
                        "}; known are {device} {host} {sender} {facility} {severity} {app} {listener} {label "
                        "NAME} {field NAME} {year} "
                        "{month} {day} {hour} {date}",
                        IND_NOTHING,
                        use == IND_TEMPLATE_LINE ? " {time} {procid} {msgid} {data} {text}" : "");
}

static void add_part(struct ind_template *template, enum ind_placeholder put, struct ind_slice text,
                     size_t at, struct ind_mistake *mistake)
{
    if (template->count == IND_TEMPLATE_PARTS)
        ind_mistake_say(mistake, at, text.length, "more than 64 parts; shorten it", IND_NOTHING, "",
                        IND_NOTHING, "");
    else
        template->parts[template->count++] = (struct ind_template_part){(uint8_t)put, text};
}

/* `name` is what stands between the braces, which begin at `at`. */
static void read_placeholder(struct ind_template *template, struct ind_slice name, size_t at,
                             enum ind_template_use use, struct ind_mistake *mistake)
{
    if (ind_slice_starts(name, IND_SLICE("label "))) {
        add_part(template, IND_PUT_LABEL, ind_slice_from(name, 6), at, mistake);
        template->only_pri = false;
        template->has_label = true;
        return;
    }
    if (ind_slice_starts(name, IND_SLICE("field "))) {
        add_part(template, IND_PUT_FIELD, ind_slice_from(name, 6), at, mistake);
        template->has_field = template->has_message = true;
        template->only_device = template->only_pri = false;
        return;
    }
    if (ind_slice_equal(name, IND_SLICE("field"))) {
        ind_mistake_say(mistake, at, name.length + 2, "which field? write {field NAME}", IND_NOTHING, "",
                        IND_NOTHING, "");
        return;
    }
    if (ind_slice_equal(name, IND_SLICE("label"))) {
        ind_mistake_say(mistake, at, name.length + 2, "which label? write {label NAME}", IND_NOTHING, "",
                        IND_NOTHING, "");
        return;
    }
    for (size_t put = 0; put < names_for(use); put++)
        if (ind_slice_equal(name, ind_slice_of(placeholder_names[put]))) {
            add_part(template, (enum ind_placeholder)put, name, at, mistake);
            template->has_time |= put >= IND_PUT_YEAR &&put <= IND_PUT_DATE;
            bool made_up = put == IND_PUT_HOST || put == IND_PUT_SENDER || put == IND_PUT_APP;
            template->has_message |= made_up || put == IND_PUT_DEVICE;
            template->only_device &= !made_up;
            template->only_pri &= put == IND_PUT_FACILITY || put == IND_PUT_SEVERITY;
            return;
        }
    unknown(name, at, use, mistake);
}

static bool split(struct ind_slice source, enum ind_template_use use, struct ind_template *template,
                  struct ind_mistake *mistake)
{
    for (size_t at = 0; at < source.length && !mistake->made;) {
        size_t stop = at;
        while (stop < source.length && source.at[stop] != '{' && source.at[stop] != '}')
            stop++;
        if (stop > at) {
            add_part(template, IND_PUT_LITERAL, (struct ind_slice){source.at + at, stop - at}, at, mistake);
            at = stop;
            continue;
        }
        if (at + 1 < source.length &&
            source.at[at + 1] == source.at[at]) { /* "{{" and "}}" are literal braces */
            add_part(template, IND_PUT_LITERAL, (struct ind_slice){source.at + at, 1}, at, mistake);
            at += 2;
            continue;
        }
        const char *close = source.at[at] == '{' ? memchr(source.at + at, '}', source.length - at) : NULL;
        if (!close) {
            ind_mistake_say(mistake, at, 1, "this brace has no partner; a brace itself is written twice",
                            IND_NOTHING, "", IND_NOTHING, "");
            break;
        }
        size_t end = (size_t)(close - source.at);
        read_placeholder(template, (struct ind_slice){source.at + at + 1, end - at - 1}, at, use, mistake);
        at = end + 1;
    }
    return !mistake->made;
}

static void check_component(struct ind_slice source, size_t start, size_t end, struct ind_mistake *mistake)
{
    size_t longest = 0;
    for (size_t at = start; at < end; at++) {
        if (source.at[at] == '{') {
            while (at < end && source.at[at] != '}')
                at++;
            longest += IND_PATH_PART;
        } else {
            longest++;
        }
    }
    if (end == start)
        ind_mistake_say(mistake, start, 1, "an empty part of the path; leave one \"/\" out", IND_NOTHING, "",
                        IND_NOTHING, "");
    else if (source.at[start] == '.')
        ind_mistake_say(mistake, start, end - start,
                        "no part of the path may begin with a dot: files stay below the store", IND_NOTHING,
                        "", IND_NOTHING, "");
    else if (longest >
             212) /* with the stamp, the number and what compression adds below 255, the usual NAME_MAX */
        ind_mistake_say(
            mistake, start, end - start,
            "this part of the path could grow beyond 212 bytes; put a \"/\" between its placeholders",
            IND_NOTHING, "", IND_NOTHING, "");
}

static bool check_path(struct ind_slice source, struct ind_mistake *mistake)
{
    if (source.length == 0 || source.at[0] == '/') {
        ind_mistake_say(mistake, 0, source.length,
                        "the path is relative to the store; leave the first \"/\" out", IND_NOTHING, "",
                        IND_NOTHING, "");
        return false;
    }
    size_t parts = 0;
    for (size_t start = 0, at = 0; at <= source.length && !mistake->made; at++) {
        if (at < source.length && source.at[at] != '/' && (unsigned char)source.at[at] >= ' ')
            continue;
        if (at < source.length && source.at[at] != '/')
            ind_mistake_say(mistake, at, 1, "a control character in the path; take it out", IND_NOTHING, "",
                            IND_NOTHING, "");
        check_component(source, start, at, mistake);
        start = at + 1;
        if (++parts > 8)
            ind_mistake_say(mistake, at, 1, "more than 8 parts in the path; shorten it", IND_NOTHING, "",
                            IND_NOTHING, "");
    }
    if (source.length < 5 || memcmp(source.at + source.length - 4, ".log", 4) != 0)
        ind_mistake_say(mistake, 0, source.length, "the file's name must end in \".log\"", IND_NOTHING, "",
                        IND_NOTHING, "");
    else if (!ind_is_live_name(source))
        ind_mistake_say(mistake, 0, source.length, "the name has the form of an archive's; choose another",
                        IND_NOTHING, "", IND_NOTHING, "");
    return !mistake->made;
}

bool ind_template_read(struct ind_slice source, enum ind_template_use use, struct ind_template *template,
                       struct ind_mistake *mistake)
{
    *template = (struct ind_template){.source = source, .only_device = true, .only_pri = true};
    return split(source, use, template, mistake) && (use == IND_TEMPLATE_LINE || check_path(source, mistake));
}

static void set_clock(struct ind_path_clock *clock, ind_time time)
{
    if (time >= clock->from && time < clock->to)
        return;
    ind_zone_civil(clock->zone, time, &clock->local);
    int64_t seconds = ind_time_seconds(time);
    int64_t quarter =
        seconds - ((seconds % 900) + 900) % 900; /* offsets are whole quarters of an hour, or long ago */
    clock->from = quarter * IND_SECOND;
    clock->to = clock->from + 900 * IND_SECOND;
    if (ind_zone_offset(clock->zone, quarter) != ind_zone_offset(clock->zone, quarter + 899) ||
        ind_zone_offset(clock->zone, quarter) % 900 != 0)
        clock->from = clock->to = time;
}

static void add_two_digits(struct ind_buffer *buffer, int number)
{
    ind_buffer_byte(buffer, (char)('0' + number / 10 % 10));
    ind_buffer_byte(buffer, (char)('0' + number % 10));
}

static void add_date_part(enum ind_placeholder put, const struct ind_civil *local, struct ind_buffer *buffer)
{
    if (put == IND_PUT_YEAR || put == IND_PUT_DATE)
        ind_buffer_number(buffer, (unsigned long long)local->year);
    if (put == IND_PUT_DATE)
        ind_buffer_byte(buffer, '-');
    if (put == IND_PUT_MONTH || put == IND_PUT_DATE)
        add_two_digits(buffer, local->month);
    if (put == IND_PUT_DATE)
        ind_buffer_byte(buffer, '-');
    if (put == IND_PUT_DAY || put == IND_PUT_DATE)
        add_two_digits(buffer, local->day);
    if (put == IND_PUT_HOUR)
        add_two_digits(buffer, local->hour);
}

static struct ind_slice field_of(const struct ind_message *message, struct ind_slice name)
{
    size_t from = 0;
    struct ind_slice value = IND_NOTHING;
    if (message->payload)
        (void)ind_payload_find(message->payload, name, &from, &value);
    return value;
}

static struct ind_slice value_of(const struct ind_template_part *part, const struct ind_message *message)
{
    switch (part->put) {
    case IND_PUT_DEVICE:
        return message->device;
    case IND_PUT_HOST:
        return message->host.length ? message->host : message->device;
    case IND_PUT_SENDER:
        return message->sender;
    case IND_PUT_FACILITY:
        return ind_facility_name(message->facility);
    case IND_PUT_SEVERITY:
        return ind_severity_name(message->severity);
    case IND_PUT_APP:
        return message->app;
    case IND_PUT_LISTENER:
        return message->listener;
    case IND_PUT_LABEL:
        return ind_message_label(message, part->text);
    case IND_PUT_FIELD:
        return field_of(message, part->text);
    case IND_PUT_PROCID:
        return message->procid;
    case IND_PUT_MSGID:
        return message->msgid;
    case IND_PUT_DATA:
        return message->data;
    case IND_PUT_TEXT:
        return message->text;
    default:
        return part->text;
    }
}

static bool stays(char c)
{
    return ind_is_alpha(c) || ind_is_digit(c) || c == '.' || c == '-' || c == '_';
}

static void add_path_value(struct ind_buffer *buffer, struct ind_slice value)
{
    if (value.length == 0)
        value = IND_SLICE("unknown");
    if (value.length > IND_PATH_PART)
        value.length = IND_PATH_PART;
    for (size_t i = 0; i < value.length; i++)
        ind_buffer_byte(buffer, stays(value.at[i]) && !(i == 0 && value.at[i] == '.') ? value.at[i] : '_');
}

static bool is_date_part(unsigned put)
{
    return put >= IND_PUT_YEAR && put <= IND_PUT_DATE;
}

/* A device could call itself so that NAME.log has the form of an archive's name: the last "-" of that form
 * goes. */
static void not_an_archive(struct ind_buffer *buffer, size_t start)
{
    struct ind_archive_name parts;
    size_t end = buffer->length;
    if (buffer->full || end - start < 28 || !ind_is_digit(buffer->at[end - 5]))
        return;
    if (ind_archive_name_read((struct ind_slice){buffer->at + start, end - start}, &parts))
        for (size_t at = end; at-- > start;)
            if (buffer->at[at] == '-') {
                buffer->at[at] = '_';
                return;
            }
}

void ind_template_path(const struct ind_template *template, const struct ind_message *message,
                       struct ind_path_clock *clock, bool series, struct ind_buffer *buffer)
{
    size_t start = buffer->length;
    if (template->has_time && !series)
        set_clock(clock, message->time);
    for (size_t i = 0; i < template->count; i++) {
        const struct ind_template_part *part = &template->parts[i];
        if (part->put == IND_PUT_LITERAL || part->put == IND_PUT_FACILITY || part->put == IND_PUT_SEVERITY)
            ind_buffer_slice(buffer, value_of(part, message));
        else if (!is_date_part(part->put))
            add_path_value(buffer, value_of(part, message));
        else if (!series)
            add_date_part((enum ind_placeholder)part->put, &clock->local, buffer);
    }
    not_an_archive(buffer, start);
}

/* What stands as it is: literals, and times and dates, which are put together in `room`. False for all that a
 * message brought. */
static bool is_own(const struct ind_template_part *part, const struct ind_message *message,
                   const struct ind_path_clock *clock, char room[IND_TIME_WIDTH_MOST],
                   struct ind_slice *value)
{
    struct ind_buffer out = ind_buffer_on(room, IND_TIME_WIDTH_MOST);
    *value = value_of(part, message);
    if (part->put == IND_PUT_LITERAL)
        return true;
    if (is_date_part(part->put))
        add_date_part((enum ind_placeholder)part->put, &clock->local, &out);
    else if (part->put == IND_PUT_TIME)
        ind_zone_write_time(clock->times, message->time, &out);
    else
        return false;
    *value = ind_buffer_view(&out);
    return true;
}

void ind_template_value(const struct ind_template *template, const struct ind_message *message,
                        struct ind_path_clock *clock, struct ind_buffer *buffer)
{
    char room[IND_TIME_WIDTH_MOST];
    struct ind_slice value;
    if (template->has_time)
        set_clock(clock, message->time);
    for (size_t i = 0; i < template->count; i++) {
        (void)is_own(&template->parts[i], message, clock, room, &value);
        ind_buffer_cut(buffer, value);
    }
}

bool ind_template_has(const struct ind_template *template, enum ind_placeholder put)
{
    for (size_t i = 0; i < template->count; i++)
        if (template->parts[i].put == put)
            return true;
    return false;
}

static bool is_of_message(unsigned put)
{
    return put == IND_PUT_HOST || put == IND_PUT_APP || put == IND_PUT_PROCID || put == IND_PUT_MSGID ||
           put == IND_PUT_DATA || put == IND_PUT_TEXT || put == IND_PUT_FIELD;
}

size_t ind_template_most(const struct ind_template *template, size_t message)
{
    enum { SMALL = 1024 }; /* all that is no part of the message: names of devices, times, … */
    size_t most = 1, times[IND_PUT_LITERAL + 1] = {0}, deepest = 0;
    for (size_t i = 0; i < template->count; i++) {
        const struct ind_template_part *part = &template->parts[i];
        most += part->put == IND_PUT_LITERAL ? part->text.length : is_of_message(part->put) ? 0 : SMALL;
        times[part->put]++;
        if (is_of_message(part->put) && times[part->put] > deepest)
            deepest = times[part->put];
    }
    return most + deepest * 4 * message;
}

void ind_template_line(const struct ind_template *template, const struct ind_message *message,
                       struct ind_path_clock *clock, struct ind_buffer *buffer)
{
    char room[IND_TIME_WIDTH_MOST];
    struct ind_slice value;
    if (template->has_time)
        set_clock(clock, message->time);
    for (size_t i = 0; i < template->count; i++)
        if (is_own(&template->parts[i], message, clock, room, &value))
            ind_buffer_slice(buffer, value);
        else if (value.length)
            ind_escape_text(buffer, value);
        else
            ind_buffer_byte(buffer, '-');
}
