#include "core/queue/segment.h"

#define XXH_INLINE_ALL
#include <xxhash.h>

static const char magic[8] = {'I', 'n', 'd', 'Q', 'u', 'e', 'u', 'e'};
enum { VERSION = 1, CHECKED = 24 }; /* CHECKED: bytes of the header that its check covers */

static void put(char *at, uint64_t value, int bytes)
{
    for (int i = 0; i < bytes; i++)
        at[i] = (char)(value >> 8 * i & 0xff);
}

static uint64_t get(const char *at, int bytes)
{
    uint64_t value = 0;
    for (int i = bytes - 1; i >= 0; i--)
        value = value << 8 | (unsigned char)at[i];
    return value;
}

void ind_segment_begin(char header[IND_SEGMENT_HEADER], uint64_t first)
{
    memcpy(header, magic, sizeof magic);
    put(header + 8, VERSION, 4);
    put(header + 12, 0, 4);
    put(header + 16, first, 8);
    put(header + CHECKED, XXH3_64bits(header, CHECKED), 8);
}

bool ind_segment_read(struct ind_slice file, uint64_t *first)
{
    if (file.length < IND_SEGMENT_HEADER || memcmp(file.at, magic, sizeof magic) != 0 ||
        get(file.at + 8, 4) != VERSION || get(file.at + CHECKED, 8) != XXH3_64bits(file.at, CHECKED))
        return false;
    *first = get(file.at + 16, 8);
    return *first > 0;
}

/* Over time and message, which stand together; the number is the seed. */
static uint32_t check_of(const char *at, size_t length, uint64_t number)
{
    return (uint32_t)XXH3_64bits_withSeed(at + 8, length + 8, number);
}

void ind_queued_put(char *at, ind_time time, struct ind_slice bytes)
{
    put(at, bytes.length, 4);
    put(at + 4, 0, 4);
    put(at + 8, (uint64_t)time, 8);
    memcpy(at + IND_QUEUED_HEADER, bytes.at, bytes.length);
}

void ind_queued_seal(char *at, uint64_t number)
{
    put(at + 4, check_of(at, (size_t)get(at, 4), number), 4);
}

enum ind_queued_found ind_queued_read(struct ind_slice rest, uint64_t number, struct ind_queued *record)
{
    if (rest.length < IND_QUEUED_HEADER)
        return IND_QUEUED_SHORT;
    *record = ind_queued_at(rest.at);
    if (record->bytes.length == 0 || record->bytes.length > IND_QUEUED_MOST)
        return IND_QUEUED_BAD;
    if (record->size > rest.length)
        return IND_QUEUED_SHORT;
    return get(rest.at + 4, 4) == check_of(rest.at, record->bytes.length, number) ? IND_QUEUED_WHOLE
                                                                                  : IND_QUEUED_BAD;
}
