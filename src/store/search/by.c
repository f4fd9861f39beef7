#include "store/search/by.h"

#include "config/quantity.h"
#include "core/base/escape.h"
#include "core/message/device.h"
#include "core/message/event_name.h"
#include "core/message/framing.h"
#include "core/message/names.h"
#include "core/message/structured_data.h"
#include <stdio.h>
#include <stdlib.h>

enum { QUARTER = 900, MOST_V4 = 32, MOST_V6 = 128, V6_OF_V4 = 64 };

static const char *const time_names[] = {"minute", "hour", "day", "weekday", "date"};
static const char *const weekdays[] = {"mon", "tue", "wed", "thu", "fri", "sat", "sun"};

/* ---- Reading ---- */

struct ind_slice ind_search_by_name(unsigned by)
{
    return by < IND_FIELDS                          ? ind_field_name((enum ind_field)by)
           : by == IND_BY_EVENT                     ? IND_SLICE("event")
           : by >= IND_BY_MINUTE && by < IND_BY_END ? ind_slice_of(time_names[by - IND_BY_MINUTE])
                                                    : IND_NOTHING;
}

/* "/24" at its end. False where what stands there is no such number. */
static bool take_network(struct ind_slice *text, uint8_t *network)
{
    size_t at = text->length;
    unsigned bits = 0;
    while (at > 0 && text->at[at - 1] != '/' && text->at[at - 1] != ' ')
        at--;
    *network = 0;
    if (at < 2 || text->at[at - 1] != '/')
        return true;
    for (size_t i = at; i < text->length; i++) {
        if (!ind_is_digit(text->at[i]) || text->length - at > 3)
            return true; /* a part of the name */
        bits = bits * 10 + (unsigned)(text->at[i] - '0');
    }
    if (at == text->length)
        return true;
    *network = (uint8_t)bits;
    text->length = at - 1;
    return bits > 0 && bits <= MOST_V6;
}

static struct ind_slice after_word(struct ind_slice text, struct ind_slice word)
{
    return ind_slice_starts(text, word) && text.length > word.length + 1 && text.at[word.length] == ' '
               ? ind_slice_from(text, word.length + 1)
               : IND_NOTHING;
}

static bool read_named(struct ind_slice text, struct ind_search_by *by)
{
    static const unsigned named[] = {IND_FIELD_LABEL, IND_FIELD_FIELD, IND_FIELD_DATA};
    for (size_t i = 0; i < sizeof named / sizeof *named; i++) {
        struct ind_slice name = after_word(text, ind_search_by_name(named[i]));
        if (name.length == 0)
            continue;
        by->what = named[i];
        by->name = name;
        if (named[i] != IND_FIELD_DATA)
            return true;
        const char *blank = memchr(name.at, ' ', name.length);
        if (!blank || blank == name.at || blank + 1 == name.at + name.length)
            return false;
        by->id = (struct ind_slice){name.at, (size_t)(blank - name.at)};
        by->name = ind_slice_from(name, by->id.length + 1);
        return true;
    }
    return false;
}

static bool can_be_alone(unsigned what)
{
    return what <= IND_FIELD_SEVERITY || what == IND_FIELD_PATTERN || what >= IND_BY_EVENT ||
           (what < IND_FIELDS && ind_field_is_text((enum ind_field)what));
}

bool ind_search_by_read(struct ind_slice text, struct ind_search_by *by)
{
    *by = (struct ind_search_by){.what = IND_BY_NOTHING, .text = text};
    if (!take_network(&text, &by->network))
        return false;
    if (read_named(text, by))
        return true;
    for (unsigned what = 0; what < IND_BY_END; what++)
        if (ind_slice_equal(text, ind_search_by_name(what)) && can_be_alone(what)) {
            by->what = what;
            return by->network == 0 || (what < IND_FIELDS && ind_field_is_text((enum ind_field)what));
        }
    return false;
}

