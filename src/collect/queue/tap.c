#include "collect/queue/tap.h"

#include "thread/mutex.h"
#include <stdatomic.h>
#include <stdlib.h>

enum { ROOM = 4 << 20 };

struct ind_tap {
    const struct ind_waker *waker;          /* of those who follow */
    atomic_int followers;                   /* changed by their thread; receivers ask whether there is one */
    _Atomic uint64_t wanted[IND_PRI_WORDS]; /* likewise; a bit for each PRI */
    struct ind_mutex mutex;
    char *filling IND_GUARDED_BY(mutex),
        *spare IND_GUARDED_BY(mutex); /* what was `filling` is read without it */
    size_t used IND_GUARDED_BY(mutex);
    uint64_t skipped IND_GUARDED_BY(mutex);
};

IND_NOT_SHARED struct ind_tap *ind_tap_new(const struct ind_waker *waker)
{
    struct ind_tap *tap = calloc(1, sizeof *tap);
    if (!tap)
        return NULL;
    ind_mutex_begin(&tap->mutex);
    tap->waker = waker;
    for (int i = 0; i < IND_PRI_WORDS; i++)
        atomic_store(&tap->wanted[i], UINT64_MAX);
    tap->filling = malloc(ROOM); /* what nobody writes to takes no memory */
    tap->spare = malloc(ROOM);
    if (tap->filling && tap->spare)
        return tap;
    ind_tap_free(tap);
    return NULL;
}

IND_NOT_SHARED void ind_tap_free(struct ind_tap *tap)
{
    if (!tap)
        return;
    ind_mutex_end(&tap->mutex);
    free(tap->filling);
    free(tap->spare);
    free(tap);
}

void ind_tap_open(struct ind_tap *tap, bool open)
{
    if (atomic_fetch_add(&tap->followers, open ? 1 : -1) == 0 && open) {
        ind_mutex_lock(&tap->mutex);
        tap->used = 0; /* left over from those who followed before */
        tap->skipped = 0;
        ind_mutex_unlock(&tap->mutex);
    }
}

void ind_tap_want(struct ind_tap *tap, const struct ind_pris *pris)
{
    for (int i = 0; i < IND_PRI_WORDS; i++)
        atomic_store_explicit(&tap->wanted[i], pris->bits[i], memory_order_relaxed);
}

bool ind_tap_wants(const struct ind_tap *tap, unsigned pri)
{
    return atomic_load_explicit(&tap->wanted[pri / 64], memory_order_relaxed) >> pri % 64 & 1;
}

bool ind_tap_is_open(const struct ind_tap *tap)
{
    return atomic_load_explicit(&tap->followers, memory_order_relaxed) > 0;
}

void ind_tap_offer(struct ind_tap *tap, const struct ind_record *record, const char *certificate,
                   const char *bytes)
{
    if (atomic_load_explicit(&tap->followers, memory_order_relaxed) == 0)
        return;
    size_t size = ind_record_size(record);
    ind_mutex_lock(&tap->mutex);
    bool first = tap->used == 0;
    if (ROOM - tap->used >= size) {
        char *at = tap->filling + tap->used;
        memcpy(at, record, sizeof *record);
        if (record->certificate)
            memcpy(at + sizeof *record, certificate, record->certificate);
        memcpy(at + sizeof *record + record->certificate, bytes, record->length);
        tap->used += size;
    } else {
        tap->skipped++;
    }
    ind_mutex_unlock(&tap->mutex);
    if (first)
        ind_waker_wake(tap->waker);
}

uint64_t ind_tap_read(struct ind_tap *tap,
                      void (*visit)(void *context, const struct ind_record *record, const char *bytes),
                      void *context)
{
    ind_mutex_lock(&tap->mutex);
    char *full = tap->filling;
    size_t used = tap->used;
    uint64_t skipped = tap->skipped;
    tap->filling = tap->spare;
    tap->spare = full;
    tap->used = 0;
    tap->skipped = 0;
    ind_mutex_unlock(&tap->mutex);
    for (size_t at = 0; at < used;) {
        const struct ind_record *record = (const struct ind_record *)(const void *)(full + at);
        visit(context, record, full + at + sizeof *record + record->certificate);
        at += ind_record_size(record);
    }
    return skipped;
}
