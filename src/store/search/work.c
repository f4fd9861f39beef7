/* The threads of a search, and the queue of what there is to read. */
#include "store/search/search_private.h"

#include "store/disk/reader.h"
#include <stdlib.h>

/* Bytes of a plain file that is one unit. */
enum { SHARE = 64 << 20 };

/* ---- The queue: a heap of units, the least `low` first ---- */

static bool before(const struct ind_search_unit *a, const struct ind_search_unit *b)
{
    return a->low != b->low ? a->low < b->low : a->file < b->file;
}

static void put(struct ind_search *search, struct ind_search_unit *unit) IND_REQUIRES(search->mutex)
{
    size_t i = search->queue_count++;
    for (; i > 0 && before(unit, search->queue[(i - 1) / 2]); i = (i - 1) / 2)
        search->queue[i] = search->queue[(i - 1) / 2];
    search->queue[i] = unit;
}

static struct ind_search_unit *take(struct ind_search *search) IND_REQUIRES(search->mutex)
{
    struct ind_search_unit **queue = search->queue, *first = queue[0], *moved;
    const size_t count = --search->queue_count;
    size_t i = 0;
    moved = queue[count];
    for (size_t child; (child = 2 * i + 1) < count; i = child) {
        child += child + 1 < count && before(queue[child + 1], queue[child]);
        if (!before(queue[child], moved))
            break;
        queue[i] = queue[child];
    }
    queue[i] = moved;
    return first;
}

/* Bytes of a file that is, by its looks, plain and large; 0: of all others. */
static uint64_t size_of(const struct ind_search_file *file)
{
    struct stat facts;
    if (file->stored)
        return file->stored->file >= 0 ? file->stored->size : 0;
    return file->path && strcmp(file->path, "-") != 0 &&
                   ind_compression_of(file->path) == IND_COMPRESS_NONE && stat(file->path, &facts) == 0 &&
                   S_ISREG(facts.st_mode)
               ? (uint64_t)facts.st_size
               : 0;
}

static size_t shares_of(const struct ind_search_file *file)
{
    return ind_search_is_self_timed(ind_search_stored(file)) ? 1 + (size_t)(size_of(file) / SHARE) : 1;
}

bool ind_search_queue(struct ind_search *search) IND_NOT_SHARED
{
    const struct ind_search_settings *settings = search->settings;
    size_t all = 0, *shares = calloc(settings->file_count + 1, sizeof *shares);
    for (size_t i = 0; shares && i < settings->file_count; i++)
        all += shares[i] = shares_of(&settings->files[i]);
    search->units = calloc(all + 1, sizeof *search->units);
    search->queue = calloc(all + 1, sizeof(struct ind_search_unit *));
    const bool good = shares && search->units && search->queue;
    for (size_t i = 0; good && i < settings->file_count; i++)
        for (size_t s = 0; s < shares[i]; s++) {
            struct ind_search_unit *unit = &search->units[search->unit_count++];
            *unit = (struct ind_search_unit){.file = i, .low = IND_KEY_LEAST, .from = s * (uint64_t)SHARE};
            unit->to = s + 1 < shares[i] ? unit->from + SHARE : UINT64_MAX;
            put(search, unit);
        }
    free(shares);
    atomic_store(&search->uncut, search->unit_count);
    return good;
}

ind_time ind_search_watermark(const struct ind_search *search)
{
    ind_time least = search->queue_count ? search->queue[0]->low : IND_KEY_MOST;
    for (size_t i = 0; i < search->worker_count; i++)
        if (search->workers[i].low < least)
            least = search->workers[i].low;
    return least;
}

/* ---- A thread ---- */

enum job { NOTHING_LEFT, LOOK, SCOUT, READ };

/* What is to be done next. Of a part that is read the unit goes back into the queue at once. */
static enum job next_job(struct ind_search_worker *worker, struct ind_search_unit **unit,
                         struct ind_search_part *part)
{
    struct ind_search *search = worker->search;
    enum job job = NOTHING_LEFT;
    ind_mutex_lock(&search->mutex);
    worker->low = IND_KEY_MOST;
    ind_condition_variable_signal(&search->found_there);
    while (search->queue_count == 0 && search->looking > 0 && !atomic_load(&search->stopped))
        ind_condition_variable_wait(&search->work_there, &search->mutex);
    if (search->queue_count > 0 && !atomic_load(&search->stopped)) {
        *unit = take(search);
        worker->low = (*unit)->low;
        if ((*unit)->cut == IND_NOT_CUT) {
            job = LOOK;
            search->looking++;
        } else if ((*unit)->cut == IND_CUT_IN_RANGES && !(*unit)->scouted && search->scout) {
            job = SCOUT;
            search->looking++;
        } else {
            job = READ;
            *part = (*unit)->parts[(*unit)->next++];
            (*unit)->low =
                (*unit)->next < (*unit)->part_count ? (*unit)->parts[(*unit)->next].low : IND_KEY_MOST;
            if ((*unit)->next < (*unit)->part_count)
                put(search, *unit);
            else if ((*unit)->cut == IND_CUT_IN_RANGES && !(*unit)->scouted)
                search->unscouted--;
        }
    }
    ind_mutex_unlock(&search->mutex);
    return job;
}

/* A unit that has been looked into, or scouted. */
static void put_back(struct ind_search *search, struct ind_search_unit *unit, bool scouted)
{
    ind_mutex_lock(&search->mutex);
    search->looking--;
    if (scouted)
        search->unscouted--;
    else if (unit->cut == IND_CUT_IN_RANGES && unit->part_count)
        search->unscouted++;
    if (unit->next < unit->part_count)
        put(search, unit);
    ind_condition_variable_broadcast(&search->work_there);
    ind_condition_variable_signal(&search->found_there);
    ind_mutex_unlock(&search->mutex);
}

static void do_job(struct ind_search_worker *worker, enum job job, struct ind_search_unit *unit,
                   const struct ind_search_part *part)
{
    const bool opened = ind_search_open(worker, unit);
    if (job == READ) {
        if (opened)
            ind_search_read_part(worker, unit, part);
        ind_search_hand_over(worker, true);
        return;
    }
    if (job == LOOK)
        atomic_fetch_sub(&worker->search->uncut, 1);
    if (job == LOOK && opened)
        worker->failed |= !ind_search_cut(worker, unit);
    else if (job == SCOUT && opened)
        ind_search_scout(worker, unit);
    else
        unit->scouted = true; /* gone meanwhile: it is tried once more when it is read */
    put_back(worker->search, unit, job == SCOUT);
}

void *ind_search_work(void *argument)
{
    struct ind_search_worker *worker = argument;
    struct ind_search *search = worker->search;
    struct ind_search_unit *unit = NULL;
    struct ind_search_part part;
    enum job job;
    while (!worker->failed && (job = next_job(worker, &unit, &part)) != NOTHING_LEFT)
        do_job(worker, job, unit, &part);
    ind_search_close(worker);
    if (worker->failed)
        ind_search_stop(search);
    ind_mutex_lock(&search->mutex);
    worker->low = IND_KEY_MOST;
    search->working--;
    ind_condition_variable_signal(&search->found_there);
    ind_mutex_unlock(&search->mutex);
    return NULL;
}
