#define _DEFAULT_SOURCE /* madvise */
#include "collect/queue/burst.h"

#include "thread/mutex.h"
#include <stdlib.h>
#include <sys/mman.h>

/* Empty slabs that keep their memory, so that ordinary days ask the kernel for none. */
enum { KEPT_WARM = 4 };

struct slab {
    struct slab *next;
    size_t used, read;
    char *bytes;
    bool touched; /* its memory is in use */
};

struct ind_slabs {
    char *memory;
    struct slab *all;
    size_t count;
    struct ind_mutex mutex;
    struct slab *free IND_GUARDED_BY(mutex); /* slabs in no list belong to the thread that took them */
    size_t left IND_GUARDED_BY(mutex);
    size_t most_used IND_GUARDED_BY(mutex); /* since the last trim */
};

IND_NOT_SHARED struct ind_slabs *ind_slabs_new(uint64_t bytes, unsigned users)
{
    struct ind_slabs *slabs = calloc(1, sizeof *slabs);
    size_t count = (size_t)(bytes / IND_SLAB_BYTES);
    if (!slabs)
        return NULL;
    slabs->count = count > users ? count : users + 1;
    slabs->memory = malloc(slabs->count * IND_SLAB_BYTES); /* what is not written to takes no memory */
    slabs->all = calloc(slabs->count, sizeof *slabs->all);
    ind_mutex_begin(&slabs->mutex);
    if (!slabs->memory || !slabs->all) {
        ind_slabs_free(slabs);
        return NULL;
    }
    for (size_t i = slabs->count; i-- > 0;) {
        slabs->all[i] = (struct slab){slabs->free, 0, 0, slabs->memory + i * IND_SLAB_BYTES, false};
        slabs->free = &slabs->all[i];
    }
    slabs->left = slabs->count;
    return slabs;
}

void ind_slabs_free(struct ind_slabs *slabs)
{
    if (!slabs)
        return;
    ind_mutex_end(&slabs->mutex);
    free(slabs->memory);
    free(slabs->all);
    free(slabs);
}

size_t ind_slabs_left(struct ind_slabs *slabs)
{
    ind_mutex_lock(&slabs->mutex);
    size_t left = slabs->left;
    ind_mutex_unlock(&slabs->mutex);
    return left;
}

size_t ind_slabs_count(const struct ind_slabs *slabs)
{
    return slabs->count;
}

static struct slab *acquire_slab(struct ind_slabs *slabs)
{
    ind_mutex_lock(&slabs->mutex);
    struct slab *slab = slabs->free;
    if (slab) {
        slabs->free = slab->next;
        slabs->left--;
        slab->next = NULL;
        slab->used = slab->read = 0;
        slab->touched = true;
        if (slabs->count - slabs->left > slabs->most_used)
            slabs->most_used = slabs->count - slabs->left;
    }
    ind_mutex_unlock(&slabs->mutex);
    return slab;
}

static void give_back(struct ind_slabs *slabs, struct slab *slab)
{
    ind_mutex_lock(&slabs->mutex);
    slab->next = slabs->free;
    slabs->free = slab;
    slabs->left++;
    ind_mutex_unlock(&slabs->mutex);
}

static struct slab *unlink_unneeded(struct ind_slabs *slabs) IND_REQUIRES(slabs->mutex);

/* The last in the list are those that were not needed for the longest time. */
static struct slab *unlink_unneeded(struct ind_slabs *slabs)
{
    struct slab **link = &slabs->free, **found = NULL;
    size_t before = slabs->count - slabs->left;
    for (; *link; link = &(*link)->next, before++)
        if ((*link)->touched && before >= KEPT_WARM)
            found = link;
    struct slab *slab = found ? *found : NULL;
    if (slab) {
        *found = slab->next;
        slabs->left--;
    }
    return slab;
}

