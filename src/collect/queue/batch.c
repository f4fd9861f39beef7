#include "collect/queue/batch.h"

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
    batch->used = batch->line_count = batch->block_count = batch->group_count = 0;
    batch->copies_count = batch->tally_count = batch->edit_tally_count = 0;
    batch->round = 0;
    batch->stored_groups = 0;
    batch->within = batch->booked = batch->last_of_block = false;
}

void ind_batch_weigh(const struct ind_batch *batch, struct ind_ledger *ledgers)
{
    for (size_t i = 0; i < batch->tally_count && !batch->booked; i++)
        ind_tally_add(&ledgers[batch->tallies[i].account], &batch->tallies[i]);
    for (size_t g = batch->stored_groups; g < batch->group_count; g++)
        for (uint32_t line = ind_batch_first_left(batch, g); line;
             line = ind_batch_after(batch, &batch->groups[g], line))
            if (!(batch->lines[line - 1].owner & IND_OWNER_COPIES))
                ledgers[batch->lines[line - 1].owner].waiting++;
    /* Of those with several lines the book counts what has its token already. */
    for (size_t i = 0; i < batch->copies_count; i++)
        if (!batch->copies[i].continued && batch->copies[i].token == UINT32_MAX)
            ledgers[batch->copies[i].account].waiting++;
}
