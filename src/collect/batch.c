#include "collect/batch.h"

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
    batch->ledger = (struct ind_ledger){0};
    batch->stored_groups = 0;
    batch->within = false;
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

static bool store_group(struct ind_batch *batch, const struct ind_batch_group *group, struct ind_store *store,
                        ind_time now)
{
    struct ind_target target = {.path = {batch->arena + group->path, group->path_length},
                                .series = {batch->arena + group->series, group->series_length},
                                .hash = group->hash,
                                .route = group->route,
                                .made_up = group->made_up};
    struct ind_live *live = ind_store_file(store, &target, now);
    if (!live)
        return false;
    if (!batch->within)
        batch->next_line = group->first;
    batch->within = true;
    while (batch->next_line) {
        const struct ind_batch_line *line = &batch->lines[batch->next_line - 1];
        prefetch_next(batch, line);
        struct ind_slice bytes = {batch->arena + line->offset, line->length};
        if (ind_store_append(store, live, bytes, line->time, line->counted, now) == IND_APPEND_FULL)
            return false;
        batch->next_line = line->next;
    }
    batch->within = false;
    return true;
}

bool ind_batch_store(struct ind_batch *batch, struct ind_store *store, ind_time now)
{
    while (batch->stored_groups < batch->group_count) {
        if (!store_group(batch, &batch->groups[batch->stored_groups], store, now))
            return false;
        batch->stored_groups++;
    }
    return true;
}
