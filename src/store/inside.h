/* store/inside.h: the inside of a store, for the files of store/ only. */
#ifndef IND_STORE_INSIDE_H
#define IND_STORE_INSIDE_H

#include "store/journal.h"
#include "store/pages.h"
#include "store/store.h"
#include "store/stored.h"
#include "store/survey.h"

#include <pthread.h>
#include <stdatomic.h>
#include <uthash.h>

struct ind_series {
    UT_hash_handle hh;
    char *name;
    uint64_t next; /* number of the next file opened */
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
    int stored;    /* of its lines (store/stored.h) */
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
    struct ind_steady told;                   /* when a failure was last told */
    struct ind_steady rotate_again;           /* after a rotation that failed: not before */
};

struct ind_archive {
    char *path; /* of the plain archive */
    char *series;
    uint64_t number, size;
    size_t policy; /* its place in store->kept_policies, or IND_NO_POLICY */
    ind_time rotated;
    enum ind_compression compression; /* as it is on disk */
    bool to_do;                       /* to be flushed, and compressed where the policy says so */
    bool removed;                     /* journaled as such */
};

/* On its way from the writing half to the keeping one. */
struct ind_handed {
    struct ind_handed *next;
    struct ind_archive archive;
};

/* How the routes and policies of a configuration go with what the store knows (plan.c). */
struct ind_plan {
    const struct ind_config *config;
    size_t *place_of_policy; /* in the store's tables, by policy of the configuration */
    uint64_t *made_today;    /* room for one number a route */
};

/* Archive policies that one run can know, over all reloads. */
enum { IND_POLICY_PLACES = 1024 };

struct ind_store {
    const struct ind_config *config; /* the writing half's */
    struct ind_plan *first_plan;
    const struct ind_plan *plan; /* the writing half's */
    struct ind_fs fs;
    int folder, journal, lock, state;
    void (*tell)(void *context, const char *text);
    void (*settle)(void *context, uint32_t owner, uint32_t lines, bool written);
    void *context;
    bool by_messages;

    /* Names of policies by their place, which they keep; for whoever makes plans. */
    char *policy_names[IND_POLICY_PLACES];
    size_t policy_places;

    /* The writing half. */
    const struct ind_policy *policies[IND_POLICY_PLACES]; /* NULL: not in the present configuration */
    struct ind_live *lives;
    struct ind_series *series;
    struct ind_pages pages;
    struct ind_live *dirty, *open; /* lists, see struct ind_live */
    size_t open_count, open_limit;
    uint64_t files_a_day;
    uint64_t *made_today; /* paths made up, per route */
    struct ind_made *made;
    int64_t today; /* number of the local day */
    struct ind_steady looked_for_due;
    struct ind_steady
        disk_told; /* when a disk that takes nothing was last told; one word does for all files */
    struct ind_steady disk_again; /* not before */
    bool disk_full;
    struct ind_steady gone_told; /* that it was removed, and cannot be made again */
    struct ind_store_counts counts;

    /* Between the two. */
    pthread_mutex_t handing;
    struct ind_handed *handed;
    atomic_bool wanted;
    atomic_uint_fast64_t live_bytes[IND_POLICY_PLACES];

    /* The keeping half. */
    const struct ind_policy *kept_policies[IND_POLICY_PLACES]; /* as `policies` */
    struct ind_archive *archives;
    size_t archive_count, archive_room;
    ind_time last_run;
    struct ind_steady retained, kept_last_run, failed_at;
    bool clock_distrusted;
    struct ind_keeper_counts keeper;
};

void ind_store_tell(const struct ind_store *store, const char *format, ...)
    __attribute__((format(printf, 2, 3)));

struct ind_series *ind_series_for(struct ind_store *store, struct ind_slice name);
struct ind_live *ind_live_new(struct ind_store *store, struct ind_slice path, uint64_t hash,
                              struct ind_slice series);
void ind_live_free(struct ind_store *store, struct ind_live *live);
/* Counts a path that messages made up; false where the route may make no more today. Known ones are always
 * good. */
bool ind_made_count(struct ind_store *store, uint64_t path, uint32_t route);
void ind_made_forget(struct ind_store *store);

void ind_live_close(struct ind_store *store, struct ind_live *live);

/* Writes all that waits in a file. False where it still waits. */
bool ind_live_flush(struct ind_store *store, struct ind_live *live, struct ind_clocks now);

/* Turns a live file into an archive and hands it over. False where that could not be done yet. */
bool ind_live_rotate(struct ind_store *store, struct ind_live *live, enum ind_rotation_reason reason,
                     struct ind_clocks now);

/* The rules of a live file; NULL where its policy is no more configured. */
static inline const struct ind_policy *ind_live_policy(const struct ind_store *store,
                                                       const struct ind_live *live)
{
    return live->policy == IND_NO_POLICY ? NULL : store->policies[live->policy];
}

/* When the period of a live file ends under the present rules. */
void ind_live_settle_period(const struct ind_store *store, struct ind_live *live);

/* Lines of this route go into it from now on, by its policy; IND_NO_POLICY: no route is known, the policy
 * stays. */
void ind_live_set_route(struct ind_store *store, struct ind_live *live, size_t route);

void ind_hand_over(struct ind_store *store, const struct ind_archive *archive);
bool ind_archive_add(struct ind_store *store, const struct ind_archive *archive);

/* Takes over what the survey found and finishes what was under way. False with `reason` filled in. */
bool ind_store_recover(struct ind_store *store, ind_time now, char *reason, size_t room);

/* Compresses `plain` into `to` by way of a temporary file, flushed before it gets its name. False with errno
 * set (ECANCELED: interrupted), and nothing left behind but by a crash. *size: of the result. */
bool ind_compress_file(struct ind_store *store, const char *plain, const char *to,
                       enum ind_compression compression, int level, const struct ind_interrupt *interrupt,
                       uint64_t *size);

static inline bool ind_interrupted(const struct ind_interrupt *interrupt)
{
    return interrupt && interrupt->asked(interrupt->context);
}

bool ind_disk_is_full(int error);

/* A store that somebody has removed is made again, at the same place, and told. True where it was. For the
 * writing half. */
bool ind_store_look_after(struct ind_store *store, struct ind_clocks now);

#endif