bool ind_search_column_read(struct ind_slice text, struct ind_search_by *by)
{
    static const struct {
        const char *name;
        unsigned what;
    } only_columns[] = {{"time", IND_FIELD_TIME},
                        {"sent", IND_COLUMN_SENT},
                        {"lag", IND_FIELD_LAG},
                        {"data", IND_FIELD_DATA}};
    for (size_t i = 0; i < sizeof only_columns / sizeof *only_columns; i++)
        if (ind_slice_equal(text, ind_slice_of(only_columns[i].name))) {
            *by = (struct ind_search_by){.what = only_columns[i].what, .text = text};
            return true;
        }
    return ind_search_by_read(text, by) && !ind_search_by_is_time(by);
}

bool ind_search_by_hours(const struct ind_search_by *by)
{
    return ind_search_by_is_time(by) && by->what != IND_BY_MINUTE &&
           (by->what != IND_BY_EVERY || by->every.unit != IND_EVERY_SECONDS || by->every.seconds % 3600 == 0);
}

bool ind_every_read(struct ind_slice text, struct ind_every *every)
{
    static const struct {
        const char *name;
        struct ind_every every;
    } named[] = {{"minute", {IND_EVERY_SECONDS, 60}}, {"hour", {IND_EVERY_SECONDS, 3600}},
                 {"day", {IND_EVERY_DAY, 0}},         {"week", {IND_EVERY_WEEK, 0}},
                 {"1 week", {IND_EVERY_WEEK, 0}},     {"1w", {IND_EVERY_WEEK, 0}},
                 {"month", {IND_EVERY_MONTH, 0}},     {"1 month", {IND_EVERY_MONTH, 0}}};
    int64_t span;
    for (size_t i = 0; i < sizeof named / sizeof *named; i++)
        if (ind_slice_equal(text, ind_slice_of(named[i].name))) {
            *every = named[i].every;
            return true;
        }
    if (!ind_read_span(text, &span) || span < IND_SECOND || span % IND_SECOND != 0)
        return false;
    const int64_t seconds = span / IND_SECOND;
    *every = (struct ind_every){seconds == IND_DAY_SECONDS ? IND_EVERY_DAY : IND_EVERY_SECONDS,
                                (uint32_t)(seconds < IND_DAY_SECONDS ? seconds : 0)};
    return seconds <= IND_DAY_SECONDS && IND_DAY_SECONDS % seconds == 0;
}

/* ---- Times ---- */

static int64_t floor_to(int64_t number, int64_t step)
{
    const int64_t rest = number % step;
    return number - rest - (rest < 0 ? step : 0);
}

int64_t ind_every_begin(const struct ind_every *every, int64_t local)
{
    const int64_t day = floor_to(local, IND_DAY_SECONDS);
    struct ind_civil civil;
    switch (every->unit) {
    case IND_EVERY_SECONDS:
        return floor_to(local, every->seconds);
    case IND_EVERY_DAY:
        return day;
    case IND_EVERY_WEEK:
        ind_civil_from_seconds(day, &civil);
        return day - civil.weekday * (int64_t)IND_DAY_SECONDS;
    default:
        ind_civil_from_seconds(day, &civil);
        return day - (civil.day - 1) * (int64_t)IND_DAY_SECONDS;
    }
}

int64_t ind_every_next(const struct ind_every *every, int64_t begin)
{
    struct ind_civil civil;
    switch (every->unit) {
    case IND_EVERY_SECONDS:
        return begin + every->seconds;
    case IND_EVERY_DAY:
        return begin + IND_DAY_SECONDS;
    case IND_EVERY_WEEK:
        return begin + 7 * (int64_t)IND_DAY_SECONDS;
    default:
        ind_civil_from_seconds(begin, &civil);
        return begin + ind_days_in_month(civil.year, civil.month) * (int64_t)IND_DAY_SECONDS;
    }
}

static void put_two(struct ind_buffer *out, int number)
{
    ind_buffer_byte(out, (char)('0' + number / 10 % 10));
    ind_buffer_byte(out, (char)('0' + number % 10));
}

