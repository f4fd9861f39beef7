/* store/disk/mounts.h: which file systems the folders of a store are on.
 *
 * A store is one tree; an administrator may mount other file systems into it, so that some files have a disk
 * of their own. Each file system has a number: 0 is that of the store's own folder. What is mounted later
 * than this is looked at, counts as a part of what it is mounted into. */
#ifndef IND_STORE_DISK_MOUNTS_H
#define IND_STORE_DISK_MOUNTS_H

#include "core/base/slice.h"

enum { IND_MOST_FILE_SYSTEMS = 16 };

/* A folder of the store at which a file system begins. */
struct ind_mount {
    char *path; /* below the store; "" for the store itself */
    size_t length;
    unsigned file_system;
};

struct ind_mounts {
    struct ind_mount *list; /* the longest path first; the store itself last */
    size_t count;
    unsigned file_systems; /* at least 1 */
};

/* Finds those of the store whose folder is at `store`, from the kernel's table of mounts: so a file system
 * that hangs is not touched. Where there is no such table the store is on one. False where memory is out.
 * To be freed in any case. */
bool ind_mounts_find(const char *store, struct ind_mounts *mounts);
void ind_mounts_free(struct ind_mounts *mounts);

/* The same from the text of such a table (proc_pid_mountinfo(5)) and the store's real path, without links. */
bool ind_mounts_read(struct ind_slice table, const char *store, struct ind_mounts *mounts);

/* The file system of a path below the store. */
unsigned ind_mounts_of(const struct ind_mounts *mounts, struct ind_slice path);

/* A folder at which the file system begins: "" for 0. */
const char *ind_mounts_folder(const struct ind_mounts *mounts, unsigned file_system);

#endif
