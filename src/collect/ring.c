#include "collect/ring.h"

#include <pthread.h>
#include <stdlib.h>
#include <time.h>

struct ind_ring {
    pthread_mutex_t mutex;
    pthread_cond_t changed;
    struct ind_batch **full; /* oldest first, around */
    size_t room, first, count;
    struct ind_batch *empty;
    bool ended;
};

struct ind_ring *ind_ring_new(size_t batches)
{
    struct ind_ring *ring = calloc(1, sizeof *ring);
    if (!ring || !(ring->full = calloc(batches, sizeof *ring->full))) {
        free(ring);
        return NULL;
    }
    pthread_condattr_t attributes;
    pthread_condattr_init(&attributes);
    pthread_condattr_setclock(&attributes, CLOCK_MONOTONIC);
    pthread_cond_init(&ring->changed, &attributes);
    pthread_condattr_destroy(&attributes);
    pthread_mutex_init(&ring->mutex, NULL);
    ring->room = batches;
    for (size_t i = 0; i < batches; i++) {
        struct ind_batch *batch = ind_batch_new();
        if (!batch) {
            ind_ring_free(ring);
            return NULL;
        }
        batch->next_free = ring->empty;
        ring->empty = batch;
    }
    return ring;
}

void ind_ring_free(struct ind_ring *ring)
{
    if (!ring)
        return;
    while (ring->empty) {
        struct ind_batch *next = ring->empty->next_free;
        ind_batch_free(ring->empty);
        ring->empty = next;
    }
    for (size_t i = 0; i < ring->count; i++)
        ind_batch_free(ring->full[(ring->first + i) % ring->room]);
    pthread_mutex_destroy(&ring->mutex);
    pthread_cond_destroy(&ring->changed);
    free(ring->full);
    free(ring);
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

struct ind_batch *ind_ring_empty(struct ind_ring *ring, int milliseconds)
{
    struct timespec until = deadline(milliseconds);
    pthread_mutex_lock(&ring->mutex);
    while (!ring->empty && pthread_cond_timedwait(&ring->changed, &ring->mutex, &until) == 0)
        ;
    struct ind_batch *batch = ring->empty;
    if (batch)
        ring->empty = batch->next_free;
    pthread_mutex_unlock(&ring->mutex);
    return batch;
}

void ind_ring_put(struct ind_ring *ring, struct ind_batch *batch)
{
    pthread_mutex_lock(&ring->mutex);
    ring->full[(ring->first + ring->count++) % ring->room] = batch;
    pthread_cond_broadcast(&ring->changed);
    pthread_mutex_unlock(&ring->mutex);
}

void ind_ring_end(struct ind_ring *ring)
{
    pthread_mutex_lock(&ring->mutex);
    ring->ended = true;
    pthread_cond_broadcast(&ring->changed);
    pthread_mutex_unlock(&ring->mutex);
}

struct ind_batch *ind_ring_take(struct ind_ring *ring, int milliseconds, bool *ended)
{
    struct timespec until = deadline(milliseconds);
    struct ind_batch *batch = NULL;
    pthread_mutex_lock(&ring->mutex);
    while (ring->count == 0 && !ring->ended &&
           pthread_cond_timedwait(&ring->changed, &ring->mutex, &until) == 0)
        ;
    if (ring->count > 0) {
        batch = ring->full[ring->first];
        ring->first = (ring->first + 1) % ring->room;
        ring->count--;
    }
    *ended = !batch && ring->ended;
    pthread_mutex_unlock(&ring->mutex);
    return batch;
}

void ind_ring_give_back(struct ind_ring *ring, struct ind_batch *batch)
{
    ind_batch_clear(batch);
    pthread_mutex_lock(&ring->mutex);
    batch->next_free = ring->empty;
    ring->empty = batch;
    pthread_cond_broadcast(&ring->changed);
    pthread_mutex_unlock(&ring->mutex);
}
