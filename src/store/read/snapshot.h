/* store/read/snapshot.h: the files of a store as they are at one moment, while a collector goes on writing,
 * rotating and compressing them.
 *
 * Every line stored before the snapshot began is in exactly one of its files:
 *  - Live files are opened first, and read up to the size they had then.
 *  - Archives are listed after that, twice: an archive changes its name only once (when it is compressed), so
 * that no listing that missed it for that reason is followed by a second one that does.
 *  - A live file that was rotated meanwhile is among the archives too. It is known again by its inode, which
 * is not used anew as long as it is open here; once compressed, by the journal, which holds the inode it had.
 * The archive is then left out. An archive is opened when its turn comes, under either of its names; one that
 * is gone by then was removed by the retention. */
#ifndef IND_STORE_READ_SNAPSHOT_H
#define IND_STORE_READ_SNAPSHOT_H

#include "core/archive/archive_name.h"
#include "store/disk/stored.h"
#include <stdint.h>

struct ind_snapshot_file {
    char *path;    /* of a live file, or of the plain archive */
    int file;      /* a live file, open; -1: an archive */
    uint64_t size; /* of a live file: what is to be read */
    uint64_t inode;
    int stored;     /* of its lines (store/disk/stored.h) */
    uint64_t route; /* that wrote it, by a hash of its name; 0: not known */
    bool twice;     /* is in the snapshot as a live file already */
};

struct ind_snapshot {
    int folder;
    struct ind_snapshot_file *files;
    size_t count, room;
    size_t unreadable; /* folders that could not be looked into */
};

/* False with errno set. `between` (may be NULL) is called after each of its three steps, so that a test can
 * let a collector go on right there. */
enum { IND_SNAPSHOT_LIVES, IND_SNAPSHOT_FIRST_LISTING, IND_SNAPSHOT_SECOND_LISTING, IND_SNAPSHOT_STEPS };
bool ind_snapshot_take(const char *store, void (*between)(void *context, int step), void *context,
                       struct ind_snapshot *snapshot);
void ind_snapshot_free(struct ind_snapshot *snapshot);

/* Opens a file of the snapshot; the caller closes it. -1 with errno set: ENOENT where the retention was
 * faster. */
int ind_snapshot_open(const struct ind_snapshot *snapshot, const struct ind_snapshot_file *file,
                      enum ind_compression *compression);

#endif
