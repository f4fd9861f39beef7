/* The index as it is made: what a frame holds is gathered while its lines go by, and written once it is known
 * how many bytes it takes. */
#include "core/archive/index_private.h"

#include <stdlib.h>

#define XXH_INLINE_ALL
#include <xxhash.h>

/* Keys that are told apart in a frame, in a table half full at most: one for 16 bytes of text. Where there
 * are more the frame may hold any. */
enum { TEXT_FOR_A_SLOT = 8, LEAST_SLOTS = 1 << 17, LATELY_BITS = 11 };
/* Devices that a frame lists, and that a file does; all others are keys. */
enum { MOST_LISTED = 128, MOST_DEVICES = 4096, DEVICE_SLOTS = 2 * MOST_DEVICES };
/* A frame's part of the index takes one in so many of the bytes of the frame at most. */
enum { SHARE = 14, LEAST_FILTER = 16, MOST_PROBES = 7 };
/* Bits for a key: with fewer the filter would say yes nearly always, with more hardly less often. */
#define LEAST_BITS 1.5
#define MOST_BITS 10.0

struct bytes {
    char *at;
    size_t length, room;
};

struct device {
    char *name;
    size_t length;
    uint32_t frame; /* the last one that lists it, counted from 1 */
};

struct ind_index_writer {
    unsigned known;
    struct bytes frames, filters;
    uint64_t text, lines;
    uint32_t frame_count;
    struct device devices[MOST_DEVICES];
    uint16_t device_slots[DEVICE_SLOTS]; /* number + 1 */
    uint32_t device_count;
    char *scratch;
    size_t scratch_room;

    /* Of the present frame. */
    unsigned known_here; /* what is known of all its lines so far */
    bool devices_as_keys;
    uint32_t line_count;
    ind_time first, last;
    uint32_t facilities;
    uint8_t severities;
    uint16_t listed[MOST_LISTED];
    uint32_t listed_count;
    uint32_t key_count;
    uint64_t *keys; /* 0: free */
    size_t slots;   /* a power of two */
    uint64_t lately[1 << LATELY_BITS];
};

static void begin_frame(struct ind_index_writer *writer)
{
    if (writer->key_count) {
        memset(writer->keys, 0, writer->slots * sizeof *writer->keys);
        memset(writer->lately, 0, sizeof writer->lately);
    }
    writer->key_count = writer->line_count = writer->listed_count = 0;
    writer->known_here = writer->known;
    writer->devices_as_keys = false;
    writer->first = INT64_MAX;
    writer->last = INT64_MIN;
    writer->facilities = 0;
    writer->severities = 0;
}

struct ind_index_writer *ind_index_writer_new(unsigned known, size_t frame)
{
    struct ind_index_writer *writer = calloc(1, sizeof *writer);
    if (!writer)
        return NULL;
    writer->known = known;
    for (writer->slots = LEAST_SLOTS; writer->slots < frame / TEXT_FOR_A_SLOT;)
        writer->slots *= 2;
    writer->keys = calloc(writer->slots, sizeof *writer->keys);
    if (!writer->keys) {
        free(writer);
        return NULL;
    }
    begin_frame(writer);
    return writer;
}

void ind_index_writer_free(struct ind_index_writer *writer)
{
    if (!writer)
        return;
    for (uint32_t i = 0; i < writer->device_count; i++)
        free(writer->devices[i].name);
    free(writer->frames.at);
    free(writer->filters.at);
    free(writer->scratch);
    free(writer->keys);
    free(writer);
}

/* ---- Lines ---- */

/* Most keys have been met a moment ago: those are known without a look into the large table. */
static void add_key(void *context, uint64_t key)
{
    struct ind_index_writer *writer = context;
    key += key == 0;
    uint64_t *lately = &writer->lately[key >> (64 - LATELY_BITS)];
    if (*lately == key)
        return;
    *lately = key;
    const size_t mask = writer->slots - 1;
    size_t slot = key & mask;
    while (writer->keys[slot] && writer->keys[slot] != key)
        slot = (slot + 1) & mask;
    if (writer->keys[slot])
        return;
    if (writer->key_count == writer->slots / 2) {
        writer->known_here &= ~(unsigned)IND_INDEX_KEYS;
        return;
    }
    writer->keys[slot] = key;
    writer->key_count++;
}

static void add_value(struct ind_index_writer *writer, enum ind_index_kind kind, struct ind_slice value)
{
    if (value.length)
        add_key(writer, ind_index_key(kind, value));
}

