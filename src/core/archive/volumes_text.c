/* Volumes as text, without a byte that JSON would escape. */
#include "core/archive/volumes.h"

#include "core/base/escape.h"
#include <stdlib.h>

enum { LONGEST_NAME = 1024, HOURS_A_DAY = 24 };

/* ---- Writing ---- */

/* A buffer that grows. */
struct writer {
    struct ind_buffer out;
    bool out_of_memory;
};

static bool make_room(struct writer *writer, size_t length)
{
    struct ind_buffer *out = &writer->out;
    if (out->capacity - out->length >= length)
        return true;
    const size_t capacity = 2 * out->capacity + length;
    char *grown = realloc(out->at, capacity);
    writer->out_of_memory |= !grown;
    if (!grown)
        return false;
    out->at = grown;
    out->capacity = capacity;
    return true;
}

/* At least so many digits. */
static void put_number(struct ind_buffer *out, int number, int digits)
{
    for (int least = 10; --digits > 0; least *= 10)
        if (number < least)
            ind_buffer_byte(out, '0');
    ind_buffer_number(out, (unsigned long long)number);
}

static int64_t day_of(int64_t hour)
{
    return hour / HOURS_A_DAY - (hour % HOURS_A_DAY < 0);
}

/* Whether an ind_time can tell it. */
static bool is_told(int64_t hour)
{
    const int64_t most = INT64_MAX / (3600 * (int64_t)IND_SECOND);
    return hour <= most && hour >= -most;
}

/* Others are not known. */
static void put_hour(struct ind_buffer *out, int64_t hour, bool day)
{
    struct ind_civil civil;
    if (!is_told(hour)) {
        ind_buffer_byte(out, '-');
        return;
    }
    ind_civil_from_seconds(hour * 3600, &civil);
    put_number(out, civil.year, 4);
    ind_buffer_byte(out, '-');
    put_number(out, civil.month, 2);
    ind_buffer_byte(out, '-');
    put_number(out, civil.day, 2);
    if (!day) {
        ind_buffer_byte(out, 'T');
        put_number(out, civil.hour, 2);
    }
}

