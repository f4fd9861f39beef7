/* A line is read as a search reads it, once for each hour, device and PRI that come: what is the same in many
 * plain lines is told at a glance (core/line/line.h), and remembered. */
#include "store/archive/counting.h"

#include "store/disk/line_reader.h"

#include <stdlib.h>
#include <string.h>
#include <uthash.h>

#define XXH_INLINE_ALL
#include <xxhash.h>

/* MOST_NAMES: of devices, in one file; further ones are "others". */
enum { SEEN = 4096, LONGEST_SEEN = 80, LONGEST_HOUR = 20, MOST_NAMES = 1 << 16 };

struct device {
    UT_hash_handle hh;
    uint32_t number; /* IND_DEVICE_FIRST for the first of the file, and so on */
    size_t length;   /* there may be any bytes in it */
    char name[];
};

/* What lines with these bytes are, and how many there were in the present hour. What changes lies together
 * with what is looked at first. */
struct seen {
    size_t length; /* 0: free */
    struct ind_volume volume;
    char who[LONGEST_SEEN];
};

struct ind_counting {
    int stored;
    struct ind_line_reader *reader;
    struct ind_volumes *volumes;
    struct device *devices, **by_number;
    uint32_t device_count, device_room;
    char hour[LONGEST_HOUR]; /* and zone, of which all that is seen is */
    size_t hour_length;
    struct seen seen[SEEN];
    uint16_t used[SEEN]; /* places in it */
    size_t used_count;
    bool out_of_memory;
};

struct ind_counting *ind_counting_new(void)
{
    struct ind_counting *counting = calloc(1, sizeof *counting);
    if (!counting)
        return NULL;
    counting->reader = ind_line_reader_new();
    counting->volumes = ind_volumes_new();
    if (counting->reader && counting->volumes)
        return counting;
    ind_counting_free(counting);
    return NULL;
}

static void forget_devices(struct ind_counting *counting)
{
    HASH_CLEAR(hh, counting->devices);
    for (uint32_t i = 0; i < counting->device_count; i++)
        free(counting->by_number[i]);
    counting->device_count = 0;
}

void ind_counting_free(struct ind_counting *counting)
{
    if (!counting)
        return;
    forget_devices(counting);
    free(counting->by_number);
    ind_line_reader_free(counting->reader);
    ind_volumes_free(counting->volumes);
    free(counting);
}

static void forget_seen(struct ind_counting *counting)
{
    for (size_t i = 0; i < counting->used_count; i++)
        counting->seen[counting->used[i]].length = 0;
    counting->used_count = 0;
}

void ind_counting_begin(struct ind_counting *counting, int stored)
{
    forget_devices(counting);
    ind_volumes_clear(counting->volumes);
    forget_seen(counting);
    counting->hour_length = 0;
    counting->stored = stored;
    counting->out_of_memory = false;
}

/* ---- Devices ---- */

static bool make_room(struct ind_counting *counting)
{
    if (counting->device_count < counting->device_room)
        return true;
    const uint32_t room = counting->device_room ? 2 * counting->device_room : 64;
    struct device **grown = realloc(counting->by_number, room * sizeof *grown);
    if (!grown)
        return false;
    counting->by_number = grown;
    counting->device_room = room;
    return true;
}

static uint32_t number_of(struct ind_counting *counting, struct ind_slice name)
{
    struct device *device;
    if (name.length == 0)
        return IND_DEVICE_NONE;
    HASH_FIND(hh, counting->devices, name.at, name.length, device);
    if (device)
        return device->number;
    if (counting->device_count == MOST_NAMES) {
        ind_volumes_set_folded(counting->volumes);
        return IND_DEVICE_OTHERS;
    }
    device = make_room(counting) ? malloc(sizeof *device + name.length) : NULL;
    if (!device) {
        counting->out_of_memory = true;
        return IND_DEVICE_NONE;
    }
    memcpy(device->name, name.at, name.length);
    device->length = name.length;
    device->number = IND_DEVICE_FIRST + counting->device_count;
    HASH_ADD_KEYPTR(hh, counting->devices, device->name, name.length, device);
    counting->by_number[counting->device_count++] = device;
    return device->number;
}

/* ---- Lines ---- */

/* What it is, of one message; its bytes are not set. */
static struct ind_volume read_line(struct ind_counting *counting, struct ind_slice line)
{
    struct ind_message message = {.time = IND_TIME_NONE};
    struct ind_slice bytes;
    struct ind_volume volume = {
        .hour = IND_HOUR_UNKNOWN, .device = IND_DEVICE_NONE, .pri = IND_VOLUME_NO_PRI, .messages = 1};
    if (!ind_line_reader_read(counting->reader, counting->stored, line, &message, &bytes))
        return volume;
    volume.hour = ind_volume_hour(message.time);
    volume.device = number_of(counting, message.device);
    volume.pri = (uint8_t)(message.facility * 8 + message.severity);
    return volume;
}