/* "2026-11-23 04:45:00", its first so many bytes. */
static void put_civil(struct ind_buffer *out, const struct ind_civil *civil, size_t length)
{
    char text[32];
    struct ind_buffer whole = ind_buffer_on(text, sizeof text);
    put_two(&whole, civil->year / 100);
    put_two(&whole, civil->year);
    ind_buffer_byte(&whole, '-');
    put_two(&whole, civil->month);
    ind_buffer_byte(&whole, '-');
    put_two(&whole, civil->day);
    ind_buffer_byte(&whole, ' ');
    put_two(&whole, civil->hour);
    ind_buffer_byte(&whole, ':');
    put_two(&whole, civil->minute);
    ind_buffer_byte(&whole, ':');
    put_two(&whole, civil->second);
    ind_buffer_add(out, text, length);
}

enum { TO_MONTH = 7, TO_DAY = 10, TO_HOUR = 13, TO_MINUTE = 16, TO_SECOND = 19 };

void ind_every_write(const struct ind_every *every, int64_t begin, struct ind_buffer *out)
{
    struct ind_civil civil;
    ind_civil_from_seconds(begin, &civil);
    put_civil(out, &civil,
              every->unit == IND_EVERY_MONTH     ? TO_MONTH
              : every->unit != IND_EVERY_SECONDS ? TO_DAY
              : every->seconds % 60 == 0         ? TO_MINUTE
                                                 : TO_SECOND);
}

/* "2026-11-23 04:45:00", from its month on. */
bool ind_every_read_begin(const char *text, int64_t *begin)
{
    int year, month, day = 1, hour = 0, minute = 0, second = 0;
    if (sscanf(text, "%d-%d-%d %d:%d:%d", &year, &month, &day, &hour, &minute, &second) < 2)
        return false;
    *begin = ind_days_from_civil(year, month, day) * IND_DAY_SECONDS + hour * 3600 + minute * 60 + second;
    return true;
}

static int64_t local_of(struct ind_by_reader *clock, ind_time time)
{
    const int64_t seconds = ind_time_seconds(time), quarter = floor_to(seconds, QUARTER);
    if (!clock->known || clock->quarter != quarter) {
        clock->quarter = quarter;
        clock->offset = clock->zone ? ind_zone_offset(clock->zone, seconds) : 0;
        clock->known = true;
    }
    return seconds + clock->offset;
}

static void write_time(const struct ind_search_by *by, struct ind_by_reader *clock, ind_time time,
                       struct ind_buffer *out)
{
    struct ind_civil civil;
    const int64_t local = local_of(clock, time);
    if (by->what == IND_BY_EVERY) {
        ind_every_write(&by->every, ind_every_begin(&by->every, local), out);
        return;
    }
    ind_civil_from_seconds(local, &civil);
    if (by->what == IND_BY_WEEKDAY)
        ind_buffer_text(out, weekdays[civil.weekday]);
    else
        put_civil(out, &civil,
                  by->what == IND_BY_MINUTE ? TO_MINUTE
                  : by->what == IND_BY_HOUR ? TO_HOUR
                                            : TO_DAY);
}

/* ---- Values ---- */

void ind_by_reader_free(struct ind_by_reader *reader)
{
    free(reader->room);
    reader->room = NULL;
}

/* Room for a value; without memory there is none. */
static struct ind_buffer room_of(struct ind_by_reader *reader)
{
    if (!reader->room)
        reader->room = malloc(IND_MESSAGE_LIMIT);
    return ind_buffer_on(reader->room, reader->room ? IND_MESSAGE_LIMIT : 0);
}

static struct ind_slice unescaped(struct ind_slice value, struct ind_by_reader *reader)
{
    if (value.length == 0 || !memchr(value.at, '\\', value.length))
        return value;
    struct ind_buffer room = room_of(reader);
    ind_data_unescape(value, &room);
    return ind_buffer_view(&room);
}

/* The first parameter of that name in the elements of that SD-ID (RFC 5424 section 6.3). */
static struct ind_slice data_value(const struct ind_search_by *by, struct ind_slice data,
                                   struct ind_by_reader *reader)
{
    struct ind_slice id;
    struct ind_param param;
    size_t params, after = 0;
    for (size_t at = 0; ind_data_element(data, at, &id, &params); at = after) {
        const bool wanted = ind_slice_equal(id, by->id);
        for (; ind_data_param(data, params, &param, &after); params = param.next)
            if (wanted && ind_slice_equal(param.name, by->name))
                return unescaped(param.value, reader);
    }
    return IND_NOTHING;
}

