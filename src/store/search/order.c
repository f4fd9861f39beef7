/* What is found, given away in order: as soon as nothing that is not read yet can come before it. */
#include "store/search/search_private.h"

#include <errno.h>
#include <stdlib.h>

/* BUDGET: bytes that wait in memory before some go to a file; SCOUT: before the times of lines are looked at
 * beforehand; ASK: milliseconds between two looks whether
 * anybody still wants what is found; BATCH: lines given before what has come meanwhile is taken in. */
enum { BUDGET = 40 << 20, SCOUT = 4 << 20, ASK = 100, BATCH = 4096 };

struct giving {
    struct ind_search *search;
    struct ind_search_result *result;
    struct ind_merge *merge;
    struct ind_once *once;
    struct ind_around *around;
    bool enough;
};

/* A line without its mark, or a key of a group. */
static bool give_line(struct giving *giving, const struct ind_found_line *found)
{
    const struct ind_search_settings *settings = giving->search->settings;
    struct ind_slice line = found->line;
    if (giving->once) {
        struct ind_once_mark mark;
        memcpy(&mark, line.at, sizeof mark);
        line = ind_slice_from(line, sizeof mark);
        if (!ind_once_is_first(giving->once, found->key, &mark, &giving->result->failed)) {
            giving->result->copies++;
            return !giving->result->failed;
        }
    }
    if (giving->around) {
        struct ind_around_mark mark;
        memcpy(&mark, line.at, sizeof mark);
        return ind_around_take(giving->around, &mark, ind_slice_from(line, sizeof mark), settings->write,
                               settings->context, &giving->result->failed);
    }
    if (settings->by_count && giving->search->measures) {
        struct ind_measured measured;
        memcpy(&measured, line.at, sizeof measured);
        ind_groups_add(&giving->search->groups, ind_slice_from(line, sizeof measured), 1, &measured);
    } else if (settings->by_count) {
        ind_groups_add(&giving->search->groups, line, 1, NULL);
    }
    if (!settings->by_count && !settings->count_only && settings->write)
        return settings->write(settings->context, line);
    return true;
}

/* Takes over what the workers have handed over. */
static bool take_in(struct ind_search *search, struct ind_merge *merge) IND_REQUIRES(search->mutex)
{
    bool good = true;
    for (size_t i = 0; i < search->inbox_count; i++)
        good &= ind_merge_take(merge, search->inbox[i]);
    search->inbox_count = 0;
    return good;
}

/* Whoever waits for room is told of what there is. */
static void settle(struct giving *giving, size_t before)
{
    struct ind_search *search = giving->search;
    const size_t now = ind_merge_size(giving->merge);
    if (now == before)
        return;
    ind_mutex_lock(&search->mutex);
    search->pending -= before - now;
    ind_condition_variable_broadcast(&search->room_there);
    ind_mutex_unlock(&search->mutex);
}

/* All that is before the watermark, or a batch of it. */
static void give_some(struct giving *giving, ind_time watermark, bool all)
{
    const struct ind_found_line *first;
    const size_t before = ind_merge_size(giving->merge);
    for (size_t i = 0; i < BATCH && !giving->enough; i++) {
        first = ind_merge_first(giving->merge);
        if (!first || (!all && first->key >= watermark))
            break;
        giving->enough = !give_line(giving, first);
        if (!giving->enough && !ind_merge_next(giving->merge)) {
            giving->result->spill_error = errno;
            giving->result->failed = giving->enough = true;
        }
    }
    settle(giving, before);
}

static void spill(struct giving *giving)
{
    const size_t before = ind_merge_size(giving->merge);
    if (!ind_merge_spill(giving->merge)) {
        giving->result->spill_error = errno;
        giving->result->failed = giving->enough = true;
    }
    settle(giving, before);
}

enum next { GIVE, SPILL, DONE, WAIT, AGAIN };

/* What can be done now. */
static enum next what_next(struct giving *giving, ind_time *watermark, bool *all)
{
    struct ind_search *search = giving->search;
    enum next next = AGAIN;
    ind_mutex_lock(&search->mutex);
    if (!take_in(search, giving->merge))
        giving->result->failed = giving->enough = true;
    *watermark = ind_search_watermark(search);
    const bool finished = search->working == 0;
    *all = finished || search->settings->any_order;
    const struct ind_found_line *first = ind_merge_first(giving->merge);
    const bool full = ind_merge_size(giving->merge) > BUDGET;
    if (first && (*all || first->key < *watermark)) {
        next = GIVE;
    } else if (finished) {
        next = DONE;
    } else if (ind_merge_size(giving->merge) > SCOUT && search->unscouted > 0 && !search->scout) {
        search->scout = true; /* a look at all times tells what can be given already */
        ind_condition_variable_broadcast(&search->work_there);
    } else if (full && (search->unscouted == 0 || search->waiting > 0)) {
        next = SPILL;
    } else {
        next = WAIT;
    }
    ind_mutex_unlock(&search->mutex);
    return next;
}

/* False where nobody wants more. */
static bool wait(struct ind_search *search)
{
    const struct ind_search_settings *settings = search->settings;
    if (settings->pause && !settings->pause(settings->context))
        return false;
    const struct timespec deadline = ind_deadline(ASK);
    ind_mutex_lock(&search->mutex);
    if (search->inbox_count == 0 && search->working > 0)
        (void)ind_condition_variable_wait_until(&search->found_there, &search->mutex, &deadline);
    ind_mutex_unlock(&search->mutex);
    return true;
}

/* Lines for people: an empty one says that something is left out between two. */
static bool is_text(const struct ind_search_settings *settings)
{
    return !settings->column_count && !settings->line &&
           (settings->layout == IND_LAYOUT_PLAIN || settings->layout == IND_LAYOUT_RFC5424);
}

void ind_search_give(struct ind_search *search, struct ind_search_result *result)
{
    struct giving giving = {.search = search, .result = result};
    bool all = false;
    ind_time watermark = IND_KEY_LEAST;
    giving.merge = ind_merge_new(search->settings->temporary);
    giving.once = search->settings->once ? ind_once_new() : NULL;
    if (search->settings->context_lines)
        giving.around = ind_around_new(search->settings->context_lines, is_text(search->settings));
    giving.enough = result->failed = !giving.merge || (search->settings->once && !giving.once) ||
                                     (search->settings->context_lines && !giving.around);
    while (!giving.enough) {
        const enum next next = what_next(&giving, &watermark, &all);
        if (next == DONE)
            break;
        if (next == GIVE)
            give_some(&giving, watermark, all);
        else if (next == SPILL)
            spill(&giving);
        else if (next == WAIT)
            giving.enough |= !wait(search);
    }
    if (giving.enough)
        ind_search_stop(search);
    result->context_cut = giving.around && ind_around_forgot(giving.around);
    ind_around_free(giving.around);
    ind_once_free(giving.once);
    ind_merge_free(giving.merge);
}
