/* store/search/runs.h: lines put into the order of time, however many there are. A run is filled by one
 * thread and then given to a merge, which belongs to another; what has no room in memory goes to temporary
 * files.
 *
 * The order is by `key`, then `file`, then `at`: for the latest first each of the three is complemented
 * (~key, …). */
#ifndef IND_STORE_SEARCH_RUNS_H
#define IND_STORE_SEARCH_RUNS_H

#include "core/time/civil.h"

struct ind_found_line {
    ind_time key;
    uint64_t at;
    uint32_t file;
    struct ind_slice line;
};

/* ---- Runs ---- */

struct ind_run;

struct ind_run *ind_run_new(void); /* NULL where memory is out */
void ind_run_free(struct ind_run *run);

/* From now on lines that lie in `block`, which lies in `buffer`, are not copied; to be ended before anything
 * else is done with the run. */
void ind_run_begin_block(struct ind_run *run, char *buffer, struct ind_slice block);
/* Takes over the buffer, to be freed, where much of the block was added: true. Otherwise what was is copied,
 * or memory is out: *failed. */
bool ind_run_end_block(struct ind_run *run, bool *failed);

/* Adds a line, which is copied where it does not lie in the block. False where memory is out. */
bool ind_run_add(struct ind_run *run, const struct ind_found_line *line);
/* Once all are in it. */
void ind_run_sort(struct ind_run *run);
/* Bytes of memory that it takes. */
size_t ind_run_size(const struct ind_run *run);

/* ---- Merging ---- */

struct ind_merge;

/* `folder`: of temporary files; borrowed. NULL where memory is out. */
struct ind_merge *ind_merge_new(const char *folder);
void ind_merge_free(struct ind_merge *merge);

/* Takes over a sorted run. False where memory is out. */
bool ind_merge_take(struct ind_merge *merge, struct ind_run *run);
/* The least line of all, until the next call; NULL where there is none (any more). */
const struct ind_found_line *ind_merge_first(const struct ind_merge *merge);
/* Leaves that one behind. False with errno set where the next one cannot be read. */
bool ind_merge_next(struct ind_merge *merge);

/* Bytes of the runs in memory. */
size_t ind_merge_size(const struct ind_merge *merge);
/* Writes all of these to a temporary file. False with errno set where it cannot be written. */
bool ind_merge_spill(struct ind_merge *merge);

#endif
