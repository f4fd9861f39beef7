/* Memory in which messages wait. */
#include "collect/relay/relay_private.h"

#include <stdlib.h>
#include <string.h>

enum { SMALL = 64 << 10 }; /* a block with less is put to the end of the one before */

/* ---- Of whoever adds ---- */

/* A block with room for so much; NULL: there is none. */
static struct ind_block *block_for(struct ind_relay *relay, size_t size, struct ind_steady now)
    IND_REQUIRES(relay->mutex)
{
    struct ind_block *last = relay->in_tail;
    if (relay->full)
        return NULL;
    if (last && IND_BLOCK_BYTES - last->used >= size)
        return last;
    struct ind_block *block = relay->blocks < IND_BLOCKS ? malloc(sizeof *block + IND_BLOCK_BYTES) : NULL;
    if (!block)
        return NULL;
    *block = (struct ind_block){.since = now};
    if (last)
        last->next = block;
    else
        relay->in_head = block;
    relay->in_tail = block;
    relay->blocks++;
    return block;
}

enum ind_relay_took ind_relay_add(struct ind_relay *relay, struct ind_slice message, ind_time time,
                                  struct ind_steady now, bool hold)
{
    enum ind_relay_took took = IND_RELAY_LOOPED;
    ind_mutex_lock(&relay->mutex);
    if (message.length == 0) {
        relay->looped++;
    } else {
        const size_t size = ind_queued_size(message.length);
        struct ind_block *block = block_for(relay, size, now);
        took = block ? IND_RELAY_TOOK : IND_RELAY_HAS_NO_ROOM;
        relay->refused += !block && !hold;
        if (block) {
            ind_queued_put(block->bytes + block->used, time, message);
            block->used += size;
            block->count++;
        }
    }
    ind_mutex_unlock(&relay->mutex);
    relay->unwoken = true;
    return took;
}

void ind_relay_wake(struct ind_relay *relay)
{
    if (relay->unwoken)
        ind_waker_wake(&relay->waker);
    relay->unwoken = false;
}

/* ---- Of the relay's thread ---- */

static void free_block(struct ind_relay *relay, struct ind_block *block)
{
    if (relay->span.block == block)
        relay->span.at = NULL;
    ind_mutex_lock(&relay->mutex);
    relay->blocks--;
    ind_mutex_unlock(&relay->mutex);
    free(block);
}

unsigned ind_relay_block_count(struct ind_relay *relay)
{
    ind_mutex_lock(&relay->mutex);
    const unsigned count = relay->blocks;
    ind_mutex_unlock(&relay->mutex);
    return count;
}

/* True where the last block took it all. */
static bool merge(struct ind_relay *relay, const struct ind_block *block)
{
    struct ind_block *last = relay->tail;
    if (!last || block->used >= SMALL || IND_BLOCK_BYTES - last->used < block->used)
        return false;
    if (last->written == last->used)
        last->since = block->since;
    memcpy(last->bytes + last->used, block->bytes, block->used);
    last->used += block->used;
    last->count += block->count;
    return true;
}

void ind_relay_take_blocks(struct ind_relay *relay)
{
    ind_mutex_lock(&relay->mutex);
    struct ind_block *block = relay->in_head;
    relay->in_head = relay->in_tail = NULL;
    ind_mutex_unlock(&relay->mutex);
    while (block) {
        struct ind_block *next = block->next;
        block->next = NULL;
        block->first = relay->next;
        relay->next += block->count;
        relay->counts.taken += block->count;
        if (merge(relay, block)) {
            free_block(relay, block);
        } else {
            if (relay->tail)
                relay->tail->next = block;
            else
                relay->head = block;
            relay->tail = block;
        }
        block = next;
    }
}

void ind_relay_drop_block(struct ind_relay *relay)
{
    struct ind_block *block = relay->head;
    relay->head = block->next;
    if (!relay->head)
        relay->tail = NULL;
    free_block(relay, block);
}

void ind_relay_free_blocks(struct ind_relay *relay, bool all)
{
    while (relay->head) {
        const struct ind_block *block = relay->head;
        const bool done = block->first + block->count <= relay->done;
        if (!done && !(all && block->written == block->used))
            return;
        ind_relay_drop_block(relay);
    }
}

/* ---- Finding records ---- */

static bool find_in_blocks(struct ind_relay *relay, uint64_t number)
{
    struct ind_block *block = relay->head;
    while (block && block->first + block->count <= number)
        block = block->next;
    if (!block || block->first > number)
        return false;
    const char *at = block->bytes;
    for (uint64_t i = block->first; i < number; i++)
        at += ind_queued_at(at).size;
    relay->span.block = block;
    relay->span.at = at;
    relay->span.end = block->bytes + block->used;
    relay->span.number = number;
    return true;
}

static bool find_in_queue(struct ind_relay *relay, uint64_t *number)
{
    struct ind_queue_part part;
    if (!relay->queue)
        return false;
    if (!relay->span.room && !(relay->span.room = malloc(IND_READ_BYTES)))
        return false;
    relay->span.at = NULL;
    const int error = ind_queue_read(relay->queue, *number, relay->span.room, IND_READ_BYTES, &part);
    if (error) {
        relay->read_error = error;
        return false;
    }
    relay->counts.damaged += part.lost;
    *number += part.lost;
    if (part.count == 0)
        return false;
    relay->span.block = NULL;
    relay->span.at = relay->span.room;
    relay->span.end = relay->span.room + part.length;
    relay->span.number = *number;
    return true;
}

bool ind_relay_find(struct ind_relay *relay, uint64_t *number, struct ind_queued *record)
{
    if (*number >= relay->next)
        return false;
    const bool here = relay->span.at && relay->span.number == *number && relay->span.at < relay->span.end;
    if (!here && !find_in_blocks(relay, *number) && !find_in_queue(relay, number) &&
        !find_in_blocks(relay, *number)) {
        /* Behind what is damaged there is nothing, until the blocks in memory begin. */
        const uint64_t first = relay->head ? relay->head->first : relay->next;
        if (!relay->queue || ind_queue_next(relay->queue) > *number || first <= *number)
            return false;
        relay->counts.damaged += first - *number;
        *number = first;
        return *number < relay->next && ind_relay_find(relay, number, record);
    }
    *record = ind_queued_at(relay->span.at);
    relay->span.at += record->size;
    relay->span.number++;
    return true;
}
