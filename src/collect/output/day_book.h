/* collect/output/day_book.h: what became of messages today, over all runs: told by the control thread as
 * often as it adds up the ledger, and written by housekeeping once a minute. */
#ifndef IND_COLLECT_OUTPUT_DAY_BOOK_H
#define IND_COLLECT_OUTPUT_DAY_BOOK_H

#include "collect/account/edit_counts.h"
#include "core/time/steady.h"
#include "core/time/zone.h"
#include "store/disk/days.h"

struct ind_day_book;

/* New, with what the file of before has; one that is damaged is kept as days.json.damaged: *damaged. NULL
 * where memory is out. `state` is copied. */
struct ind_day_book *ind_day_book_new(const char *state, bool *damaged);
void ind_day_book_free(struct ind_day_book *book);

/* All there were since the start: what is more than at the last call is of the day of `now`. `edits`: a
 * table. */
void ind_day_book_note(struct ind_day_book *book, const uint64_t counts[IND_DAY_COUNTS],
                       const struct ind_edit_count *edits, ind_time now, const struct ind_zone *zone);

/* Writes them where there is anything new, once a minute; `all`: at once. False with errno set. */
bool ind_day_book_save(struct ind_day_book *book, bool all, struct ind_steady now);

#endif
