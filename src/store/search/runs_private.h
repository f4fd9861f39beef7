/* store/search/runs_private.h: the inside of a run, for runs.c, which fills it, and merge.c. */
#ifndef IND_STORE_SEARCH_RUNS_PRIVATE_H
#define IND_STORE_SEARCH_RUNS_PRIVATE_H

#include "store/search/runs.h"

struct ind_run_entry {
    ind_time key;
    uint64_t at;
    uint64_t offset; /* of the line: in the block, or, beyond its length, in the text */
    uint32_t length, file;
};

struct ind_run {
    char *buffer;
    const char *block;
    size_t block_length, block_used; /* bytes of lines that lie in it */
    bool block_owned;
    char *text;
    size_t used, room;
    struct ind_run_entry *entries;
    size_t count, entry_room;
    bool unsorted;
};

static inline bool ind_found_before(const struct ind_run_entry *a, const struct ind_run_entry *b)
{
    if (a->key != b->key)
        return a->key < b->key;
    return a->file != b->file ? a->file < b->file : a->at < b->at;
}

static inline const char *ind_run_line(const struct ind_run *run, const struct ind_run_entry *entry)
{
    return entry->offset < run->block_length ? run->block + entry->offset
                                             : run->text + (entry->offset - run->block_length);
}

#endif
