#include "collect/input/admission.h"

#include "thread/mutex.h"
#include <stdlib.h>
#include <uthash.h>

struct address_entry {
    UT_hash_handle hh;
    struct ind_address address;
    size_t count;
};

struct ind_admission {
    atomic_size_t held; /* bytes of half messages: each receiver adds its connections', any may read */
    struct ind_mutex mutex;
    struct address_entry *addresses IND_GUARDED_BY(mutex);
    size_t count IND_GUARDED_BY(mutex);
    size_t most IND_GUARDED_BY(mutex), most_per_address IND_GUARDED_BY(mutex);
};

struct ind_admission *ind_admission_new(void)
{
    struct ind_admission *admission = calloc(1, sizeof *admission);
    if (!admission)
        return NULL;
    ind_mutex_begin(&admission->mutex);
    return admission;
}

void ind_admission_set_limits(struct ind_admission *admission, const struct ind_limits *limits, size_t most)
{
    uint64_t each = ind_limits_per_address(limits);
    ind_mutex_lock(&admission->mutex);
    admission->most = limits->connections < most ? (size_t)limits->connections : most;
    /* However few there can be, one address does not have them all, unless the configuration says so. */
    if (!limits->per_address && each > (admission->most + 1) / 2)
        each = (admission->most + 1) / 2;
    admission->most_per_address = (size_t)each;
    ind_mutex_unlock(&admission->mutex);
}

IND_NOT_SHARED void ind_admission_free(struct ind_admission *admission)
{
    struct address_entry *address_entry, *next;
    if (!admission)
        return;
    HASH_ITER(hh, admission->addresses, address_entry, next)
    {
        HASH_DEL(admission->addresses, address_entry);
        free(address_entry);
    }
    ind_mutex_end(&admission->mutex);
    free(admission);
}

bool ind_admission_enter(struct ind_admission *admission, const struct ind_address *address)
{
    struct address_entry *address_entry;
    ind_mutex_lock(&admission->mutex);
    HASH_FIND(hh, admission->addresses, address, sizeof *address, address_entry);
    bool good = admission->count < admission->most &&
                (!address_entry || address_entry->count < admission->most_per_address);
    if (good && !address_entry && (address_entry = calloc(1, sizeof *address_entry))) {
        address_entry->address = *address;
        HASH_ADD(hh, admission->addresses, address, sizeof address_entry->address, address_entry);
    }
    good = good && address_entry;
    if (good) {
        address_entry->count++;
        admission->count++;
    }
    ind_mutex_unlock(&admission->mutex);
    return good;
}

void ind_admission_leave(struct ind_admission *admission, const struct ind_address *address)
{
    struct address_entry *address_entry;
    ind_mutex_lock(&admission->mutex);
    HASH_FIND(hh, admission->addresses, address, sizeof *address, address_entry);
    if (address_entry) {
        admission->count--;
        if (--address_entry->count == 0) {
            HASH_DEL(admission->addresses, address_entry);
            free(address_entry);
        }
    }
    ind_mutex_unlock(&admission->mutex);
}

size_t ind_admission_held(struct ind_admission *admission)
{
    return atomic_load_explicit(&admission->held, memory_order_relaxed);
}

void ind_admission_count_held(struct ind_admission *admission, size_t before, size_t after)
{
    atomic_fetch_add_explicit(&admission->held, after - before, memory_order_relaxed);
}