/* A few at a time: after a burst there is no hurry. */
void ind_slabs_trim(struct ind_slabs *slabs)
{
#ifdef MADV_DONTNEED
    enum { AT_A_TIME = 8, PAGE = 4096 };
    for (int i = 0; i < AT_A_TIME; i++) {
        ind_mutex_lock(&slabs->mutex);
        bool quiet = slabs->most_used == slabs->count - slabs->left;
        slabs->most_used = slabs->count - slabs->left;
        struct slab *slab = quiet ? unlink_unneeded(slabs) : NULL;
        ind_mutex_unlock(&slabs->mutex);
        if (!slab)
            return;
        /* While it is in no list nobody else has it. */
        size_t start = ((size_t)(uintptr_t)slab->bytes + PAGE - 1) / PAGE * PAGE;
        (void)madvise((void *)(uintptr_t)start, IND_SLAB_BYTES - PAGE, MADV_DONTNEED);
        ind_mutex_lock(&slabs->mutex);
        slab->touched = false;
        struct slab **link = &slabs->free;
        while (*link)
            link = &(*link)->next;
        slab->next = NULL;
        *link = slab;
        slabs->left++;
        ind_mutex_unlock(&slabs->mutex);
    }
#else
    (void)slabs;
#endif
}

struct ind_burst {
    struct ind_slabs *slabs;
    struct slab *first, *last;
};

struct ind_burst *ind_burst_new(struct ind_slabs *slabs)
{
    struct ind_burst *burst = calloc(1, sizeof *burst);
    if (burst)
        burst->slabs = slabs;
    return burst;
}

void ind_burst_free(struct ind_burst *burst)
{
    while (burst && burst->first) {
        struct slab *slab = burst->first;
        burst->first = slab->next;
        give_back(burst->slabs, slab);
    }
    free(burst);
}

char *ind_burst_add(struct ind_burst *burst, const struct ind_record *record)
{
    size_t size = ind_record_size(record);
    struct slab *slab = burst->last;
    if (!slab || IND_SLAB_BYTES - slab->used < size) {
        slab = acquire_slab(burst->slabs);
        if (!slab)
            return NULL;
        if (burst->last)
            burst->last->next = slab;
        else
            burst->first = slab;
        burst->last = slab;
    }
    char *at = slab->bytes + slab->used;
    memcpy(at, record, sizeof *record);
    slab->used += size;
    return at + sizeof *record;
}

bool ind_burst_has_room(const struct ind_burst *burst, size_t bytes)
{
    return (burst->last && IND_SLAB_BYTES - burst->last->used >= bytes) ||
           (bytes <= IND_SLAB_BYTES && ind_slabs_left(burst->slabs) > 0);
}

bool ind_burst_idle(struct ind_burst *burst)
{
    if (!burst->last)
        burst->first = burst->last = acquire_slab(burst->slabs);
    return burst->last && burst->first == burst->last && burst->last->used == 0;
}

const struct ind_record *ind_burst_first(const struct ind_burst *burst, const char **bytes)
{
    const struct slab *slab = burst->first;
    if (!slab || slab->read == slab->used)
        return NULL;
    const struct ind_record *record = (const struct ind_record *)(const void *)(slab->bytes + slab->read);
    *bytes = (const char *)(record + 1) + record->certificate;
    return record;
}

const struct ind_record *ind_burst_behind(const struct ind_burst *burst, const struct ind_record *record)
{
    const struct slab *slab = burst->first;
    const char *next = (const char *)record + ind_record_size(record);
    return next < slab->bytes + slab->used ? (const struct ind_record *)(const void *)next : NULL;
}

/* The last slab is begun anew rather than given back: few messages need one slab only. */
void ind_burst_drop(struct ind_burst *burst)
{
    struct slab *slab = burst->first;
    const char *bytes;
    slab->read += ind_record_size(ind_burst_first(burst, &bytes));
    if (slab->read < slab->used)
        return;
    if (slab == burst->last) {
        slab->read = slab->used = 0;
        return;
    }
    burst->first = slab->next;
    give_back(burst->slabs, slab);
}
