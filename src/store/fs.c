#include "store/fs.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <unistd.h>

static int posix_open(void *context, int folder, const char *path, int flags, unsigned mode)
{
    (void)context;
    return openat(folder, path, flags | O_CLOEXEC, (mode_t)mode);
}

static ssize_t posix_write(void *context, int file, const struct iovec *pieces, int count)
{
    (void)context;
    return writev(file, pieces, count);
}

static int posix_truncate(void *context, int file, uint64_t size)
{
    (void)context;
    return ftruncate(file, (off_t)size);
}

static int posix_sync(void *context, int file)
{
    (void)context;
    return fsync(file);
}

static int posix_rename(void *context, int folder, const char *from, const char *to)
{
    (void)context;
    return renameat(folder, from, folder, to);
}

static int posix_remove(void *context, int folder, const char *path)
{
    (void)context;
    return unlinkat(folder, path, 0);
}

/* A group that may not be given is no reason not to store: the file is then of the collector's own group. */
static int posix_own(void *context, int file, unsigned mode, int64_t group)
{
    (void)context;
    if (group >= 0 && fchown(file, (uid_t)-1, (gid_t)group) != 0 && errno != EPERM)
        return -1;
    return fchmod(file, (mode_t)mode);
}

static int posix_make_folder(void *context, int folder, const char *path, unsigned mode, int64_t group)
{
    if (mkdirat(folder, path, (mode_t)mode) != 0)
        return -1;
    int made = openat(folder, path, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    if (made < 0)
        return -1;
    int result = posix_own(context, made, mode, group);
    close(made);
    return result;
}

const struct ind_fs ind_fs_posix = {NULL,         posix_open,   posix_write,       posix_truncate, posix_sync,
                                    posix_rename, posix_remove, posix_make_folder, posix_own};

void ind_fs_sync_folder_of(const struct ind_fs *fs, int folder, const char *path)
{
    char parent[1200];
    const char *slash = strrchr(path, '/');
    snprintf(parent, sizeof parent, "%.*s", slash ? (int)(slash - path) : 1, slash ? path : ".");
    int fd = openat(folder, parent, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    if (fd < 0)
        return;
    (void)fs->sync(fs->context, fd);
    close(fd);
}

bool ind_fs_write_all(const struct ind_fs *fs, int file, const void *bytes, size_t length)
{
    const char *at = bytes;
    while (length > 0) {
        struct iovec piece = {(void *)(uintptr_t)at, length};
        ssize_t written = fs->write(fs->context, file, &piece, 1);
        if (written < 0 && errno == EINTR)
            continue;
        if (written <= 0)
            return false;
        at += written;
        length -= (size_t)written;
    }
    return true;
}

void ind_fs_raise_file_limit(void)
{
    struct rlimit limit;
    if (getrlimit(RLIMIT_NOFILE, &limit) == 0 && limit.rlim_cur < limit.rlim_max) {
        limit.rlim_cur = limit.rlim_max < 1 << 20 ? limit.rlim_max : 1 << 20;
        (void)setrlimit(RLIMIT_NOFILE, &limit);
    }
}
