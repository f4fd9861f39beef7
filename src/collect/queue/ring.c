#include "collect/queue/ring.h"

#include "thread/mutex.h"
#include <stdlib.h>
#include <time.h>

enum { MARKERS = 4 };

struct entry {
    struct ind_batch *batch;
    struct ind_marker *marker;
};

struct ring {
    struct entry *full; /* oldest first, around */
    size_t first, count;
    struct ind_batch *empty;
    struct ind_condition_variable returned;
    bool hungry, ended;
};

struct ind_rings {
    unsigned count;
    size_t room; /* entries of a ring */
    void (*wake)(void *context, unsigned ring);
    void *context;
    struct ind_mutex mutex;
    struct ind_condition_variable filled;
    bool woken IND_GUARDED_BY(mutex);
    unsigned next IND_GUARDED_BY(mutex);
    struct ring *rings IND_GUARDED_BY(mutex); /* what is in them, too */
};

static bool fill_ring(struct ring *ring, size_t batches)
{
    ring->full = calloc(batches + MARKERS, sizeof *ring->full);
    for (size_t i = 0; ring->full && i < batches; i++) {
        struct ind_batch *batch = ind_batch_new();
        if (!batch)
            return false;
        batch->next_free = ring->empty;
        ring->empty = batch;
    }
    return ring->full != NULL;
}

IND_NOT_SHARED struct ind_rings *ind_rings_new(unsigned count, size_t batches,
                                               void (*wake)(void *context, unsigned ring), void *context)
{
    struct ind_rings *rings = calloc(1, sizeof *rings);
    if (!rings || !(rings->rings = calloc(count, sizeof *rings->rings))) {
        free(rings);
        return NULL;
    }
    ind_mutex_begin(&rings->mutex);
    ind_condition_variable_begin(&rings->filled);
    rings->count = count;
    rings->room = batches + MARKERS;
    rings->wake = wake;
    rings->context = context;
    bool good = true;
    for (unsigned i = 0; i < count; i++) {
        ind_condition_variable_begin(&rings->rings[i].returned);
        good &= fill_ring(&rings->rings[i], batches);
    }
    if (good)
        return rings;
    ind_rings_free(rings);
    return NULL;
}

static struct entry *entry_at(const struct ind_rings *rings, const struct ring *ring, size_t index)
{
    return &ring->full[(ring->first + index) % rings->room];
}

IND_NOT_SHARED void ind_rings_free(struct ind_rings *rings)
{
    if (!rings)
        return;
    for (unsigned i = 0; i < rings->count; i++) {
        struct ring *ring = &rings->rings[i];
        while (ring->empty) {
            struct ind_batch *next = ring->empty->next_free;
            ind_batch_free(ring->empty);
            ring->empty = next;
        }
        for (size_t n = 0; n < ring->count; n++)
            ind_batch_free(entry_at(rings, ring, n)->batch);
        ind_condition_variable_end(&ring->returned);
        free(ring->full);
    }
    ind_mutex_end(&rings->mutex);
    ind_condition_variable_end(&rings->filled);
    free(rings->rings);
    free(rings);
}

struct ind_batch *ind_ring_empty(struct ind_rings *rings, unsigned number, int milliseconds)
{
    ind_mutex_lock(&rings->mutex);
    struct ring *ring = &rings->rings[number];
    if (!ring->empty && milliseconds > 0) {
        const struct timespec until = ind_deadline(milliseconds);
        while (!ring->empty && ind_condition_variable_wait_until(&ring->returned, &rings->mutex, &until))
            ;
    }
    struct ind_batch *batch = ring->empty;
    if (batch)
        ring->empty = batch->next_free;
    ring->hungry = !batch;
    ind_mutex_unlock(&rings->mutex);
    return batch;
}

static void put(struct ind_rings *rings, unsigned number, struct entry entry)
{
    ind_mutex_lock(&rings->mutex);
    struct ring *ring = &rings->rings[number];
    *entry_at(rings, ring, ring->count++) = entry;
    ind_condition_variable_signal(&rings->filled);
    ind_mutex_unlock(&rings->mutex);
}

void ind_ring_put(struct ind_rings *rings, unsigned ring, struct ind_batch *batch)
{
    put(rings, ring, (struct entry){batch, NULL});
}

