/* store/search/sorter.h: lines put into the order of time, however many there are.
 *
 * A sorter belongs to one thread. What does not fit into its memory goes to temporary files in sorted runs;
 * at the end the runs of all sorters are merged. Lines of one time keep the order of file and offset. */
#ifndef IND_STORE_SEARCH_SORTER_H
#define IND_STORE_SEARCH_SORTER_H

#include "core/time/civil.h"

struct ind_sorter;

struct ind_sorted_line {
    ind_time time;
    uint64_t file, at;
    struct ind_slice line;
};

struct ind_sorter *ind_sorter_new(size_t memory);
void ind_sorter_free(struct ind_sorter *sorter);

/* Copies the line. False with errno set where a temporary file cannot be written. */
bool ind_sorter_add(struct ind_sorter *sorter, const struct ind_sorted_line *line);

/* Puts what is still in memory into its order now: in the thread that filled it, beside others. Needs not be
 * called. */
void ind_sorter_sort(struct ind_sorter *sorter);

/* Calls `write` for every line of all sorters in order, until it returns false. False where something could
 * not be read. */
bool ind_sorters_merge(struct ind_sorter *const *sorters, size_t count,
                       bool (*write)(void *context, const struct ind_sorted_line *line), void *context);

#endif
