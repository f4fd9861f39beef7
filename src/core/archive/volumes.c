#include "core/archive/volumes.h"

#include <stdlib.h>
#include <string.h>

enum { LEAST_SLOTS = 64 };

struct ind_volumes {
    struct ind_volume *list;
    size_t count, room;
    uint32_t *slots; /* place in the list + 1; 0: free */
    size_t slot_count;
    bool sorted; /* the list, and then the slots are not */
    bool folded;
};

struct ind_volumes *ind_volumes_new(void)
{
    return calloc(1, sizeof(struct ind_volumes));
}

void ind_volumes_free(struct ind_volumes *volumes)
{
    if (!volumes)
        return;
    free(volumes->list);
    free(volumes->slots);
    free(volumes);
}

void ind_volumes_clear(struct ind_volumes *volumes)
{
    free(volumes->list);
    free(volumes->slots);
    *volumes = (struct ind_volumes){0};
}

/* ---- The table ---- */

static size_t slot_of(const struct ind_volumes *volumes, const struct ind_volume *volume)
{
    uint64_t key = (uint64_t)volume->hour * UINT64_C(0x9E3779B97F4A7C15) ^
                   ((uint64_t)volume->device << 8 | volume->pri) * UINT64_C(0xC2B2AE3D27D4EB4F);
    return (size_t)(key ^ key >> 29) & (volumes->slot_count - 1);
}

/* The slot of what is the same, or the free one in which it would be. */
static uint32_t *find(const struct ind_volumes *volumes, const struct ind_volume *volume)
{
    size_t slot = slot_of(volumes, volume);
    for (;; slot = (slot + 1) & (volumes->slot_count - 1)) {
        const uint32_t place = volumes->slots[slot];
        const struct ind_volume *known = place ? &volumes->list[place - 1] : NULL;
        if (!known ||
            (known->hour == volume->hour && known->device == volume->device && known->pri == volume->pri))
            return &volumes->slots[slot];
    }
}

/* Half full at most. */
static bool make_slots(struct ind_volumes *volumes)
{
    if (!volumes->sorted && volumes->slot_count >= 2 * (volumes->count + 1))
        return true;
    size_t wanted = LEAST_SLOTS;
    while (wanted < 3 * (volumes->count + 1))
        wanted *= 2;
    uint32_t *slots = calloc(wanted, sizeof *slots);
    if (!slots)
        return false;
    free(volumes->slots);
    volumes->slots = slots;
    volumes->slot_count = wanted;
    volumes->sorted = false;
    for (size_t i = 0; i < volumes->count; i++)
        *find(volumes, &volumes->list[i]) = (uint32_t)i + 1;
    return true;
}

static bool make_room(struct ind_volumes *volumes)
{
    if (volumes->count < volumes->room)
        return true;
    const size_t room = volumes->room ? 2 * volumes->room : 16;
    struct ind_volume *grown = realloc(volumes->list, room * sizeof *grown);
    if (!grown)
        return false;
    volumes->list = grown;
    volumes->room = room;
    return true;
}

bool ind_volumes_add(struct ind_volumes *volumes, const struct ind_volume *more)
{
    struct ind_volume key = *more;
    if (!make_slots(volumes) || !make_room(volumes))
        return false;
    uint32_t *slot = find(volumes, &key);
    if (!*slot && volumes->count >= IND_VOLUMES_MOST && key.device > IND_DEVICE_OTHERS) {
        key.device = IND_DEVICE_OTHERS;
        volumes->folded = true;
        slot = find(volumes, &key);
    }
    if (!*slot && volumes->count >= 2 * IND_VOLUMES_MOST) {
        key.hour = IND_HOUR_UNKNOWN; /* of these there are not many more than PRIs */
        volumes->folded = true;
        slot = find(volumes, &key);
    }
    if (!*slot) {
        key.messages = key.bytes = 0;
        volumes->list[volumes->count++] = key;
        *slot = (uint32_t)volumes->count;
    }
    volumes->list[*slot - 1].messages += more->messages;
    volumes->list[*slot - 1].bytes += more->bytes;
    return true;
}

bool ind_volumes_folded(const struct ind_volumes *volumes)
{
    return volumes->folded;
}

void ind_volumes_set_folded(struct ind_volumes *volumes)
{
    volumes->folded = true;
}

static int in_order(const void *one, const void *other)
{
    const struct ind_volume *a = one, *b = other;
    if (a->hour != b->hour)
        return a->hour < b->hour ? -1 : 1;
    if (a->device != b->device)
        return a->device < b->device ? -1 : 1;
    return (a->pri > b->pri) - (a->pri < b->pri);
}

const struct ind_volume *ind_volumes_sorted(struct ind_volumes *volumes, size_t *count)
{
    if (!volumes->sorted && volumes->count)
        qsort(volumes->list, volumes->count, sizeof *volumes->list, in_order);
    volumes->sorted = true;
    *count = volumes->count;
    return volumes->list;
}
