/* Devices of which something is found. */
#include "core/base/escape.h"
#include "store/search/search_private.h"

#include <stdlib.h>
#define XXH_INLINE_ALL
#include <xxhash.h>

uint64_t ind_among_hash(struct ind_slice name)
{
    return XXH3_64bits(name.at, name.length);
}

static int order(const void *left, const void *right)
{
    const uint64_t a = *(const uint64_t *)left, b = *(const uint64_t *)right;
    return (a > b) - (a < b);
}

bool ind_among_find(const struct ind_search_result *result, struct ind_among *among)
{
    among->count = result->group_count;
    among->hashes = calloc(among->count + 1, sizeof *among->hashes);
    if (!among->hashes)
        return false;
    for (size_t i = 0; i < among->count; i++)
        among->hashes[i] = ind_among_hash(ind_slice_of(ind_group_value(result->groups[i], 0)));
    qsort(among->hashes, among->count, sizeof *among->hashes, order);
    return true;
}

bool ind_among_has(const struct ind_among *among, uint64_t hash)
{
    return among && bsearch(&hash, among->hashes, among->count, sizeof hash, order);
}

bool ind_among_meets(const struct ind_among *among, const struct ind_index *index,
                     const struct ind_index_frame *frame)
{
    if (!frame->devices_known || frame->devices_as_keys)
        return true;
    for (uint32_t i = 0; i < frame->device_count; i++) {
        char name[IND_BY_WRITTEN_MOST];
        struct ind_buffer out = ind_buffer_on(name, sizeof name);
        struct ind_slice device = ind_index_device(index, frame, i);
        device.length = device.length < IND_BY_MOST ? device.length : IND_BY_MOST;
        ind_escape_text(&out, device);
        if (ind_among_has(among, ind_among_hash(ind_buffer_view(&out))))
            return true;
    }
    return false;
}
