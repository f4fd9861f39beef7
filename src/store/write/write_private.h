/* store/write/write_private.h: the inside of a store, its writing half. */
#ifndef IND_STORE_WRITE_WRITE_PRIVATE_H
#define IND_STORE_WRITE_WRITE_PRIVATE_H

#include "store/archive/keeper.h"
#include "store/disk/stored.h"
#include "store/write/pages.h"
#include "store/write/store.h"

#include <uthash.h>

struct ind_series {
    UT_hash_handle hh;
    char *name;
    uint64_t next; /* number of the next file opened; see ind_series_take */
};

/* All series of a store, whichever parts their files are of. */
struct ind_series_table {
    struct ind_mutex mutex;
    struct ind_series *list IND_GUARDED_BY(mutex); /* `next` of each, too */
};

/* A path that messages made up today. One that is rotated and begun again counts once. */
struct ind_made {
    UT_hash_handle hh;
    struct {
        uint64_t path, route; /* hashes of the path and of the route's name */
    } key;
};

/* A file that is written to, or will be. It has its number and its archive's name from its first line on. */
struct ind_live {
    UT_hash_handle hh;
    char *path;
    uint64_t hash;
    struct ind_series *series;
    size_t route;  /* of the present configuration; IND_NO_POLICY: no more configured */
    size_t policy; /* its place in store->policies, or IND_NO_POLICY */
    unsigned file_system;
    int stored; /* of its lines (store/disk/stored.h) */
    bool made_up;
    bool overflow;  /* an overflow.log */
    bool begun;     /* number, archive and first are set */
    bool journaled; /* "opened" is in the journal */
    uint64_t number;
    char *archive;
    ind_time first, last;
    struct ind_live_facts facts; /* what waits included */
    bool messages_known;
    uint64_t on_disk;
    int file; /* -1: closed */
    struct ind_page *first_page, *last_page;
    size_t waiting; /* bytes */
    uint64_t waiting_lines;
    struct ind_steady waiting_since;
    struct ind_live *dirty_prev, *dirty_next; /* those with something waiting, oldest first */
    struct ind_live *open_prev, *open_next;   /* those open, least recently used first */
    struct ind_steady reported;               /* when a failure was last reported */
    struct ind_steady rotate_again;           /* after a rotation that failed: not before */
};

enum { IND_REPORT_AGAIN = 60 }; /* seconds: a fault that lasts is reported this often */

/* The writing half, or its part for one file system; of one thread, but for what store->disk and the table of
 * series say otherwise. */
struct ind_store {
    struct ind_disk *disk;
    struct ind_store *parts[IND_MOST_FILE_SYSTEMS]; /* of the first: itself, and the others */
    unsigned part_count;                            /* likewise; of the others 0 */
    unsigned file_system;
    unsigned made_again;             /* how often the store was, as far as this part knows */
    struct ind_series_table *series; /* the first one's */
    struct ind_series_table own_series;
    struct ind_keeper *keeper; /* the other half: of another thread from the start on; of the first */
    const struct ind_config *config;
    struct ind_plan *first_plan;
    const struct ind_plan *plan;
    void (*settle)(void *context, uint32_t owner, uint32_t lines, bool written);
    void *context;
    bool by_messages;

    const struct ind_policy *policies[IND_POLICY_PLACES]; /* NULL: not in the present configuration */
    struct ind_live *lives;
    struct ind_pages pages;
    struct ind_live *dirty, *open; /* lists, see struct ind_live */
    size_t open_count, open_limit;

    uint64_t files_a_day;
    uint64_t *made_today; /* paths made up, per route */
    struct ind_made *made;
    int64_t today; /* number of the local day */

    struct ind_steady looked_for_due;
    struct ind_steady full_reported; /* a disk that takes nothing: one report does for all files */
    struct ind_steady disk_again;    /* not before */
    bool disk_full;
    int disk_error; /* for which it takes nothing */
    struct ind_store_counts counts;
};

/* ---- live.c ---- */

/* Found or made; NULL where memory is out. */
struct ind_series *ind_series_for(struct ind_store *store, struct ind_slice name);
/* The number of the next file, which is given to nobody else. */
uint64_t ind_series_take(struct ind_store *store, struct ind_series *series);
/* Numbers up to this one are given. */
void ind_series_note(struct ind_store *store, struct ind_series *series, uint64_t number);

struct ind_live *ind_live_find(const struct ind_store *store, struct ind_slice path, uint64_t hash);
/* NULL where memory is out. */
struct ind_live *ind_live_new(struct ind_store *store, struct ind_slice path, uint64_t hash,
                              struct ind_slice series);
void ind_live_free(struct ind_store *store, struct ind_live *live);
void ind_live_close(struct ind_store *store, struct ind_live *live);
/* Lets go of what waits, which is written, or lost. */
void ind_live_settle_waiting(struct ind_store *store, struct ind_live *live, bool written);
void ind_live_count_bytes(struct ind_store *store, const struct ind_live *live, uint64_t more, uint64_t less);

/* The rules of a live file; NULL where its policy is no more configured. */
static inline const struct ind_policy *ind_live_policy(const struct ind_store *store,
                                                       const struct ind_live *live)
{
    return live->policy == IND_NO_POLICY ? NULL : store->policies[live->policy];
}

/* When the period of a live file ends under the present rules. */
void ind_live_settle_period(const struct ind_store *store, struct ind_live *live);

/* By which it is rotated; by none where its policy is no more configured. */
const struct ind_rotation_rule *ind_live_rule(const struct ind_store *store, const struct ind_live *live);

/* Whether so many lines, of `bytes` together and of messages up to `latest`, make the file longer and no
 * more: it is not rotated before any of them. */
bool ind_live_only_grows(const struct ind_store *store, const struct ind_live *live, ind_time latest,
                         size_t bytes, size_t lines);

/* Lines of this route go into it from now on, by its policy; IND_NO_POLICY: no route is known, the policy
 * stays. */
void ind_live_set_route(struct ind_store *store, struct ind_live *live, size_t route);

/* ---- target.c ---- */

/* Counts a path that messages made up; false where the route may make no more today. Known ones are always
 * good. */
bool ind_made_count(struct ind_store *store, uint64_t path, uint32_t route);
void ind_made_forget(struct ind_store *store);

/* ---- presence.c ---- */

/* As ind_disk_look_after; the live files begin anew in a store that is made again. */
enum ind_disk_presence ind_store_look_after(struct ind_store *store, struct ind_clocks now);

/* ---- flush.c, rotate.c ---- */

/* Writes all that waits in a file; lines that cannot be written, ever, are lost, and reported. 0, or the
 * error for which they still wait. */
int ind_live_flush(struct ind_store *store, struct ind_live *live, struct ind_clocks now);

/* Turns a live file into an archive and hands it over. 0, or the error for which that could not be done yet.
 */
int ind_live_rotate(struct ind_store *store, struct ind_live *live, enum ind_rotation_reason reason,
                    struct ind_clocks now);

/* ---- recover.c ---- */

/* Takes over what the inventory found and finishes what was under way. False with `reason` filled in. */
bool ind_store_recover(struct ind_store *store, ind_time now, char *reason, size_t room);

#endif
