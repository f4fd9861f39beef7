#include "collect/ring.h"

#include <pthread.h>
#include <stdlib.h>
#include <time.h>

enum { MARKS = 4 };

struct entry {
    struct ind_batch *batch;
    struct ind_marker *mark;
};

struct ring {
    struct entry *full; /* oldest first, around */
    size_t first, count;
    struct ind_batch *empty;
    pthread_cond_t returned;
    bool hungry, ended;
};

struct ind_rings {
    pthread_mutex_t mutex;
    pthread_cond_t filled;
    bool knocked;
    unsigned count, next;
    size_t room;
    void (*wake)(void *context, unsigned ring);
    void *context;
    struct ring *rings;
};

static void make_condition(pthread_cond_t *condition)
{
    pthread_condattr_t attributes;
    pthread_condattr_init(&attributes);
    pthread_condattr_setclock(&attributes, CLOCK_MONOTONIC);
    pthread_cond_init(condition, &attributes);
    pthread_condattr_destroy(&attributes);
}

static bool fill_ring(struct ring *ring, size_t room, size_t batches)
{
    ring->full = calloc(room, sizeof *ring->full);
    for (size_t i = 0; ring->full && i < batches; i++) {
        struct ind_batch *batch = ind_batch_new();
        if (!batch)
            return false;
        batch->next_free = ring->empty;
        ring->empty = batch;
    }
    return ring->full != NULL;
}

struct ind_rings *ind_rings_new(unsigned count, size_t batches, void (*wake)(void *context, unsigned ring),
                                void *context)
{
    struct ind_rings *rings = calloc(1, sizeof *rings);
    if (!rings || !(rings->rings = calloc(count, sizeof *rings->rings))) {
        free(rings);
        return NULL;
    }
    pthread_mutex_init(&rings->mutex, NULL);
    make_condition(&rings->filled);
    rings->count = count;
    rings->room = batches + MARKS;
    rings->wake = wake;
    rings->context = context;
    bool good = true;
    for (unsigned i = 0; i < count; i++) {
        make_condition(&rings->rings[i].returned);
        good &= fill_ring(&rings->rings[i], rings->room, batches);
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

void ind_rings_free(struct ind_rings *rings)
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
        pthread_cond_destroy(&ring->returned);
        free(ring->full);
    }
    pthread_mutex_destroy(&rings->mutex);
    pthread_cond_destroy(&rings->filled);
    free(rings->rings);
    free(rings);
}

static struct timespec deadline(int milliseconds)
{
    struct timespec time;
    clock_gettime(CLOCK_MONOTONIC, &time);
    time.tv_sec += milliseconds / 1000;
    time.tv_nsec += (long)(milliseconds % 1000) * 1000000;
    if (time.tv_nsec >= 1000000000) {
        time.tv_nsec -= 1000000000;
        time.tv_sec++;
    }
    return time;
}

struct ind_batch *ind_ring_empty(struct ind_rings *rings, unsigned number, int milliseconds)
{
    struct ring *ring = &rings->rings[number];
    pthread_mutex_lock(&rings->mutex);
    if (!ring->empty && milliseconds > 0) {
        struct timespec until = deadline(milliseconds);
        while (!ring->empty && pthread_cond_timedwait(&ring->returned, &rings->mutex, &until) == 0)
            ;
    }
    struct ind_batch *batch = ring->empty;
    if (batch)
        ring->empty = batch->next_free;
    ring->hungry = !batch;
    pthread_mutex_unlock(&rings->mutex);
    return batch;
}

static void put(struct ind_rings *rings, unsigned number, struct entry entry)
{
    struct ring *ring = &rings->rings[number];
    pthread_mutex_lock(&rings->mutex);
    *entry_at(rings, ring, ring->count++) = entry;
    pthread_cond_signal(&rings->filled);
    pthread_mutex_unlock(&rings->mutex);
}

