/* The index as it is read: bytes of a file that anybody may have changed. Each number is checked before it is
 * used; where one is not as it must be there is no index. */
#include "core/archive/index_private.h"

#include <stdlib.h>

#define XXH_INLINE_ALL
#include <xxhash.h>

size_t ind_index_length(const char tail[IND_INDEX_TAIL])
{
    const uint64_t length = ind_get(tail + 8, 4);
    const bool is_one = memcmp(tail + 12, IND_INDEX_ENDS, 4) == 0 &&
                        length >= IND_INDEX_HEAD + IND_INDEX_TAIL && length <= IND_INDEX_LONGEST;
    return is_one ? (size_t)length : 0;
}

/* What is still to be read. */
struct rest {
    const char *at;
    size_t length;
};

static const char *take(struct rest *rest, size_t length)
{
    const char *at = rest->at;
    if (rest->length < length)
        return NULL;
    rest->at += length;
    rest->length -= length;
    return at;
}

static bool read_devices(struct rest *rest, struct ind_index *index)
{
    index->devices = index->device_count <= rest->length
                         ? calloc((size_t)index->device_count + 1, sizeof *index->devices)
                         : NULL;
    bool good = index->devices != NULL;
    for (uint32_t i = 0; good && i < index->device_count; i++) {
        const char *length = take(rest, 1);
        const size_t bytes = length ? (unsigned char)*length : 0;
        const char *name = length ? take(rest, bytes) : NULL;
        index->devices[i] = (struct ind_slice){name, bytes};
        good = name != NULL;
    }
    return good;
}

static bool read_frame(struct rest *rest, const struct ind_index *index, struct ind_index_frame *frame)
{
    const char *at = take(rest, IND_INDEX_FRAME);
    if (!at)
        return false;
    const unsigned flags = (unsigned)ind_get(at + 12, 1);
    *frame = (struct ind_index_frame){.packed = (uint32_t)ind_get(at, 4),
                                      .text = (uint32_t)ind_get(at + 4, 4),
                                      .lines = (uint32_t)ind_get(at + 8, 4),
                                      .times_known = flags & IND_INDEX_TIMES,
                                      .pri_known = flags & IND_INDEX_PRI,
                                      .devices_known = flags & IND_INDEX_DEVICES,
                                      .devices_as_keys = flags & IND_INDEX_DEVICES_AS_KEYS,
                                      .keys_known = flags & IND_INDEX_KEYS,
                                      .severities = (uint8_t)ind_get(at + 13, 1),
                                      .device_count = (uint32_t)ind_get(at + 14, 2),
                                      .facilities = (uint32_t)ind_get(at + 16, 4),
                                      .first = (ind_time)ind_get(at + 20, 8),
                                      .last = (ind_time)ind_get(at + 28, 8),
                                      .probes = (uint32_t)ind_get(at + 36, 4),
                                      .filter_size = (uint32_t)ind_get(at + 40, 4)};
    frame->devices = take(rest, 2 * (size_t)frame->device_count);
    bool good = frame->devices && frame->lines > 0 && frame->packed > 0 && frame->text > 0 &&
                frame->probes <= 64 &&
                (!frame->keys_known || (frame->filter_size > 0 && frame->probes > 0)) &&
                (!frame->devices_as_keys || frame->keys_known);
    for (uint32_t i = 0; good && i < frame->device_count; i++)
        good = ind_get(frame->devices + 2 * i, 2) < index->device_count;
    return good;
}

static bool read_frames(struct rest *rest, uint64_t before, struct ind_index *index)
{
    uint64_t offset = 0, text = 0, lines = 0;
    index->frames = index->frame_count <= rest->length / IND_INDEX_FRAME
                        ? calloc((size_t)index->frame_count + 1, sizeof *index->frames)
                        : NULL;
    if (!index->frames)
        return false;
    for (uint32_t i = 0; i < index->frame_count; i++) {
        struct ind_index_frame *frame = &index->frames[i];
        if (!read_frame(rest, index, frame))
            return false;
        frame->offset = offset;
        offset += frame->packed;
        text += frame->text;
        lines += frame->lines;
    }
    for (uint32_t i = 0; i < index->frame_count; i++) {
        struct ind_index_frame *frame = &index->frames[i];
        frame->filter = (const uint8_t *)take(rest, frame->filter_size);
        if (!frame->filter || frame->filter_size > UINT32_MAX / 8)
            return false;
    }
    return offset == before && text == index->text && lines == index->lines && rest->length == 0;
}

bool ind_index_read(struct ind_slice bytes, uint64_t before, struct ind_index *index)
{
    *index = (struct ind_index){0};
    if (bytes.length < IND_INDEX_HEAD + IND_INDEX_TAIL)
        return false;
    const char *tail = bytes.at + bytes.length - IND_INDEX_TAIL;
    if (ind_index_length(tail) != bytes.length || memcmp(bytes.at, IND_INDEX_BEGINS, 4) != 0 ||
        ind_get(bytes.at + 4, 4) != IND_INDEX_VERSION ||
        XXH64(bytes.at, bytes.length - IND_INDEX_TAIL, 0) != ind_get(tail, 8))
        return false;
    struct rest rest = {bytes.at + IND_INDEX_HEAD, bytes.length - IND_INDEX_HEAD - IND_INDEX_TAIL};
    index->frame_count = (uint32_t)ind_get(bytes.at + 8, 4);
    index->device_count = (uint32_t)ind_get(bytes.at + 12, 4);
    index->text = ind_get(bytes.at + 16, 8);
    index->lines = ind_get(bytes.at + 24, 8);
    if (read_devices(&rest, index) && read_frames(&rest, before, index))
        return true;
    ind_index_free(index);
    return false;
}

void ind_index_free(struct ind_index *index)
{
    free(index->frames);
    free(index->devices);
    *index = (struct ind_index){0};
}

bool ind_index_has_key(const struct ind_index_frame *frame, uint64_t key)
{
    uint64_t state = key + (key == 0);
    if (!frame->keys_known)
        return true;
    for (uint32_t i = 0; i < frame->probes; i++) {
        const uint32_t bit = ind_index_bit(&state, 8 * frame->filter_size);
        if (!(frame->filter[bit / 8] & 1 << bit % 8))
            return false;
    }
    return true;
}

struct ind_slice ind_index_device(const struct ind_index *index, const struct ind_index_frame *frame,
                                  uint32_t number)
{
    return index->devices[ind_get(frame->devices + 2 * (size_t)number, 2)];
}

bool ind_index_has_device(const struct ind_index *index, const struct ind_index_frame *frame,
                          struct ind_slice device)
{
    if (!frame->devices_known)
        return true;
    for (uint32_t i = 0; i < frame->device_count; i++)
        if (ind_slice_equal(ind_index_device(index, frame, i), device))
            return true;
    return frame->devices_as_keys && ind_index_has_key(frame, ind_index_key(IND_INDEX_DEVICE, device));
}
