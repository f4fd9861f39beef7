#include "store/search/around.h"

#include <stdlib.h>
#define HASH_FUNCTION(at, length, hash) memcpy(&(hash), at, sizeof(hash))
#include <uthash.h>

/* Bytes of lines that are remembered of all devices: one that has said the most lately forgets first. */
enum { REMEMBERED = 32 << 20 };

struct line {
    char *at;
    size_t length, room;
};

/* Of one device: its last lines, in a ring, that have not been given. */
struct device {
    UT_hash_handle hh;
    uint64_t hash;
    struct line *ring;
    size_t count, next; /* in the ring; where the next one goes */
    size_t after;       /* so many more are given */
};

struct ind_around {
    size_t lines;
    bool separate, given, forgot;
    size_t remembered; /* bytes of room */
    struct device *devices;
};

struct ind_around *ind_around_new(size_t lines, bool separate)
{
    struct ind_around *around = calloc(1, sizeof *around);
    if (around) {
        around->lines = lines;
        around->separate = separate;
    }
    return around;
}

void ind_around_free(struct ind_around *around)
{
    struct device *device, *next;
    if (!around)
        return;
    HASH_ITER(hh, around->devices, device, next)
    {
        HASH_DEL(around->devices, device);
        for (size_t i = 0; i < around->lines; i++)
            free(device->ring[i].at);
        free(device->ring);
        free(device);
    }
    free(around);
}

static struct device *find(struct ind_around *around, uint64_t hash)
{
    struct device *device;
    HASH_FIND(hh, around->devices, &hash, sizeof hash, device);
    if (device)
        return device;
    device = calloc(1, sizeof *device);
    if (device && !(device->ring = calloc(around->lines, sizeof *device->ring))) {
        free(device);
        device = NULL;
    }
    if (!device)
        return NULL;
    device->hash = hash;
    HASH_ADD(hh, around->devices, hash, sizeof device->hash, device);
    return device;
}

/* In the place of the oldest. */
static bool remember(struct ind_around *around, struct device *device, struct ind_slice line)
{
    struct line *place = &device->ring[device->next];
    if (place->room < line.length) {
        if (around->remembered + line.length - place->room > REMEMBERED) {
            around->forgot = true;
            device->count = 0; /* what is remembered has no gap */
            return true;
        }
        char *grown = realloc(place->at, line.length);
        if (!grown)
            return false;
        around->remembered += line.length - place->room;
        place->at = grown;
        place->room = line.length;
    }
    memcpy(place->at, line.at, line.length);
    place->length = line.length;
    device->next = (device->next + 1) % around->lines;
    device->count += device->count < around->lines;
    return true;
}

static bool give_before(struct ind_around *around, struct device *device,
                        bool (*write)(void *, struct ind_slice), void *context)
{
    bool more = true;
    for (size_t left = device->count; left > 0 && more; left--) {
        const struct line *line = &device->ring[(device->next + around->lines - left) % around->lines];
        more = write(context, (struct ind_slice){line->at, line->length});
    }
    device->count = 0;
    return more;
}

bool ind_around_take(struct ind_around *around, const struct ind_around_mark *mark, struct ind_slice line,
                     bool (*write)(void *, struct ind_slice), void *context, bool *failed)
{
    struct device *device = find(around, mark->device);
    if (!device || (!mark->found && device->after == 0 && !remember(around, device, line))) {
        *failed = true;
        return false;
    }
    if (!mark->found && device->after == 0)
        return true;
    if (mark->found && device->after == 0 && around->separate && around->given &&
        !write(context, IND_SLICE("\n")))
        return false;
    if (mark->found && !give_before(around, device, write, context))
        return false;
    device->after = mark->found ? around->lines : device->after - 1;
    around->given = true;
    return write(context, line);
}

bool ind_around_forgot(const struct ind_around *around)
{
    return around->forgot;
}
