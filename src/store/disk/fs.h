/* store/disk/fs.h: everything that changes a live file or an archive goes through this table, so that a test
 * can make any single step fail, or be the last one before a crash. Paths are relative to `folder`. Results
 * as in POSIX: -1 and errno.
 */
#ifndef IND_STORE_DISK_FS_H
#define IND_STORE_DISK_FS_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>
#include <sys/types.h>
#include <sys/uio.h>

struct ind_fs {
    void *context;
    int (*open)(void *context, int folder, const char *path, int flags, unsigned mode);
    ssize_t (*write)(void *context, int file, const struct iovec *pieces, int count);
    int (*truncate)(void *context, int file, uint64_t size);
    int (*sync)(void *context, int file);
    int (*rename)(void *context, int folder, const char *from, const char *to);
    int (*remove)(void *context, int folder, const char *path);
    int (*make_folder)(void *context, int folder, const char *path, unsigned mode, int64_t group);
    int (*own)(void *context, int file, unsigned mode, int64_t group); /* group -1: leave it */
    /* Bytes of the file system that the open folder is of: all, and those free for us. Changes nothing. */
    int (*space)(void *context, int folder, uint64_t *size, uint64_t *room);
};

extern const struct ind_fs ind_fs_posix;
/* Changes nothing and says that all was done: files that are to be read are opened, for reading only. */
extern const struct ind_fs ind_fs_dry;

/* Flushes the folder that holds `path` and those above it up to `folder`, so that a new name in it outlives a
 * power failure, also where the folders are new. 0, or the error. */
int ind_fs_sync_folders_of(const struct ind_fs *fs, int folder, const char *path);

/* Makes the folders above `path` below `folder` that are not there. False with errno set. */
bool ind_fs_make_folders_of(const struct ind_fs *fs, int folder, const char *path, unsigned mode,
                            int64_t group);

/* Lets the process have as many files open as it may at most. */
void ind_fs_raise_file_limit(void);

/* Writes all of it, or returns false with errno set. */
bool ind_fs_write_all(const struct ind_fs *fs, int file, const void *bytes, size_t length);

/* Makes the folder of a store at `path` (not through a table: before there is one), and those above it that
 * are not there, with mode 0750; `made` (may be NULL) is called for each new one. False with errno set where
 * that cannot be done. */
bool ind_fs_make_path(const char *path, void (*made)(void *context, const char *path), void *context);

#endif