void ind_ring_put_marker(struct ind_rings *rings, unsigned ring, struct ind_marker *marker)
{
    put(rings, ring, (struct entry){NULL, marker});
}

void ind_ring_end(struct ind_rings *rings, unsigned ring)
{
    ind_mutex_lock(&rings->mutex);
    rings->rings[ring].ended = true;
    ind_condition_variable_signal(&rings->filled);
    ind_mutex_unlock(&rings->mutex);
}

void ind_rings_wake(struct ind_rings *rings)
{
    ind_mutex_lock(&rings->mutex);
    rings->woken = true;
    ind_condition_variable_signal(&rings->filled);
    ind_mutex_unlock(&rings->mutex);
}

static struct ring *next_filled(struct ind_rings *rings, const bool *held) IND_REQUIRES(rings->mutex);

static struct ring *next_filled(struct ind_rings *rings, const bool *held)
{
    for (unsigned i = 0; i < rings->count; i++) {
        unsigned number = (rings->next + i) % rings->count;
        if (rings->rings[number].count > 0 && !(held && held[number])) {
            rings->next = number + 1;
            return &rings->rings[number];
        }
    }
    return NULL;
}

static bool all_ended(const struct ind_rings *rings) IND_REQUIRES(rings->mutex);

static bool all_ended(const struct ind_rings *rings)
{
    bool all = true;
    for (unsigned i = 0; i < rings->count; i++)
        all &= rings->rings[i].ended && rings->rings[i].count == 0;
    return all;
}

struct ind_ring_item ind_rings_next(struct ind_rings *rings, const bool *held, int milliseconds, bool *ended)
{
    const struct timespec until = ind_deadline(milliseconds);
    struct ind_ring_item item = {0, NULL, NULL};
    struct ring *ring;
    ind_mutex_lock(&rings->mutex);
    while (!(ring = next_filled(rings, held)) && !all_ended(rings) && !rings->woken &&
           ind_condition_variable_wait_until(&rings->filled, &rings->mutex, &until))
        ;
    if (ring) {
        struct entry entry = *entry_at(rings, ring, 0);
        item = (struct ind_ring_item){(unsigned)(ring - rings->rings), entry.batch, entry.marker};
        ring->first = (ring->first + 1) % rings->room;
        ring->count--;
    }
    rings->woken = false;
    *ended = !ring && all_ended(rings);
    ind_mutex_unlock(&rings->mutex);
    return item;
}

void ind_ring_give_back(struct ind_rings *rings, unsigned number, struct ind_batch *batch)
{
    ind_batch_clear(batch);
    ind_mutex_lock(&rings->mutex);
    struct ring *ring = &rings->rings[number];
    batch->next_free = ring->empty;
    ring->empty = batch;
    bool hungry = ring->hungry;
    ring->hungry = false;
    ind_condition_variable_signal(&ring->returned);
    ind_mutex_unlock(&rings->mutex);
    if (hungry && rings->wake)
        rings->wake(rings->context, number);
}

struct ind_marker *ind_ring_pull_snapshot(struct ind_rings *rings, unsigned number,
                                          const struct ind_batch *before[], size_t *count)
{
    struct ind_marker *marker = NULL;
    size_t found = 0;
    *count = 0;
    ind_mutex_lock(&rings->mutex);
    struct ring *ring = &rings->rings[number];
    for (; found < ring->count && !marker; found++) {
        const struct entry *entry = entry_at(rings, ring, found);
        if (entry->marker && entry->marker->kind == IND_MARKER_SNAPSHOT)
            marker = entry->marker;
        else if (entry->batch)
            before[(*count)++] = entry->batch;
    }
    if (marker) {
        for (size_t i = found; i < ring->count; i++)
            *entry_at(rings, ring, i - 1) = *entry_at(rings, ring, i);
        ring->count--;
    }
    ind_mutex_unlock(&rings->mutex);
    return marker;
}

size_t ind_ring_full(struct ind_rings *rings, unsigned number)
{
    ind_mutex_lock(&rings->mutex);
    size_t count = rings->rings[number].count;
    ind_mutex_unlock(&rings->mutex);
    return count;
}