/* Known, or new; NULL where there is no room for it. */
static struct device *device_for(struct ind_index_writer *writer, struct ind_slice name)
{
    size_t slot = XXH3_64bits(name.at, name.length) % DEVICE_SLOTS;
    for (; writer->device_slots[slot]; slot = (slot + 1) % DEVICE_SLOTS) {
        struct device *device = &writer->devices[writer->device_slots[slot] - 1];
        if (ind_slice_equal((struct ind_slice){device->name, device->length}, name))
            return device;
    }
    if (writer->device_count == MOST_DEVICES || name.length > UINT8_MAX)
        return NULL;
    struct device *device = &writer->devices[writer->device_count];
    device->name = malloc(name.length + 1);
    if (!device->name)
        return NULL;
    if (name.length)
        memcpy(device->name, name.at, name.length);
    device->length = name.length;
    writer->device_slots[slot] = (uint16_t)++writer->device_count;
    return device;
}

static void add_device(struct ind_index_writer *writer, struct ind_slice name)
{
    struct device *device = writer->listed_count < MOST_LISTED ? device_for(writer, name) : NULL;
    const uint32_t frame = writer->frame_count + 1;
    if (device && device->frame != frame) {
        device->frame = frame;
        writer->listed[writer->listed_count++] = (uint16_t)(device - writer->devices);
    } else if (!device) {
        writer->devices_as_keys = true;
        add_value(writer, IND_INDEX_DEVICE, name);
    }
}

static void add_text(struct ind_index_writer *writer, struct ind_slice text)
{
    if (writer->scratch_room < text.length) {
        char *grown = realloc(writer->scratch, text.length * 2);
        if (!grown) {
            writer->known_here &= ~(unsigned)IND_INDEX_KEYS;
            return;
        }
        writer->scratch = grown;
        writer->scratch_room = text.length * 2;
    }
    ind_index_keys(text, writer->scratch, add_key, writer);
}

void ind_index_add_line(struct ind_index_writer *writer, const struct ind_index_line *line)
{
    writer->line_count++;
    if (!line) {
        writer->known_here = 0;
        return;
    }
    if (line->time == IND_TIME_NONE)
        writer->known_here &= ~(unsigned)IND_INDEX_TIMES;
    else if (line->time < writer->first)
        writer->first = line->time;
    if (line->time != IND_TIME_NONE && line->time > writer->last)
        writer->last = line->time;
    if (line->facility < 24 && line->severity < 8) {
        writer->facilities |= UINT32_C(1) << line->facility;
        writer->severities |= (uint8_t)(1u << line->severity);
    } else {
        writer->known_here &= ~(unsigned)IND_INDEX_PRI;
    }
    if (writer->known_here & IND_INDEX_DEVICES)
        add_device(writer, line->device);
    if (!(writer->known_here & IND_INDEX_KEYS))
        return;
    add_value(writer, IND_INDEX_APP, line->app);
    add_value(writer, IND_INDEX_HOST, line->host);
    add_value(writer, IND_INDEX_MSGID, line->msgid);
    add_text(writer, line->text);
}

/* ---- Frames ---- */

static char *room_for(struct bytes *bytes, size_t more)
{
    if (bytes->room - bytes->length < more) {
        const size_t room = (bytes->length + more) * 2 + 1024;
        char *grown = realloc(bytes->at, room);
        if (!grown)
            return NULL;
        bytes->at = grown;
        bytes->room = room;
    }
    char *at = bytes->at + bytes->length;
    bytes->length += more;
    return at;
}

/* As large as its share allows, and no larger than is of use; 0: too small to be of any. */
static size_t filter_size(const struct ind_index_writer *writer, uint32_t packed, unsigned *probes)
{
    const size_t fixed = IND_INDEX_FRAME + 2 * (size_t)writer->listed_count;
    const size_t share = packed / SHARE > fixed + LEAST_FILTER ? packed / SHARE - fixed : LEAST_FILTER;
    const double keys = writer->key_count ? writer->key_count : 1;
    double bits = (double)share * 8 / keys;
    bits = bits > MOST_BITS ? MOST_BITS : bits;
    *probes = bits * 0.7 < 1 ? 1 : (unsigned)(bits * 0.7);
    *probes = *probes > MOST_PROBES ? MOST_PROBES : *probes;
    return bits < LEAST_BITS ? 0 : (size_t)(bits * keys / 8) + 1;
}

