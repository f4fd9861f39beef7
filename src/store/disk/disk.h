/* store/disk/disk.h: a store on disk, as its writing and its keeping half share it: folders, lock, journal,
 * and the queue in which archives pass from one half to the other.
 *
 * One process at a time holds a store: a lock sees to it. With `dry_run` nothing is changed and nothing is
 * locked: the same code runs against a table of file operations that only says it did them. */
#ifndef IND_STORE_DISK_DISK_H
#define IND_STORE_DISK_DISK_H

#include "core/archive/archive_name.h"
#include "core/message/own.h"
#include "core/time/steady.h"
#include "store/disk/fs.h"
#include "store/disk/mounts.h"
#include "thread/mutex.h"

#include <stdatomic.h>

/* Archive policies that one run can know, over all reloads. */
enum { IND_POLICY_PLACES = 1024 };
#define IND_NO_POLICY SIZE_MAX

struct ind_archive {
    char *path; /* of the plain archive */
    char *series;
    uint64_t number, size;
    size_t policy; /* its place among the policies (store/disk/plan.h), or IND_NO_POLICY */
    ind_time rotated;
    enum ind_compression compression; /* as it is on disk */
    int level;                        /* of that; 0: not known */
    bool stays_as_packed;             /* packing it once more has failed */
    int stored;                       /* of its lines (store/disk/stored.h) */
    bool to_do;                       /* to be flushed, and compressed where the policy says so */
    bool removed;                     /* journaled as such */
    uint64_t copied_to;               /* ind_path_hash of the second place that has it; 0: none */
    bool is_protected;                /* no retention touches it */
    bool hashed;                      /* its text's hash is in the journal, and here */
    unsigned char hash[32];
};

struct ind_handed {
    struct ind_handed *next;
    struct ind_archive archive;
};

/* What is done to a file, as `rotate --dry-run` shows it. */
enum ind_action_kind {
    IND_ACTION_REPAIR,
    IND_ACTION_ROTATE,
    IND_ACTION_COMPRESS,
    IND_ACTION_REMOVE,
    IND_ACTION_COPY
};

struct ind_action {
    enum ind_action_kind kind;
    const char *path; /* of the file as it is before */
    uint64_t size;    /* of that file */
    const char *rule; /* "period", "age", "crash", …: what calls for it; of a compression: "zstd", "gzip" */
    const char *policy; /* NULL: none */
};

struct ind_disk_settings {
    const char *store, *state; /* folders */
    const struct ind_fs *fs;
    bool dry_run;
    bool copies_apart; /* what goes to a second place goes on a thread of its own, which may hang */
    bool no_catalog;   /* there is to be none */
    /* What an administrator must hear of; from both halves. May be NULL. */
    void (*report)(void *context, enum ind_own own, const char *path, const char *text);
    /* Before each action is carried out (with `dry_run`: instead of it); from both halves. May be NULL. */
    void (*act)(void *context, const struct ind_action *action);
    void *context;
};

/* Set when the store is opened, and constant from then on, but for what says otherwise. The descriptors keep
 * their numbers even when a store that somebody removed is made again. */
struct ind_disk {
    char *store, *state_path;
    struct ind_fs fs;
    int folder, state, lock, journal; /* state: -1 where there is none, in a dry run */
    struct ind_mounts mounts;
    bool dry_run, copies_apart, no_catalog;
    bool held_elsewhere; /* in a dry run: another process writes to the store */
    void (*report)(void *context, enum ind_own own, const char *path, const char *text);
    void (*act)(void *context, const struct ind_action *action);
    void *context;

    /* Names of policies by their place, which they keep: of the thread that makes plans. */
    char *policy_names[IND_POLICY_PLACES];
    size_t policy_count;

    /* Of the writing half; of its part for the store's own file system where it has several. */
    struct ind_steady gone_reported; /* that it was removed, and cannot be made again */
    atomic_uint made_again;          /* how often: read by the other parts */

    struct ind_mutex handing;
    struct ind_handed *handed IND_GUARDED_BY(handing); /* newest first */
    struct ind_chain *chain; /* store/disk/chain.h; opened and closed by whoever opens the disk */
    atomic_bool wanted;      /* set by either half: there is something for the keeping half to do */
    /* Bytes of live files on disk, by policy and by file system: counted by the writing half. */
    atomic_uint_fast64_t live_bytes[IND_POLICY_PLACES], live_bytes_on[IND_MOST_FILE_SYSTEMS];
};

enum ind_store_status {
    IND_STORE_OK,
    IND_STORE_BUSY,  /* another process holds it: `reason` tells which */
    IND_STORE_FAILED /* `reason` tells why */
};

/* Opens or makes the folders and takes the lock. New in *disk, which is NULL where it could not be done. */
enum ind_store_status ind_disk_open(const struct ind_disk_settings *settings, struct ind_disk **disk,
                                    char *reason, size_t room);
/* Gives up the lock. Accepts NULL. */
void ind_disk_close(struct ind_disk *disk);

/* `path`: of the file that it is about, or NULL. */
void ind_disk_report(const struct ind_disk *disk, enum ind_own own, const char *path, const char *format, ...)
    __attribute__((format(printf, 4, 5)));
void ind_disk_act(const struct ind_disk *disk, enum ind_action_kind kind, const char *path, uint64_t size,
                  const char *rule, const char *policy);

enum ind_disk_presence {
    IND_DISK_PRESENT,
    IND_DISK_MADE_AGAIN, /* somebody had removed it; it is made again at the same place, empty, and reported
                          */
    IND_DISK_GONE        /* and cannot be made again, which is reported once a minute */
};

/* The process that holds the store at `folder`, other than this one; 0: none. */
long ind_disk_holder(int folder);

/* For the writing half. */
enum ind_disk_presence ind_disk_look_after(struct ind_disk *disk, struct ind_steady now);

/* Bytes of one of the store's file systems: all, and those free for it; 0 where that is not known. Any
 * thread. */
void ind_disk_space(const struct ind_disk *disk, unsigned file_system, uint64_t *size, uint64_t *room);

/* All that was written to the store before the call is on disk, on each of its file systems. False: it may
 * not be. Waits where one of them hangs. Where the system cannot flush a whole file system and tell of
 * errors (there is no syncfs), true says only that it was asked to. Any thread. */
bool ind_disk_flush(const struct ind_disk *disk);

/* Whether an error of a write means that the disk takes nothing for now. */
bool ind_disk_is_full(int error);
/* The same, or that the right to write to the store is gone, or to the folder at which one of its file
 * systems begins: as soon as it is given back all goes on. */
bool ind_disk_takes_nothing(const struct ind_disk *disk, unsigned file_system, int error);

uint64_t ind_path_hash(struct ind_slice path);

/* ---- The queue of archives ---- */

/* A copy goes to the keeping half. Where memory is out it is only reported: the next start finds the archive.
 */
void ind_disk_hand_over(struct ind_disk *disk, const struct ind_archive *archive);
/* All that was handed over, oldest first; the caller's, to be freed with all their texts. */
struct ind_handed *ind_disk_dequeue_archives(struct ind_disk *disk);

#endif
