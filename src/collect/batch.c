#include "collect/batch.h"

#include "collect/book.h"
#include "collect/clock.h"
#include "collect/takers.h"
#include <stdlib.h>

struct ind_batch *ind_batch_new(void)
{
    struct ind_batch *batch = calloc(1, sizeof *batch);
    if (batch && (batch->arena = malloc(IND_BATCH_BYTES)))
        return batch;
    free(batch);
    return NULL;
}

void ind_batch_free(struct ind_batch *batch)
{
    if (!batch)
        return;
    free(batch->arena);
    free(batch);
}

void ind_batch_clear(struct ind_batch *batch)
{
    if (batch->group_count)
        memset(batch->slots, 0, sizeof batch->slots);
    batch->used = batch->line_count = batch->group_count = 0;
    batch->copies_count = batch->tally_count = batch->edit_tally_count = 0;
    batch->round = 0;
    batch->stored_groups = 0;
    batch->within = batch->booked = batch->last_of_turn = false;
}

/* Lines of a group lie apart, and were written by another processor: the next is asked for while this one is
 * copied. */
static void prefetch_next(const struct ind_batch *batch, const struct ind_batch_line *line)
{
#if defined(__GNUC__) || defined(__clang__)
    if (!line->next)
        return;
    const struct ind_batch_line *next = &batch->lines[line->next - 1];
    for (uint32_t at = 0; at < next->length && at < 512; at += 64)
        __builtin_prefetch(batch->arena + next->offset + at);
    if (next->next)
        __builtin_prefetch(&batch->lines[next->next - 1]);
#else
    (void)batch;
    (void)line;
#endif
}

/* From the first line that has not been passed on yet. */
static void begin_group(struct ind_batch *batch, const struct ind_batch_group *group)
{
    if (!batch->within)
        batch->next_line = group->first;
    batch->within = true;
}

static enum ind_batch_stored store_group(struct ind_batch *batch, const struct ind_batch_group *group,
                                         unsigned intake, struct ind_book *book, struct ind_store *store,
                                         struct ind_clocks now)
{
    struct ind_target target = {.path = {batch->arena + group->path, group->path_length},
                                .series = {batch->arena + group->series, group->series_length},
                                .hash = group->hash,
                                .route = group->route,
                                .made_up = group->made_up};
    struct ind_live *live = ind_store_file(store, &target, now);
    if (!live)
        return IND_BATCH_FULL;
    begin_group(batch, group);
    while (batch->next_line) {
        const struct ind_batch_line *line = &batch->lines[batch->next_line - 1];
        prefetch_next(batch, line);
        struct ind_slice bytes = {batch->arena + line->offset, line->length};
        uint32_t owner = ind_book_owner(book, intake, batch, line);
        if (ind_store_append(store, live, bytes, line->time, owner, now) == IND_APPEND_FULL)
            return IND_BATCH_FULL;
        batch->next_line = line->next;
    }
    return IND_BATCH_STORED;
}

static enum ind_batch_stored hand_group(struct ind_batch *batch, const struct ind_batch_group *group,
                                        unsigned intake, struct ind_book *book, struct ind_sinks *takers)
{
    const struct ind_steady now = ind_steady_now();
    begin_group(batch, group);
    while (batch->next_line) {
        const struct ind_batch_line *line = &batch->lines[batch->next_line - 1];
        struct ind_slice bytes = {batch->arena + line->offset, line->length};
        if (!ind_sinks_add(takers, group->route, bytes, ind_book_owner(book, intake, batch, line), now))
            return IND_BATCH_HELD;
        batch->next_line = line->next;
    }
    return IND_BATCH_STORED;
}

static void book_once(struct ind_batch *batch, unsigned intake, struct ind_book *book)
{
    if (!batch->booked)
        ind_book_take(book, intake, batch);
    batch->booked = true;
}

enum ind_batch_stored ind_batch_store(struct ind_batch *batch, unsigned intake, struct ind_book *book,
                                      struct ind_store *store, struct ind_sinks *takers,
                                      struct ind_clocks now)
{
    book_once(batch, intake, book);
    while (batch->stored_groups < batch->group_count) {
        const struct ind_batch_group *group = &batch->groups[batch->stored_groups];
        enum ind_batch_stored stored = ind_sinks_have(takers, group->route)
                                           ? hand_group(batch, group, intake, book, takers)
                                           : store_group(batch, group, intake, book, store, now);
        if (stored != IND_BATCH_STORED)
            return stored;
        batch->within = false;
        ind_book_route(book, group->route, group);
        batch->stored_groups++;
    }
    ind_book_turn(book, intake, batch);
    return IND_BATCH_STORED;
}

/* The first line that is not in the store yet, of the group; index + 1. */
static uint32_t first_left(const struct ind_batch *batch, size_t group)
{
    return group == batch->stored_groups && batch->within ? batch->next_line : batch->groups[group].first;
}

void ind_batch_lose(struct ind_batch *batch, unsigned intake, struct ind_book *book, struct ind_sinks *takers)
{
    book_once(batch, intake, book);
    for (size_t g = batch->stored_groups; g < batch->group_count; g++)
        for (uint32_t line = first_left(batch, g); line; line = batch->lines[line - 1].next) {
            uint32_t owner = ind_book_owner(book, intake, batch, &batch->lines[line - 1]);
            if (ind_sinks_have(takers, batch->groups[g].route))
                ind_sinks_lose(takers, batch->groups[g].route, owner);
            else
                ind_book_settle(book, owner, 1, false);
        }
    ind_book_turn(book, intake, batch);
}

void ind_batch_weigh(const struct ind_batch *batch, struct ind_ledger *ledgers)
{
    for (size_t i = 0; i < batch->tally_count && !batch->booked; i++)
        ind_tally_add(&ledgers[batch->tallies[i].account], &batch->tallies[i]);
    for (size_t g = batch->stored_groups; g < batch->group_count; g++)
        for (uint32_t line = first_left(batch, g); line; line = batch->lines[line - 1].next)
            if (!(batch->lines[line - 1].owner & IND_OWNER_COPIES))
                ledgers[batch->lines[line - 1].owner].waiting++;
    /* Of those with several lines the book counts what has its token already. */
    for (size_t i = 0; i < batch->copies_count; i++)
        if (!batch->copies[i].continued && batch->copies[i].token == UINT32_MAX)
            ledgers[batch->copies[i].account].waiting++;
}

void ind_batch_add_edits(const struct ind_batch *batch, struct ind_edit_count **counts)
{
    for (size_t i = 0; i < batch->edit_tally_count; i++) {
        const struct ind_edit_tally *tally = &batch->edit_tallies[i];
        ind_edit_counts_add(counts, tally->edit, tally->changed, tally->dropped, tally->dropped_bytes);
    }
}