static bool stands_for_itself(char c)
{
    return ind_is_digit(c) || (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || c == '.' || c == '_' ||
           c == ':' || c == '-';
}

static void put_name(struct ind_buffer *out, struct ind_slice name)
{
    static const char digits[] = "0123456789ABCDEF";
    for (size_t i = 0; i < name.length && i < LONGEST_NAME; i++) {
        const unsigned char byte = (unsigned char)name.at[i];
        if (stands_for_itself(name.at[i]) && (name.length > 1 || byte != '-')) {
            ind_buffer_byte(out, name.at[i]);
        } else {
            ind_buffer_byte(out, '%');
            ind_buffer_byte(out, digits[byte >> 4]);
            ind_buffer_byte(out, digits[byte & 15]);
        }
    }
}

static void put_volume(struct ind_buffer *out, const struct ind_volume *volume, struct ind_slice name)
{
    if (volume->device == IND_DEVICE_NONE || volume->device == IND_DEVICE_OTHERS)
        ind_buffer_byte(out, volume->device == IND_DEVICE_NONE ? '-' : '*');
    else
        put_name(out, name);
    ind_buffer_byte(out, ' ');
    if (volume->pri == IND_VOLUME_NO_PRI)
        ind_buffer_byte(out, '-');
    else
        ind_buffer_number(out, volume->pri);
    ind_buffer_byte(out, ' ');
    ind_buffer_number(out, volume->messages);
    ind_buffer_byte(out, ' ');
    ind_buffer_number(out, volume->bytes);
}

/* As they are, or fewer of them. */
static struct ind_volumes *coarser(struct ind_volumes *volumes, enum ind_volume_detail detail)
{
    size_t count;
    const struct ind_volume *list = ind_volumes_sorted(volumes, &count);
    struct ind_volumes *fewer = ind_volumes_new();
    for (size_t i = 0; fewer && i < count; i++) {
        struct ind_volume volume = list[i];
        volume.device = volume.device == IND_DEVICE_NONE ? IND_DEVICE_NONE : IND_DEVICE_OTHERS;
        if (detail == IND_VOLUMES_BY_DAY && volume.hour != IND_HOUR_UNKNOWN)
            volume.hour = day_of(volume.hour) * HOURS_A_DAY;
        if (!ind_volumes_add(fewer, &volume)) {
            ind_volumes_free(fewer);
            return NULL;
        }
    }
    return fewer;
}

char *ind_volumes_write(struct ind_volumes *volumes, enum ind_volume_detail detail,
                        struct ind_slice (*name)(void *, uint32_t), void *context, size_t *length)
{
    enum { ROOM = 128 };
    struct writer writer = {0};
    struct ind_volumes *fewer = detail == IND_VOLUMES_WHOLE ? NULL : coarser(volumes, detail);
    if (detail != IND_VOLUMES_WHOLE && !fewer)
        return NULL;
    size_t count;
    const struct ind_volume *list = ind_volumes_sorted(fewer ? fewer : volumes, &count);
    (void)make_room(&writer, 1);
    for (size_t i = 0; i < count && !writer.out_of_memory; i++) {
        const bool begins = i == 0 || list[i].hour != list[i - 1].hour;
        const struct ind_slice of =
            list[i].device < IND_DEVICE_FIRST ? IND_NOTHING : name(context, list[i].device);
        if (!make_room(&writer, ROOM + 3 * of.length))
            break;
        if (i > 0)
            ind_buffer_byte(&writer.out, begins ? ';' : ',');
        if (begins) {
            put_hour(&writer.out, list[i].hour, detail == IND_VOLUMES_BY_DAY);
            ind_buffer_byte(&writer.out, ' ');
        }
        put_volume(&writer.out, &list[i], of);
    }
    ind_volumes_free(fewer);
    if (writer.out_of_memory) {
        free(writer.out.at);
        return NULL;
    }
    *length = writer.out.length;
    writer.out.at[writer.out.length] = '\0';
    return writer.out.at;
}

/* ---- And back ---- */

/* Up to `end`, which is passed over, or to the end of all. */
static struct ind_slice part(struct ind_slice *rest, char end)
{
    const char *found = rest->length ? memchr(rest->at, end, rest->length) : NULL;
    const struct ind_slice part = {rest->at, found ? (size_t)(found - rest->at) : rest->length};
    *rest = ind_slice_from(*rest, part.length + (found != NULL));
    return part;
}

static bool is_one(struct ind_slice text, char c)
{
    return text.length == 1 && text.at[0] == c;
}

static bool read_number(struct ind_slice text, uint64_t most, uint64_t *number)
{
    *number = 0;
    for (size_t i = 0; i < text.length; i++) {
        const unsigned digit = (unsigned)(text.at[i] - '0');
        if (!ind_is_digit(text.at[i]) || *number > (most - digit) / 10)
            return false;
        *number = *number * 10 + digit;
    }
    return text.length > 0;
}

/* "2026-11-23T04", "2026-11-23" or "-". */
static bool read_hour(struct ind_slice text, int64_t *hour)
{
    uint64_t year, month, day, of_day = 0;
    *hour = IND_HOUR_UNKNOWN;
    if (is_one(text, '-'))
        return true;
    if ((text.length != 10 && text.length != 13) || text.at[4] != '-' || text.at[7] != '-' ||
        (text.length == 13 && text.at[10] != 'T'))
        return false;
    const struct ind_slice last = ind_slice_from(text, text.length == 13 ? 11 : 8);
    if (!read_number((struct ind_slice){text.at, 4}, 9999, &year) ||
        !read_number((struct ind_slice){text.at + 5, 2}, 12, &month) ||
        !read_number((struct ind_slice){text.at + 8, 2}, 31, &day) || year == 0 || month == 0 || day == 0 ||
        (int)day > ind_days_in_month((int)year, (int)month) ||
        (text.length == 13 && !read_number(last, HOURS_A_DAY - 1, &of_day)))
        return false;
    *hour = ind_days_from_civil((int)year, (int)month, (int)day) * HOURS_A_DAY + (int64_t)of_day;
    return is_told(*hour);
}

static bool read_name(struct ind_slice text, char name[LONGEST_NAME], size_t *length)
{
    *length = 0;
    for (size_t i = 0; i < text.length; i++) {
        if (*length == LONGEST_NAME)
            return false;
        const int high = text.at[i] != '%'     ? 0
                         : i + 2 < text.length ? ind_hex_digit(text.at[i + 1])
                                               : -1,
                  low = text.at[i] != '%'     ? 0
                        : i + 2 < text.length ? ind_hex_digit(text.at[i + 2])
                                              : -1;
        if (high < 0 || low < 0)
            return false;
        name[(*length)++] = text.at[i] == '%' ? (char)(high * 16 + low) : text.at[i];
        i += text.at[i] == '%' ? 2 : 0;
    }
    return *length > 0;
}

/* "harbour-fw 164 12 3400". */
static bool read_volume(struct ind_slice text, uint32_t (*number)(void *, struct ind_slice), void *context,
                        struct ind_volume *volume)
{
    char name[LONGEST_NAME];
    size_t length;
    uint64_t pri = IND_VOLUME_NO_PRI;
    const struct ind_slice device = part(&text, ' '), of_pri = part(&text, ' '), messages = part(&text, ' ');
    if (is_one(device, '-') || is_one(device, '*'))
        volume->device = device.at[0] == '-' ? IND_DEVICE_NONE : IND_DEVICE_OTHERS;
    else if (read_name(device, name, &length))
        volume->device = number(context, (struct ind_slice){name, length});
    else
        return false;
    if (!is_one(of_pri, '-') && !read_number(of_pri, IND_VOLUME_PRIS - 1, &pri))
        return false;
    volume->pri = (uint8_t)pri;
    return read_number(messages, INT64_MAX, &volume->messages) &&
           read_number(text, INT64_MAX, &volume->bytes);
}

bool ind_volumes_read(struct ind_slice text, uint32_t (*number)(void *, struct ind_slice), void *context,
                      struct ind_volumes *volumes)
{
    while (text.length) {
        struct ind_slice of_hour = part(&text, ';');
        struct ind_volume volume = {0};
        if (!read_hour(part(&of_hour, ' '), &volume.hour) || of_hour.length == 0)
            return false;
        while (of_hour.length)
            if (!read_volume(part(&of_hour, ','), number, context, &volume) ||
                !ind_volumes_add(volumes, &volume))
                return false;
    }
    return true;
}