static void add(struct ind_counting *counting, const struct ind_volume *volume)
{
    if (volume->messages && !ind_volumes_add(counting->volumes, volume))
        counting->out_of_memory = true;
}

static void settle_seen(struct ind_counting *counting)
{
    for (size_t i = 0; i < counting->used_count; i++)
        add(counting, &counting->seen[counting->used[i]].volume);
    forget_seen(counting);
}

/* Another hour than that of all that is seen. */
static void turn_hour(struct ind_counting *counting, const struct ind_line_glance *glance)
{
    settle_seen(counting);
    memcpy(counting->hour, glance->hour.at, glance->hour.length);
    memcpy(counting->hour + glance->hour.length, glance->zone.at, glance->zone.length);
    counting->hour_length = glance->hour.length + glance->zone.length;
}

static bool is_hour(const struct ind_counting *counting, const struct ind_line_glance *glance)
{
    return counting->hour_length == glance->hour.length + glance->zone.length &&
           memcmp(counting->hour, glance->hour.at, glance->hour.length) == 0 &&
           memcmp(counting->hour + glance->hour.length, glance->zone.at, glance->zone.length) == 0;
}

static void add_seen(struct ind_counting *counting, struct ind_slice line,
                     const struct ind_line_glance *glance, size_t bytes)
{
    if (!is_hour(counting, glance))
        turn_hour(counting, glance);
    const size_t place = XXH3_64bits(glance->who.at, glance->who.length) % SEEN;
    struct seen *seen = &counting->seen[place];
    if (seen->length == glance->who.length && memcmp(seen->who, glance->who.at, seen->length) == 0) {
        seen->volume.messages++;
        seen->volume.bytes += bytes;
        return;
    }
    struct ind_volume volume = read_line(counting, line);
    volume.bytes = bytes;
    if (volume.pri == IND_VOLUME_NO_PRI) { /* it is no such line, after all */
        add(counting, &volume);
        return;
    }
    if (seen->length)
        add(counting, &seen->volume);
    else
        counting->used[counting->used_count++] = (uint16_t)place;
    memcpy(seen->who, glance->who.at, glance->who.length);
    seen->length = glance->who.length;
    seen->volume = volume;
}

void ind_counting_add(struct ind_counting *counting, struct ind_slice block)
{
    while (block.length) {
        struct ind_line_glance glance;
        const char *newline = memchr(block.at, '\n', block.length);
        const struct ind_slice line = {block.at, newline ? (size_t)(newline - block.at) : block.length};
        const size_t bytes = line.length + (newline != NULL);
        if (counting->stored == IND_LAYOUT_PLAIN && ind_line_glance_plain(line, &glance) &&
            glance.who.length <= LONGEST_SEEN) {
            add_seen(counting, line, &glance, bytes);
        } else {
            struct ind_volume volume = read_line(counting, line);
            volume.bytes = bytes;
            add(counting, &volume);
        }
        block = ind_slice_from(block, bytes);
    }
}

/* ---- What came of them ---- */

struct ind_volumes *ind_counting_volumes(struct ind_counting *counting)
{
    settle_seen(counting);
    return counting->out_of_memory ? NULL : counting->volumes;
}

struct ind_slice ind_counting_name(const struct ind_counting *counting, uint32_t device)
{
    const struct device *is = counting->by_number[device - IND_DEVICE_FIRST];
    return (struct ind_slice){is->name, is->length};
}

struct ind_volumes *ind_counting_end(struct ind_counting *counting,
                                     uint32_t (*number)(void *, struct ind_slice), void *context)
{
    size_t count;
    settle_seen(counting);
    const struct ind_volume *list = ind_volumes_sorted(counting->volumes, &count);
    struct ind_volumes *volumes = ind_volumes_new();
    uint32_t *numbers = calloc((size_t)counting->device_count + 1, sizeof *numbers);
    bool good = volumes && numbers && !counting->out_of_memory;
    for (uint32_t i = 0; good && i < counting->device_count; i++) {
        numbers[i] = number(context, ind_counting_name(counting, IND_DEVICE_FIRST + i));
    }
    for (size_t i = 0; good && i < count; i++) {
        struct ind_volume volume = list[i];
        if (volume.device >= IND_DEVICE_FIRST)
            volume.device = numbers[volume.device - IND_DEVICE_FIRST];
        good = ind_volumes_add(volumes, &volume);
    }
    if (good && ind_volumes_folded(counting->volumes))
        ind_volumes_set_folded(volumes);
    free(numbers);
    if (good)
        return volumes;
    ind_volumes_free(volumes);
    return NULL;
}
