#include "collect/account/edit_counts.h"

#include <stdlib.h>
#include <string.h>

void ind_edit_counts_add(struct ind_edit_count **counts, const char *name, uint64_t changed, uint64_t dropped,
                         uint64_t dropped_bytes)
{
    struct ind_edit_count *count;
    HASH_FIND_STR(*counts, name, count);
    if (!count) {
        size_t size = strlen(name) + 1;
        count = calloc(1, sizeof *count + size);
        if (!count)
            return;
        memcpy(count->name, name, size);
        HASH_ADD_STR(*counts, name, count);
    }
    count->changed += changed;
    count->dropped += dropped;
    count->dropped_bytes += dropped_bytes;
}

void ind_edit_counts_add_all(struct ind_edit_count **counts, const struct ind_edit_count *more)
{
    for (; more; more = more->hh.next)
        ind_edit_counts_add(counts, more->name, more->changed, more->dropped, more->dropped_bytes);
}

void ind_edit_counts_free(struct ind_edit_count **counts)
{
    struct ind_edit_count *count, *next;
    HASH_ITER(hh, *counts, count, next)
    {
        HASH_DEL(*counts, count);
        free(count);
    }
}

void ind_edit_counts_add_tally(struct ind_edit_count **counts, const struct ind_edit_tally *tally)
{
    ind_edit_counts_add(counts, tally->edit, tally->changed, tally->dropped, tally->dropped_bytes);
}
