/* store/write/store.h: the writing half of a store: live files and their rotation.
 *
 * Where other file systems are mounted into the store it may be divided into a part for each, so that none
 * waits for another: each part is a store by itself to those who write to it.
 *
 * It, or each of its parts, belongs to one thread, the keeping half (store/archive/keeper.h) to one other;
 * the two meet only in a short queue of archives (store/disk/disk.h). Neither reads a clock: both are handed
 * both clocks, and measure what lasts by the steady one.
 *
 * What is added waits in pages until ind_store_flush, or until a file has enough for one big write. A line is
 * written whole or not at all: what a full disk cuts is taken back, and waits on. */
#ifndef IND_STORE_WRITE_STORE_H
#define IND_STORE_WRITE_STORE_H

#include "config/config.h"
#include "store/disk/plan.h"

struct ind_keeper;
struct ind_store;
struct ind_live;

struct ind_store_settings {
    const struct ind_config *config; /* borrowed */
    const struct ind_fs *fs;         /* borrowed */
    ind_time now;
    size_t
        open_files; /* live files held open at most; 0: as many as the configuration and the system allow */
    uint64_t files_a_day; /* that messages may make up, per route; 0: 10000 */
    bool by_messages; /* no clock turns files over, only the times of messages do: for messages from files */
    bool divide;      /* into a part for each file system of the store */
    bool copies_apart, no_catalog; /* store/disk/disk.h */
    bool dry_run;                  /* changes nothing, takes no lock (store/disk/disk.h) */
    /* What an administrator must hear of. Called from both threads. May be NULL. */
    void (*report)(void *context, enum ind_own own, const char *path, const char *text);
    /* Before an action is carried out; with `dry_run`, instead of it. Called from both threads. May be NULL.
     */
    void (*act)(void *context, const struct ind_action *action);
    /* The end of lines of one owner: written, or lost for good. Called from the writing half, from each of
     * its parts. May be NULL. */
    void (*settle)(void *context, uint32_t owner, uint32_t lines, bool written);
    void *context;
};

/* Opens or makes the store, takes its lock, and finishes what a crash left over. New in *store. */
enum ind_store_status ind_store_open(const struct ind_store_settings *settings, struct ind_store **store,
                                     char *reason, size_t room);

/* Gives up the lock and all memory, the keeping half included; what still waits is not written. Accepts NULL.
 */
void ind_store_close(struct ind_store *store);

/* How many parts it has, at least 1; and each, by the number of its file system (store/disk/mounts.h), the
 * first being `store` itself. They live as long as it. */
unsigned ind_store_part_count(const struct ind_store *store);
struct ind_store *ind_store_part(struct ind_store *store, unsigned number);

/* The keeping half, and what both share; as long as the store. */
struct ind_keeper *ind_store_keeper(struct ind_store *store);
struct ind_disk *ind_store_disk(struct ind_store *store);

/* Where a line is to go. All borrowed for the call. */
struct ind_target {
    struct ind_slice path, series;
    uint64_t hash; /* ind_path_hash(path) */
    uint32_t route;
    bool made_up; /* a message made up part of the path, and no configured device vouches for it */
};

/* The live file for a target: known, or new. NULL where memory is out. Good until the next ind_store_tick. */
struct ind_live *ind_store_file(struct ind_store *store, const struct ind_target *target,
                                struct ind_clocks now);

enum ind_append {
    IND_APPENDED,
    IND_APPEND_FULL /* everything waits and the disk takes nothing: try again later */
};

/* Adds one line, with its end, of a message of the given time; rotates first where the line calls for it.
 * `owner`: whose line it is, for `settle`; any number. */
enum ind_append ind_store_append(struct ind_store *store, struct ind_live *live, struct ind_slice line,
                                 ind_time time, uint32_t owner, struct ind_clocks now);

/* Several lines of one file, one after the other, as by ind_store_append. Returns how many were added: fewer
 * than `count` where everything waits and the disk takes nothing. */
struct ind_new_line {
    struct ind_slice bytes; /* with its end */
    ind_time time;
    uint32_t owner;
};
size_t ind_store_append_lines(struct ind_store *store, struct ind_live *live,
                              const struct ind_new_line *lines, size_t count, struct ind_clocks now);

/* Lines of one file that lie one behind the other in memory. */
struct ind_whole {
    struct ind_slice bytes;
    size_t lines;
    ind_time latest; /* of their messages */
};
/* Writes them to the file as they lie there, behind what waits for it, where none of them calls for more than
 * that. True: they are written, and it is for the caller to tell their owners. False: none of them is, and
 * they are to be appended. */
bool ind_store_write_whole(struct ind_store *store, struct ind_live *live, const struct ind_whole *whole,
                           struct ind_clocks now);

/* Gives the owners of all lines that wait, in runs. */
void ind_store_waiting(struct ind_store *store, void (*visit)(void *context, uint32_t owner, uint32_t lines),
                       void *context);

/* Writes what waits. False where something still waits because the disk takes nothing. */
bool ind_store_flush(struct ind_store *store, struct ind_clocks now);

/* What time brings: writes what has waited for more than `wait`, rotates what is due. False as
 * ind_store_flush. */
bool ind_store_tick(struct ind_store *store, struct ind_clocks now, int64_t wait);

/* Rotates all live files, or those due. Returns how many; *failed counts those that could not be. */
size_t ind_store_rotate(struct ind_store *store, bool only_due, struct ind_clocks now, size_t *failed);

struct ind_store_counts {
    uint64_t lines, bytes; /* written */
    uint64_t lost;         /* lines that could not be written, ever */
    uint64_t waiting;      /* lines */
    uint64_t overflowed;   /* lines that went to an overflow.log */
    uint64_t rotated;      /* files */
    size_t live_files, open_files;
    int disk_error; /* for which the disk takes nothing; 0: it does */
};

/* Of one part. */
struct ind_store_counts ind_store_counts(const struct ind_store *store);
/* Of all parts together, while none is used by another thread. */
struct ind_store_counts ind_store_counts_of_all(const struct ind_store *store);

/* ---- Other rules while it runs ----
 *
 * Three steps on three threads: a plan is made (store/disk/plan.h), which may fail and changes nothing; the
 * writing half adopts it, and the keeping half (ind_keeper_adopt), neither of which can fail. The
 * configuration it is made from must live until both have adopted a later one. Store and state must be the
 * same as before. */
void ind_store_adopt(struct ind_store *store, struct ind_plan *plan);

#endif
