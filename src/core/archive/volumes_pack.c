/* Volumes as bytes (docs/catalog.md, "Volumes"): numbers of seven bits a byte, the lowest first, each but the
 * last with its highest bit set; what is in order as differences. */
#include "core/archive/volumes.h"

#include <stdlib.h>

#define XXH_INLINE_ALL
#include <xxhash.h>

enum { VERSION = 1, FOLDED = 1, CHECK = 4, LONGEST_NUMBER = 10, LONGEST_ENTRY = 3 * LONGEST_NUMBER + 1 };

static char *put(char *at, uint64_t number)
{
    for (; number >= 128; number >>= 7)
        *at++ = (char)(number | 128);
    *at++ = (char)number;
    return at;
}

/* Of those not known comes first, as the number 0; all others are zigzag, plus one. */
static uint64_t hour_number(int64_t hour)
{
    return hour == IND_HOUR_UNKNOWN ? 0 : (((uint64_t)hour << 1) ^ (uint64_t)(hour >> 63)) + 1;
}

static int64_t hour_of(uint64_t number)
{
    number--;
    return (int64_t)(number >> 1) ^ -(int64_t)(number & 1);
}

char *ind_volumes_pack(struct ind_volumes *volumes, size_t *length)
{
    size_t count;
    const struct ind_volume *list = ind_volumes_sorted(volumes, &count);
    char *packed = malloc(2 + CHECK + count * (LONGEST_ENTRY + 2 * LONGEST_NUMBER)), *at = packed;
    if (!packed)
        return NULL;
    *at++ = VERSION;
    *at++ = ind_volumes_folded(volumes) ? FOLDED : 0;
    for (size_t i = 0, end; i < count; i = end) {
        for (end = i; end < count && list[end].hour == list[i].hour;)
            end++;
        at = put(at, hour_number(list[i].hour));
        at = put(at, end - i);
        for (uint32_t device = 0; i < end; device = list[i++].device) {
            at = put(at, list[i].device - device);
            *at++ = (char)list[i].pri;
            at = put(at, list[i].messages);
            at = put(at, list[i].bytes);
        }
    }
    const uint32_t check = XXH32(packed, (size_t)(at - packed), 0);
    for (int i = 0; i < CHECK; i++)
        *at++ = (char)(check >> (8 * i));
    *length = (size_t)(at - packed);
    char *shorter = realloc(packed, *length);
    return shorter ? shorter : packed;
}

/* ---- And back ---- */

/* False at the end, and where it is longer than a number. */
static bool get(struct ind_slice *rest, uint64_t *number)
{
    *number = 0;
    for (unsigned shift = 0; shift < 64 && rest->length; shift += 7) {
        const uint64_t byte = (unsigned char)rest->at[0];
        *rest = ind_slice_from(*rest, 1);
        if (shift == 63 && byte > 1)
            return false;
        *number |= (byte & 127) << shift;
        if (byte < 128)
            return true;
    }
    return false;
}

static bool get_entry(struct ind_slice *rest, struct ind_volume *volume)
{
    uint64_t further;
    if (!get(rest, &further) || further > UINT32_MAX - volume->device || rest->length == 0)
        return false;
    volume->device += (uint32_t)further;
    volume->pri = (uint8_t)rest->at[0];
    *rest = ind_slice_from(*rest, 1);
    return (volume->pri < IND_VOLUME_PRIS || volume->pri == IND_VOLUME_NO_PRI) &&
           get(rest, &volume->messages) && get(rest, &volume->bytes);
}

bool ind_volumes_are_folded(struct ind_slice packed)
{
    return packed.length < 2 || (packed.at[1] & FOLDED) != 0;
}

/* Without its check, which has been made. */
static bool is_whole(struct ind_slice *packed)
{
    if (packed->length < 2 + CHECK || packed->at[0] != VERSION)
        return false;
    packed->length -= CHECK;
    const uint32_t check = XXH32(packed->at, packed->length, 0);
    for (int i = 0; i < CHECK; i++)
        if (packed->at[packed->length + (size_t)i] != (char)(check >> (8 * i)))
            return false;
    return true;
}

bool ind_volumes_each(struct ind_slice packed, bool (*visit)(void *context, const struct ind_volume *volume),
                      void *context)
{
    if (!is_whole(&packed))
        return false;
    struct ind_slice rest = ind_slice_from(packed, 2);
    while (rest.length) {
        uint64_t hour, count;
        if (!get(&rest, &hour) || !get(&rest, &count) || count > rest.length)
            return false;
        struct ind_volume volume = {.hour = hour ? hour_of(hour) : IND_HOUR_UNKNOWN};
        while (count-- > 0) {
            if (!get_entry(&rest, &volume))
                return false;
            if (!visit(context, &volume))
                return true;
        }
    }
    return true;
}

struct unpacking {
    struct ind_volumes *volumes;
    bool failed;
};

static bool add(void *context, const struct ind_volume *volume)
{
    struct unpacking *unpacking = context;
    unpacking->failed = !ind_volumes_add(unpacking->volumes, volume);
    return !unpacking->failed;
}

bool ind_volumes_unpack(struct ind_slice packed, struct ind_volumes *volumes)
{
    struct unpacking unpacking = {volumes, false};
    if (packed.length >= 2 && packed.at[1] & FOLDED)
        ind_volumes_set_folded(volumes);
    return ind_volumes_each(packed, add, &unpacking) && !unpacking.failed;
}
