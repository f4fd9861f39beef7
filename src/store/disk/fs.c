#include "store/disk/fs.h"

#include "core/line/template.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <unistd.h>

enum { NAME_MOST = 255 };

/* The folder that holds `path`, whose last part is *name: `folder` itself, or another that is to be closed.
 * No part may be a symbolic link: what is written through one is not found again. -1 with errno set
 * (ENOTDIR). */
static int open_parent(int folder, const char *path, const char **name)
{
    int at = folder;
    const char *slash;
    for (*name = path; at >= 0 && (slash = strchr(*name, '/')) != NULL; *name = slash + 1) {
        char part[NAME_MOST + 1];
        size_t length = (size_t)(slash - *name);
        if (length > NAME_MOST) {
            errno = ENAMETOOLONG;
            length = 0;
        }
        memcpy(part, *name, length);
        part[length] = '\0';
        int next = length ? openat(at, part, O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC) : -1;
        int error = errno;
        if (at != folder)
            close(at);
        at = next;
        errno = error;
    }
    return at;
}

static void close_parent(int parent, int folder)
{
    int error = errno;
    if (parent >= 0 && parent != folder)
        close(parent);
    errno = error;
}

static int posix_open(void *context, int folder, const char *path, int flags, unsigned mode)
{
    const char *name;
    int parent = open_parent(folder, path, &name);
    (void)context;
    int file = parent < 0 ? -1 : openat(parent, name, flags | O_NOFOLLOW | O_CLOEXEC, (mode_t)mode);
    close_parent(parent, folder);
    return file;
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
    const char *old, *new;
    int from_parent = open_parent(folder, from, &old), to_parent = open_parent(folder, to, &new);
    (void)context;
    int result = from_parent < 0 || to_parent < 0 ? -1 : renameat(from_parent, old, to_parent, new);
    close_parent(from_parent, folder);
    close_parent(to_parent, folder);
    return result;
}

static int posix_remove(void *context, int folder, const char *path)
{
    const char *name;
    int parent = open_parent(folder, path, &name);
    (void)context;
    int result = parent < 0 ? -1 : unlinkat(parent, name, 0);
    close_parent(parent, folder);
    return result;
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
    const char *name;
    int parent = open_parent(folder, path, &name), result = -1;
    if (parent >= 0 && mkdirat(parent, name, (mode_t)mode) == 0) {
        int made = openat(parent, name, O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC);
        result = made < 0 ? -1 : posix_own(context, made, mode, group);
        close_parent(made, -1);
    }
    close_parent(parent, folder);
    return result;
}

static int posix_space(void *context, int folder, uint64_t *size, uint64_t *room)
{
    struct statvfs facts;
    (void)context;
    if (fstatvfs(folder, &facts) != 0)
        return -1;
    *size = (uint64_t)facts.f_blocks * facts.f_frsize;
    *room = (uint64_t)facts.f_bavail * facts.f_frsize;
    return 0;
}

const struct ind_fs ind_fs_posix = {NULL,       posix_open,   posix_write,  posix_truncate,
                                    posix_sync, posix_rename, posix_remove, posix_make_folder,
                                    posix_own,  posix_space};

static int dry_open(void *context, int folder, const char *path, int flags, unsigned mode)
{
    return flags & O_CREAT ? open("/dev/null", O_WRONLY | O_CLOEXEC)
                           : posix_open(context, folder, path, O_RDONLY | O_NONBLOCK, mode);
}

static ssize_t dry_write(void *context, int file, const struct iovec *pieces, int count)
{
    ssize_t length = 0;
    (void)context;
    (void)file;
    for (int i = 0; i < count; i++)
        length += (ssize_t)pieces[i].iov_len;
    return length;
}

static int dry_truncate(void *context, int file, uint64_t size)
{
    (void)context;
    (void)file;
    (void)size;
    return 0;
}

static int dry_sync(void *context, int file)
{
    (void)context;
    (void)file;
    return 0;
}

static int dry_rename(void *context, int folder, const char *from, const char *to)
{
    (void)context;
    (void)folder;
    (void)from;
    (void)to;
    return 0;
}

static int dry_remove(void *context, int folder, const char *path)
{
    (void)context;
    (void)folder;
    (void)path;
    return 0;
}

static int dry_make_folder(void *context, int folder, const char *path, unsigned mode, int64_t group)
{
    (void)context;
    (void)folder;
    (void)path;
    (void)mode;
    (void)group;
    return 0;
}

static int dry_own(void *context, int file, unsigned mode, int64_t group)
{
    (void)context;
    (void)file;
    (void)mode;
    (void)group;
    return 0;
}

const struct ind_fs ind_fs_dry = {NULL,       dry_open,   dry_write,       dry_truncate, dry_sync,
                                  dry_rename, dry_remove, dry_make_folder, dry_own,      posix_space};

/* A file system that flushes no folders says EINVAL: it does what it can. */
static int sync_folder(const struct ind_fs *fs, int folder, const char *path)
{
    int fd = openat(folder, path, O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC);
    if (fd < 0)
        return errno;
    int error = fs->sync(fs->context, fd) == 0 || errno == EINVAL ? 0 : errno;
    close(fd);
    return error;
}

int ind_fs_sync_folders_of(const struct ind_fs *fs, int folder, const char *path)
{
    char parent[1200];
    int error = 0;
    if ((size_t)snprintf(parent, sizeof parent, "%s", path) >= sizeof parent)
        return ENAMETOOLONG;
    for (char *slash; !error && (slash = strrchr(parent, '/'));) {
        *slash = '\0';
        error = sync_folder(fs, folder, parent);
    }
    return error ? error : sync_folder(fs, folder, ".");
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

bool ind_fs_make_folders_of(const struct ind_fs *fs, int folder, const char *path, unsigned mode,
                            int64_t group)
{
    char part[IND_PATH + 128];
    for (const char *slash = strchr(path, '/'); slash; slash = strchr(slash + 1, '/')) {
        snprintf(part, sizeof part, "%.*s", (int)(slash - path), path);
        if (fs->make_folder(fs->context, folder, part, mode, group) != 0 && errno != EEXIST)
            return false;
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

bool ind_fs_make_path(const char *path, void (*made)(void *context, const char *path), void *context)
{
    char part[4096];
    size_t length = strlen(path);
    if (length >= sizeof part) {
        errno = ENAMETOOLONG;
        return false;
    }
    for (size_t i = 1; i <= length; i++) {
        if (path[i] != '/' && path[i] != '\0')
            continue;
        memcpy(part, path, i);
        part[i] = '\0';
        bool new = mkdir(part, 0750) == 0;
        if (!new &&errno != EEXIST)
            return false;
        if (new &&made)
            made(context, part);
    }
    return true;
}
