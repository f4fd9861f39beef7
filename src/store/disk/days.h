/* store/disk/days.h: STATE/days.json: what became of messages, a day each, over all runs of a collector
 * (docs/reports.md tells its form). Written anew as a whole; a collector writes, whoever makes a report
 * reads. */
#ifndef IND_STORE_DISK_DAYS_H
#define IND_STORE_DISK_DAYS_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#define IND_DAYS_NAME "days.json"

/* As in the ledger (docs/operations.md); the last were never received. */
enum ind_day_count {
    IND_DAY_RECEIVED,
    IND_DAY_STORED,
    IND_DAY_HANDED_ON,
    IND_DAY_DROPPED,
    IND_DAY_UNROUTED,
    IND_DAY_REFUSED,
    IND_DAY_LOST,
    IND_DAY_DROPPED_BY_KERNEL,
    IND_DAY_COUNTS
};
/* "received", "stored", …. */
const char *ind_day_count_name(enum ind_day_count count);

enum { IND_DAYS_MOST = 800, IND_DAY_EDITS = 200 }; /* what is more comes together as "(others)" */

struct ind_day_edit {
    char *name;
    uint64_t dropped;
};

struct ind_day {
    char date[11]; /* "2026-11-23", by the zone of the configuration */
    uint64_t counts[IND_DAY_COUNTS];
    struct ind_day_edit *edits; /* that dropped some */
    size_t edit_count;
};

struct ind_days {
    struct ind_day *list; /* in order */
    size_t count;
};

enum ind_days_status { IND_DAYS_GOOD, IND_DAYS_NONE, IND_DAYS_DAMAGED, IND_DAYS_FAILED };

/* Of the folder `state`; what cannot be read leaves *days empty. To be freed. */
enum ind_days_status ind_days_read(const char *state, struct ind_days *days);
void ind_days_free(struct ind_days *days);

/* The day of that date; new where there is none, and then the oldest goes where there are too many. NULL
 * where memory is out, or the date lies before all of so many. Good until the next call. */
struct ind_day *ind_days_at(struct ind_days *days, const char *date);
void ind_day_add_edit(struct ind_day *day, const char *name, uint64_t dropped);

/* As the file has them; new, the caller's. NULL where memory is out. */
char *ind_days_text(const struct ind_days *days);
/* Writes such a text in place of the file, whole or not at all. False with errno set. */
bool ind_days_write(const char *state, const char *text);

#endif
