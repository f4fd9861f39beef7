/* collect/account/edit_counts.h: what edits did to messages, by the name of the edit. */
#ifndef IND_COLLECT_ACCOUNT_EDIT_COUNTS_H
#define IND_COLLECT_ACCOUNT_EDIT_COUNTS_H

#include "collect/account/tally.h"

#include <stdint.h>
#include <uthash.h>

/* One that several edits change counts at each. A table of them is its first entry, NULL while it is empty;
 * `hh.next` leads through it in the order in which the edits first acted. */
struct ind_edit_count {
    UT_hash_handle hh;
    uint64_t changed, dropped, dropped_bytes; /* bytes: of the messages as they were received */
    char name[];
};

/* Where memory is out, nothing is added. */
void ind_edit_counts_add(struct ind_edit_count **counts, const char *name, uint64_t changed, uint64_t dropped,
                         uint64_t dropped_bytes);
void ind_edit_counts_add_tally(struct ind_edit_count **counts, const struct ind_edit_tally *tally);
void ind_edit_counts_add_all(struct ind_edit_count **counts, const struct ind_edit_count *more);
void ind_edit_counts_free(struct ind_edit_count **counts);

#endif