static void fill_filter(const struct ind_index_writer *writer, char *filter, size_t size, unsigned probes)
{
    memset(filter, 0, size);
    for (size_t slot = 0; slot < writer->slots; slot++) {
        uint64_t state = writer->keys[slot];
        for (unsigned i = 0; state && i < probes; i++) {
            const uint32_t bit = ind_index_bit(&state, (uint32_t)(8 * size));
            filter[bit / 8] = (char)(filter[bit / 8] | 1 << bit % 8);
        }
    }
}

/* A frame of which the devices are partly among keys that nobody keeps may hold any. */
static unsigned flags_of(const struct ind_index_writer *writer, bool keys)
{
    unsigned flags = writer->known_here & ~(unsigned)IND_INDEX_KEYS;
    flags |= keys ? IND_INDEX_KEYS : 0;
    if (writer->devices_as_keys && !keys)
        flags &= ~(unsigned)IND_INDEX_DEVICES;
    else if (writer->devices_as_keys)
        flags |= IND_INDEX_DEVICES_AS_KEYS;
    return writer->line_count ? flags : 0;
}

static void put_frame(const struct ind_index_writer *writer, char *at, unsigned flags, unsigned probes,
                      size_t filter)
{
    const bool times = flags & IND_INDEX_TIMES, listed = flags & IND_INDEX_DEVICES;
    ind_put(at + 8, 4, writer->line_count);
    ind_put(at + 12, 1, flags);
    ind_put(at + 13, 1, flags & IND_INDEX_PRI ? writer->severities : 0);
    ind_put(at + 14, 2, listed ? writer->listed_count : 0);
    ind_put(at + 16, 4, flags & IND_INDEX_PRI ? writer->facilities : 0);
    ind_put(at + 20, 8, times ? (uint64_t)writer->first : 0);
    ind_put(at + 28, 8, times ? (uint64_t)writer->last : 0);
    ind_put(at + 36, 4, filter ? probes : 0);
    ind_put(at + 40, 4, filter);
    for (uint32_t i = 0; listed && i < writer->listed_count; i++)
        ind_put(at + IND_INDEX_FRAME + 2 * i, 2, writer->listed[i]);
}

bool ind_index_end_frame(struct ind_index_writer *writer, uint32_t packed, uint32_t text)
{
    unsigned probes = 0;
    size_t size = writer->known_here & IND_INDEX_KEYS ? filter_size(writer, packed, &probes) : 0;
    const unsigned flags = flags_of(writer, size > 0);
    size = flags & IND_INDEX_KEYS ? size : 0;
    const size_t listed = flags & IND_INDEX_DEVICES ? writer->listed_count : 0;
    char *frame = room_for(&writer->frames, IND_INDEX_FRAME + 2 * listed);
    char *filter = frame && size ? room_for(&writer->filters, size) : NULL;
    if (!frame || (size && !filter))
        return false;
    ind_put(frame, 4, packed);
    ind_put(frame + 4, 4, text);
    put_frame(writer, frame, flags, probes, size);
    if (filter)
        fill_filter(writer, filter, size, probes);
    writer->text += text;
    writer->lines += writer->line_count;
    writer->frame_count++;
    begin_frame(writer);
    return true;
}

/* ---- The whole ---- */

static void append(char **at, const void *bytes, size_t length)
{
    if (length)
        memcpy(*at, bytes, length);
    *at += length;
}

char *ind_index_finish(struct ind_index_writer *writer, size_t *length)
{
    *length = IND_INDEX_HEAD + writer->frames.length + writer->filters.length + IND_INDEX_TAIL;
    for (uint32_t i = 0; i < writer->device_count; i++)
        *length += 1 + writer->devices[i].length;
    char *bytes = *length <= IND_INDEX_LONGEST ? malloc(*length) : NULL, *at = bytes;
    if (!bytes)
        return NULL;
    append(&at, IND_INDEX_BEGINS, 4);
    ind_put(at, 4, IND_INDEX_VERSION);
    ind_put(at + 4, 4, writer->frame_count);
    ind_put(at + 8, 4, writer->device_count);
    ind_put(at + 12, 8, writer->text);
    ind_put(at + 20, 8, writer->lines);
    at += IND_INDEX_HEAD - 4;
    for (uint32_t i = 0; i < writer->device_count; i++) {
        *at++ = (char)writer->devices[i].length;
        append(&at, writer->devices[i].name, writer->devices[i].length);
    }
    append(&at, writer->frames.at, writer->frames.length);
    append(&at, writer->filters.at, writer->filters.length);
    ind_put(at, 8, XXH64(bytes, (size_t)(at - bytes), 0));
    ind_put(at + 8, 4, *length);
    memcpy(at + 12, IND_INDEX_ENDS, 4);
    return bytes;
}
