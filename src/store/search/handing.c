/* How threads hand over what they have found. */
#include "store/search/search_private.h"

#include <stdlib.h>

/* RUN: bytes of a run that is handed over; MOST_PENDING: of all that wait, before threads pause. */
enum { RUN = 4 << 20, MOST_PENDING = 64 << 20 };

void ind_search_stop(struct ind_search *search)
{
    atomic_store(&search->stopped, true);
    ind_mutex_lock(&search->mutex);
    ind_condition_variable_broadcast(&search->work_there);
    ind_condition_variable_broadcast(&search->room_there);
    ind_condition_variable_broadcast(&search->found_there);
    ind_mutex_unlock(&search->mutex);
}

static bool add_run(struct ind_search *search, struct ind_run *run) IND_REQUIRES(search->mutex)
{
    if (search->inbox_count == search->inbox_room) {
        const size_t room = search->inbox_room ? search->inbox_room * 2 : 64;
        struct ind_run **grown = realloc(search->inbox, room * sizeof(struct ind_run *));
        if (!grown)
            return false;
        search->inbox = grown;
        search->inbox_room = room;
    }
    search->inbox[search->inbox_count++] = run;
    return true;
}

void ind_search_hand_over(struct ind_search_worker *worker, bool all)
{
    struct ind_search *search = worker->search;
    struct ind_run *run = worker->run;
    if (!run || ind_run_size(run) == 0 || (!all && ind_run_size(run) < RUN))
        return;
    ind_run_sort(run);
    worker->run = NULL;
    ind_mutex_lock(&search->mutex);
    search->pending += ind_run_size(run);
    if (!add_run(search, run)) {
        worker->failed = true;
        ind_run_free(run);
    }
    ind_condition_variable_signal(&search->found_there);
    search->waiting++;
    while (search->pending > MOST_PENDING && !atomic_load(&search->stopped))
        ind_condition_variable_wait(&search->room_there, &search->mutex);
    search->waiting--;
    ind_mutex_unlock(&search->mutex);
}

void ind_search_join_groups(struct ind_search_worker *worker)
{
    ind_mutex_lock(&worker->search->mutex);
    ind_groups_join(&worker->search->groups, &worker->groups);
    ind_mutex_unlock(&worker->search->mutex);
}
