/* Open addressing: a slot holds a part of the hash and the number of a record, so that only the right record
 * is looked at. Records lie in chunks, each on cache lines of its own. */
#include "collect/intake/senders.h"

#include <stdlib.h>
#define XXH_INLINE_ALL
#include <xxhash.h>

enum { CHUNK = 256, CHUNKS = IND_SENDERS / CHUNK, LINE = 64, FIRST_SLOTS = 1024 };

struct record {
    _Alignas(LINE) struct ind_known_sender known;
};

struct slot {
    uint32_t tag, number; /* number + 1; 0: free */
};

struct ind_senders {
    struct slot *slots;
    size_t slot_count; /* a power of two, at least twice the records */
    struct record *chunks[CHUNKS];
    uint32_t count;
};

struct ind_senders *ind_senders_new(void)
{
    struct ind_senders *senders = calloc(1, sizeof *senders);
    if (!senders)
        return NULL;
    senders->slot_count = FIRST_SLOTS;
    senders->slots = calloc(FIRST_SLOTS, sizeof *senders->slots);
    if (senders->slots)
        return senders;
    free(senders);
    return NULL;
}

void ind_senders_free(struct ind_senders *senders)
{
    if (!senders)
        return;
    for (size_t i = 0; i < CHUNKS; i++)
        free(senders->chunks[i]);
    free(senders->slots);
    free(senders);
}

static struct ind_known_sender *record_at(const struct ind_senders *senders, uint32_t number)
{
    return &senders->chunks[number / CHUNK][number % CHUNK].known;
}

static uint64_t hash_of(const struct ind_address *address)
{
    return XXH3_64bits(address, sizeof *address);
}

struct ind_known_sender *ind_senders_find(const struct ind_senders *senders,
                                          const struct ind_address *address)
{
    uint64_t hash = hash_of(address);
    for (size_t at = hash & (senders->slot_count - 1); senders->slots[at].number;
         at = (at + 1) & (senders->slot_count - 1)) {
        struct ind_known_sender *known;
        if (senders->slots[at].tag == (uint32_t)(hash >> 32) &&
            memcmp(&(known = record_at(senders, senders->slots[at].number - 1))->address, address,
                   sizeof *address) == 0)
            return known;
    }
    return NULL;
}

void ind_senders_expect(const struct ind_senders *senders, const struct ind_address *address)
{
#if defined(__GNUC__) || defined(__clang__)
    __builtin_prefetch(&senders->slots[hash_of(address) & (senders->slot_count - 1)]);
#else
    (void)senders;
    (void)address;
#endif
}

static void put(struct slot *slots, size_t slot_count, uint64_t hash, uint32_t number)
{
    size_t at = hash & (slot_count - 1);
    while (slots[at].number)
        at = (at + 1) & (slot_count - 1);
    slots[at] = (struct slot){(uint32_t)(hash >> 32), number + 1};
}

static bool grow(struct ind_senders *senders)
{
    size_t slot_count = senders->slot_count * 2;
    struct slot *slots = calloc(slot_count, sizeof *slots);
    if (!slots)
        return false;
    for (uint32_t i = 0; i < senders->count; i++)
        put(slots, slot_count, hash_of(&record_at(senders, i)->address), i);
    free(senders->slots);
    senders->slots = slots;
    senders->slot_count = slot_count;
    return true;
}

struct ind_known_sender *ind_senders_add(struct ind_senders *senders, const struct ind_address *address)
{
    if (senders->count == IND_SENDERS) {
        memset(senders->slots, 0, senders->slot_count * sizeof *senders->slots);
        senders->count = 0;
    }
    if (senders->count * 2 >= senders->slot_count && !grow(senders))
        return NULL;
    struct record **chunk = &senders->chunks[senders->count / CHUNK];
    if (!*chunk && !(*chunk = aligned_alloc(LINE, CHUNK * sizeof **chunk)))
        return NULL;
    struct ind_known_sender *known = record_at(senders, senders->count);
    *known = (struct ind_known_sender){.address = *address, .sender = {.account = UINT32_MAX}};
    put(senders->slots, senders->slot_count, hash_of(address), senders->count++);
    return known;
}

void ind_sender_describe(const struct ind_config *config, const struct ind_address *address,
                         const struct ind_device *local, struct ind_buffer *text, struct ind_sender *sender)
{
    *sender = (struct ind_sender){.allowed = true, .account = UINT32_MAX};
    if (address->bits == 0) {
        const struct ind_device *own = ind_devices_by_name(config->devices, ind_slice_of(local->name));
        sender->device = own ? own : local;
        return;
    }
    ind_address_write(text, address);
    sender->text = ind_buffer_view(text);
    sender->device = ind_devices_by_address(config->devices, address);
    sender->allowed = ind_config_allows(config, address);
}
