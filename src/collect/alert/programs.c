#include "collect/alert/programs.h"

#include "thread/mutex.h"

#include <stdlib.h>
#include <string.h>
#include <unistd.h>

enum { WAITING = 256 };

struct ind_programs {
    struct ind_spawner *spawner;
    struct ind_mutex mutex;
    uint32_t last IND_GUARDED_BY(mutex);
    /* News that others are to hear, the oldest first. */
    struct ind_spawner_event waiting[WAITING] IND_GUARDED_BY(mutex);
    size_t count IND_GUARDED_BY(mutex);
};

struct ind_programs *ind_programs_new(struct ind_spawner *spawner)
{
    struct ind_programs *programs = calloc(1, sizeof *programs);
    if (!programs)
        return NULL;
    programs->spawner = spawner;
    ind_mutex_begin(&programs->mutex);
    return programs;
}

static void let_go(const struct ind_spawner_event *event)
{
    if (event->kind == IND_SPAWNER_STARTED && event->fd >= 0)
        close(event->fd);
}

IND_NOT_SHARED void ind_programs_free(struct ind_programs *programs)
{
    if (!programs)
        return;
    for (size_t i = 0; i < programs->count; i++)
        let_go(&programs->waiting[i]);
    ind_mutex_end(&programs->mutex);
    free(programs);
}

uint32_t ind_programs_start(struct ind_programs *programs, char *const *program)
{
    uint32_t id = 0;
    ind_mutex_lock(&programs->mutex);
    if (programs->spawner && ind_spawner_start(programs->spawner, programs->last + 1, program))
        id = ++programs->last;
    ind_mutex_unlock(&programs->mutex);
    return id;
}

static void take_out(struct ind_programs *programs, size_t place) IND_REQUIRES(programs->mutex)
{
    programs->count--;
    memmove(&programs->waiting[place], &programs->waiting[place + 1],
            (programs->count - place) * sizeof *programs->waiting);
}

/* The oldest of those for whom nobody asks any more makes room. */
static void keep(struct ind_programs *programs, const struct ind_spawner_event *event)
    IND_REQUIRES(programs->mutex)
{
    if (programs->count == WAITING) {
        let_go(&programs->waiting[0]);
        take_out(programs, 0);
    }
    programs->waiting[programs->count++] = *event;
}

bool ind_programs_next(struct ind_programs *programs, uint32_t id, struct ind_spawner_event *event)
{
    bool found = false;
    ind_mutex_lock(&programs->mutex);
    struct ind_spawner_event next = {.fd = -1};
    while (programs->spawner && ind_spawner_next(programs->spawner, &next)) {
        keep(programs, &next);
        next = (struct ind_spawner_event){.fd = -1};
    }
    for (size_t i = 0; i < programs->count && !found; i++)
        if (programs->waiting[i].id == id) {
            *event = programs->waiting[i];
            take_out(programs, i);
            found = true;
        }
    ind_mutex_unlock(&programs->mutex);
    return found;
}

void ind_programs_stop(struct ind_programs *programs, uint32_t id)
{
    ind_mutex_lock(&programs->mutex);
    if (programs->spawner)
        ind_spawner_stop(programs->spawner, id);
    ind_mutex_unlock(&programs->mutex);
}
