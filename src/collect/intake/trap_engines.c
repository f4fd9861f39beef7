#include "collect/intake/trap_engines.h"

#include "thread/mutex.h"

#include <stdlib.h>
#include <xxhash.h>

enum { INFORMS = 1024, WAYS = 8, ANSWERED_FOR = 60 /* seconds */ };

struct inform {
    uint64_t hash;
    struct ind_steady at;
};

/* Sets of a few engines each, by a hash of the id: no search is long, and no stranger makes it so. */
struct ind_trap_engines {
    struct ind_own_engine own;
    struct ind_mutex mutex;
    struct ind_usm_engine list[IND_TRAP_ENGINES / WAYS][WAYS] IND_GUARDED_BY(mutex);
    struct inform informs[INFORMS] IND_GUARDED_BY(mutex);
};

IND_NOT_SHARED struct ind_trap_engines *ind_trap_engines_new(void)
{
    struct ind_trap_engines *engines = calloc(1, sizeof *engines); /* what nobody needs takes no memory */
    if (!engines)
        return NULL;
    ind_mutex_begin(&engines->mutex);
    return engines;
}

void ind_trap_engines_begin(struct ind_trap_engines *engines, const struct ind_own_engine *own)
{
    engines->own = *own;
}

IND_NOT_SHARED void ind_trap_engines_free(struct ind_trap_engines *engines)
{
    if (!engines)
        return;
    ind_mutex_end(&engines->mutex);
    free(engines);
}

const struct ind_own_engine *ind_trap_engines_own(const struct ind_trap_engines *engines)
{
    return &engines->own;
}

/* The engine of that id in its set, or the place of the one heard longest ago, made its own. */
static struct ind_usm_engine *find(struct ind_usm_engine *set, struct ind_slice id)
{
    struct ind_usm_engine *oldest = &set[0];
    for (size_t i = 0; i < WAYS; i++) {
        if (set[i].id_length == id.length && memcmp(set[i].id, id.at, id.length) == 0)
            return &set[i];
        if (!set[i].known || (oldest->known && ind_steady_from(set[i].at, oldest->at) > 0))
            oldest = &set[i];
    }
    *oldest = (struct ind_usm_engine){.id_length = (uint8_t)id.length};
    memcpy(oldest->id, id.at, id.length);
    return oldest;
}

enum ind_trap_fault ind_trap_engines_ask(struct ind_trap_engines *engines, const struct ind_usm *usm,
                                         struct ind_steady now)
{
    const uint64_t hash = XXH3_64bits(usm->engine.at, usm->engine.length);
    if (usm->engine.length == 0)
        return IND_TRAP_ENGINE;
    ind_mutex_lock(&engines->mutex);
    const enum ind_trap_fault fault =
        ind_usm_window(find(engines->list[hash % (IND_TRAP_ENGINES / WAYS)], usm->engine), usm, now);
    ind_mutex_unlock(&engines->mutex);
    return fault;
}

bool ind_trap_engines_seen(struct ind_trap_engines *engines, uint64_t hash, struct ind_steady now)
{
    ind_mutex_lock(&engines->mutex);
    struct inform *inform = &engines->informs[hash % INFORMS];
    const bool seen = inform->hash == hash && ind_steady_lately(inform->at, now, ANSWERED_FOR * IND_SECOND);
    *inform = (struct inform){hash, now};
    ind_mutex_unlock(&engines->mutex);
    return seen;
}