static struct ind_slice event_of(const struct ind_message *message, struct ind_answers *answers,
                                 struct ind_by_reader *reader)
{
    const struct ind_slice pattern = ind_answers_pattern(answers, message);
    if (pattern.length)
        return pattern;
    struct ind_buffer room = room_of(reader);
    ind_event_name_write(ind_slice_begin(message->text, 4 * IND_BY_MOST), &room);
    return ind_buffer_view(&room);
}

static struct ind_slice plain_value(const struct ind_search_by *by, const struct ind_message *message,
                                    struct ind_answers *answers, struct ind_by_reader *reader)
{
    struct ind_slice value = IND_NOTHING;
    size_t from = 0;
    switch (by->what) {
    case IND_FIELD_FACILITY:
        return ind_facility_name(message->facility);
    case IND_FIELD_SEVERITY:
        return ind_severity_name(message->severity);
    case IND_FIELD_PATTERN:
        return ind_answers_pattern(answers, message);
    case IND_FIELD_LABEL:
        return ind_device_label(message->configured, by->name);
    case IND_FIELD_DATA:
        return by->name.length ? data_value(by, message->data, reader) : message->data;
    case IND_BY_EVENT:
        return event_of(message, answers, reader);
    case IND_FIELD_FIELD:
        (void)ind_payload_find(ind_answers_payload(answers, message), by->name, &from, &value);
        return value;
    default:
        return by->what < IND_FIELDS ? ind_field_text(message, (enum ind_field)by->what) : value;
    }
}

/* As ind_network_write, of which there are as many as messages. */
static void write_v4(const struct ind_network *network, struct ind_buffer *out)
{
    for (int i = 0; i < 4; i++) {
        if (i)
            ind_buffer_byte(out, '.');
        ind_buffer_number(out, network->address.bytes[i]);
    }
    if (network->prefix < MOST_V4) {
        ind_buffer_byte(out, '/');
        ind_buffer_number(out, network->prefix);
    }
}

/* An address as its network: IPv6 by /64 where the number is one of IPv4. */
static struct ind_slice network_of(struct ind_slice value, unsigned bits, struct ind_by_reader *reader)
{
    struct ind_network network = {.prefix = (uint8_t)bits};
    if (!ind_address_read(value, &network.address))
        return value;
    if (network.address.bits == MOST_V6 && bits <= MOST_V4)
        network.prefix = V6_OF_V4;
    if (network.prefix > network.address.bits)
        network.prefix = network.address.bits;
    for (unsigned bit = network.prefix; bit < network.address.bits; bit++)
        network.address.bytes[bit / 8] &= (uint8_t) ~(0x80u >> bit % 8);
    struct ind_buffer room = room_of(reader);
    if (network.address.bits == MOST_V4)
        write_v4(&network, &room);
    else
        ind_network_write(&room, &network);
    return ind_buffer_view(&room);
}

struct ind_slice ind_search_by_value(const struct ind_search_by *by, const struct ind_message *message,
                                     struct ind_answers *answers, struct ind_by_reader *reader)
{
    const struct ind_slice value = plain_value(by, message, answers, reader);
    return by->network && value.length ? network_of(value, by->network, reader) : value;
}

void ind_search_by_write(const struct ind_search_by *by, const struct ind_message *message,
                         struct ind_answers *answers, struct ind_by_reader *reader, struct ind_buffer *out)
{
    if (ind_search_by_is_time(by)) {
        write_time(by, reader, message->time, out);
        return;
    }
    struct ind_slice value = ind_search_by_value(by, message, answers, reader);
    if (value.length == 0) {
        ind_buffer_byte(out, '-');
        return;
    }
    value.length = value.length < IND_BY_MOST ? value.length : IND_BY_MOST;
    ind_escape_text(out, value);
}
