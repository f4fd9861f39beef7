#include "collect/tap.h"

#include <pthread.h>
#include <stdatomic.h>
#include <stdlib.h>

enum { ROOM = 4 << 20 };

struct ind_tap {
    void (*knock)(void *context);
    void *context;
    atomic_int followers;
    pthread_mutex_t mutex;
    char *filling, *spare;
    size_t used;
    uint64_t skipped;
};

struct ind_tap *ind_tap_new(void (*knock)(void *context), void *context)
{
    struct ind_tap *tap = calloc(1, sizeof *tap);
    if (!tap)
        return NULL;
    pthread_mutex_init(&tap->mutex, NULL);
    tap->knock = knock;
    tap->context = context;
    tap->filling = malloc(ROOM); /* what nobody writes to takes no memory */
    tap->spare = malloc(ROOM);
    if (tap->filling && tap->spare)
        return tap;
    ind_tap_free(tap);
    return NULL;
}

void ind_tap_free(struct ind_tap *tap)
{
    if (!tap)
        return;
    pthread_mutex_destroy(&tap->mutex);
    free(tap->filling);
    free(tap->spare);
    free(tap);
}

void ind_tap_open(struct ind_tap *tap, bool open)
{
    if (atomic_fetch_add(&tap->followers, open ? 1 : -1) == 0 && open) {
        pthread_mutex_lock(&tap->mutex);
        tap->used = 0; /* left over from those who followed before */
        tap->skipped = 0;
        pthread_mutex_unlock(&tap->mutex);
    }
}

bool ind_tap_is_open(const struct ind_tap *tap)
{
    return atomic_load_explicit(&tap->followers, memory_order_relaxed) > 0;
}

void ind_tap_offer(struct ind_tap *tap, const struct ind_record *record, const char *bytes)
{
    if (atomic_load_explicit(&tap->followers, memory_order_relaxed) == 0)
        return;
    size_t size = ind_record_size(record->length);
    pthread_mutex_lock(&tap->mutex);
    bool first = tap->used == 0;
    if (ROOM - tap->used >= size) {
        memcpy(tap->filling + tap->used, record, sizeof *record);
        memcpy(tap->filling + tap->used + sizeof *record, bytes, record->length);
        tap->used += size;
    } else {
        tap->skipped++;
    }
    pthread_mutex_unlock(&tap->mutex);
    if (first)
        tap->knock(tap->context);
}

uint64_t ind_tap_take(struct ind_tap *tap,
                      void (*take)(void *context, const struct ind_record *record, const char *bytes),
                      void *context)
{
    pthread_mutex_lock(&tap->mutex);
    char *full = tap->filling;
    size_t used = tap->used;
    uint64_t skipped = tap->skipped;
    tap->filling = tap->spare;
    tap->spare = full;
    tap->used = 0;
    tap->skipped = 0;
    pthread_mutex_unlock(&tap->mutex);
    for (size_t at = 0; at < used;) {
        const struct ind_record *record = (const struct ind_record *)(const void *)(full + at);
        take(context, record, full + at + sizeof *record);
        at += ind_record_size(record->length);
    }
    return skipped;
}
