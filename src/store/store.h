/* store/store.h: the writing side of a store: live files, their rotation, and their retention.
 *
 * The writing half (ind_store_*) belongs to one thread, the keeping half (ind_keeper_*) to one other; the two
 * meet only in a short queue of archives. Neither reads a clock: both are told both clocks, and measure
 * what lasts by the steady one. One process at a time holds a store: a lock
 * sees to it.
 *
 * What is added waits in pages until ind_store_flush, or until a file has enough for one big write. A line is
 * written whole or not at all: what a full disk cuts is taken back, and waits on. */
#ifndef IND_STORE_STORE_H
#define IND_STORE_STORE_H

#include "config/config.h"
#include "core/time/steady.h"
#include "store/fs.h"

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
    /* What an administrator must hear of. Called from both threads. May be NULL. */
    void (*tell)(void *context, const char *text);
    /* The end of lines of one owner: written, or lost for good. Called from the writing half. May be NULL. */
    void (*settle)(void *context, uint32_t owner, uint32_t lines, bool written);
    void *context;
};

enum ind_store_status {
    IND_STORE_OK,
    IND_STORE_BUSY,  /* another process holds it: `reason` tells which */
    IND_STORE_FAILED /* `reason` tells why */
};

/* Opens or makes the store, takes its lock, and finishes what a crash left over. New in *store. */
enum ind_store_status ind_store_open(const struct ind_store_settings *settings, struct ind_store **store,
                                     char *reason, size_t room);

/* Gives up the lock and all memory; what still waits is not written. Accepts NULL. */
void ind_store_close(struct ind_store *store);

/* Where a line is to go. All borrowed for the call. */
struct ind_target {
    struct ind_slice path, series;
    uint64_t hash; /* ind_path_hash(path) */
    uint32_t route;
    bool made_up; /* a message made up part of the path, and no configured device vouches for it */
};

uint64_t ind_path_hash(struct ind_slice path);

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

/* Gives the owners of all lines that wait, in runs. */
void ind_store_waiting(struct ind_store *store, void (*take)(void *context, uint32_t owner, uint32_t lines),
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
};

struct ind_store_counts ind_store_counts(const struct ind_store *store);

/* ---- Other rules while it runs ----
 *
 * Three steps on three threads: a plan is made, which may fail and changes nothing; the writing half adopts
 * it, and the keeping half, neither of which can fail. The configuration it is made from must live until both
 * have adopted a later one. Store and state must be the same as before. */

struct ind_plan;

/* By one thread at a time. NULL where it cannot be done: `reason` tells why. */
struct ind_plan *ind_plan_new(struct ind_store *store, const struct ind_config *config, char *reason,
                              size_t room);
/* Not before both halves have adopted a later one. Accepts NULL. */
void ind_plan_free(struct ind_plan *plan);

void ind_store_adopt(struct ind_store *store, struct ind_plan *plan);
void ind_keeper_adopt(struct ind_store *store, struct ind_plan *plan);

/* ---- The keeping half ---- */

struct ind_keeper_counts {
    uint64_t compressed, removed, failed;
    uint64_t archives, archive_bytes; /* present */
};

/* Asked between two files, and between two blocks of one that is compressed (about 1 MiB of text): whoever
 * waits for the keeping half waits no longer than for one. True: leave it; what is half done is done again
 * later. It may adopt other rules. */
struct ind_interrupt {
    bool (*asked)(void *context);
    void *context;
};

/* Does what there is to do: flush to disk, compress, remove. `interrupt` may be NULL. False where something
 * failed, or was left, and is to be tried again later. */
bool ind_keeper_run(struct ind_store *store, struct ind_clocks now, const struct ind_interrupt *interrupt);

/* Runs the retention alone; `clock_is_right`: somebody said so. */
void ind_keeper_retain(struct ind_store *store, struct ind_clocks now, bool clock_is_right);

/* Bytes of the file system that holds the store: all, and those free for it; 0 where that is not known. Any
 * thread. */
void ind_store_space(const struct ind_store *store, uint64_t *size, uint64_t *room);

/* Whether there is anything for ind_keeper_run to do: any thread. */
bool ind_keeper_wanted(struct ind_store *store);

struct ind_keeper_counts ind_keeper_counts(const struct ind_store *store);

#endif