void ind_ring_put(struct ind_rings *rings, unsigned ring, struct ind_batch *batch)
{
    put(rings, ring, (struct entry){batch, NULL});
}

void ind_ring_put_marker(struct ind_rings *rings, unsigned ring, struct ind_marker *mark)
{
    put(rings, ring, (struct entry){NULL, mark});
}

void ind_ring_end(struct ind_rings *rings, unsigned ring)
{
    pthread_mutex_lock(&rings->mutex);
    rings->rings[ring].ended = true;
    pthread_cond_signal(&rings->filled);
    pthread_mutex_unlock(&rings->mutex);
}

void ind_rings_wake(struct ind_rings *rings)
{
    pthread_mutex_lock(&rings->mutex);
    rings->knocked = true;
    pthread_cond_signal(&rings->filled);
    pthread_mutex_unlock(&rings->mutex);
}

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

static bool all_ended(const struct ind_rings *rings)
{
    bool all = true;
    for (unsigned i = 0; i < rings->count; i++)
        all &= rings->rings[i].ended && rings->rings[i].count == 0;
    return all;
}

struct ind_ring_item ind_rings_take(struct ind_rings *rings, const bool *held, int milliseconds, bool *ended)
{
    struct timespec until = deadline(milliseconds);
    struct ind_ring_item item = {0, NULL, NULL};
    struct ring *ring;
    pthread_mutex_lock(&rings->mutex);
    while (!(ring = next_filled(rings, held)) && !all_ended(rings) && !rings->knocked &&
           pthread_cond_timedwait(&rings->filled, &rings->mutex, &until) == 0)
        ;
    if (ring) {
        struct entry entry = *entry_at(rings, ring, 0);
        item = (struct ind_ring_item){(unsigned)(ring - rings->rings), entry.batch, entry.mark};
        ring->first = (ring->first + 1) % rings->room;
        ring->count--;
    }
    rings->knocked = false;
    *ended = !ring && all_ended(rings);
    pthread_mutex_unlock(&rings->mutex);
    return item;
}

void ind_ring_give_back(struct ind_rings *rings, unsigned number, struct ind_batch *batch)
{
    struct ring *ring = &rings->rings[number];
    ind_batch_clear(batch);
    pthread_mutex_lock(&rings->mutex);
    batch->next_free = ring->empty;
    ring->empty = batch;
    bool hungry = ring->hungry;
    ring->hungry = false;
    pthread_cond_signal(&ring->returned);
    pthread_mutex_unlock(&rings->mutex);
    if (hungry && rings->wake)
        rings->wake(rings->context, number);
}

bool ind_ring_pull(struct ind_rings *rings, unsigned number, bool (*wanted)(const struct ind_marker *),
                   void (*visit)(void *context, struct ind_marker *mark, const struct ind_batch *batch),
                   void *context)
{
    struct ring *ring = &rings->rings[number];
    struct ind_marker *mark = NULL;
    size_t found = 0;
    pthread_mutex_lock(&rings->mutex);
    for (; found < ring->count && !mark; found++) {
        const struct entry *entry = entry_at(rings, ring, found);
        mark = entry->mark && wanted(entry->mark) ? entry->mark : NULL;
    }
    if (mark) {
        visit(context, mark, NULL);
        for (size_t i = 0; i + 1 < found; i++)
            if (entry_at(rings, ring, i)->batch)
                visit(context, mark, entry_at(rings, ring, i)->batch);
        for (size_t i = found; i < ring->count; i++)
            *entry_at(rings, ring, i - 1) = *entry_at(rings, ring, i);
        ring->count--;
    }
    pthread_mutex_unlock(&rings->mutex);
    return mark != NULL;
}

size_t ind_ring_full(struct ind_rings *rings, unsigned number)
{
    pthread_mutex_lock(&rings->mutex);
    size_t count = rings->rings[number].count;
    pthread_mutex_unlock(&rings->mutex);
    return count;
}
