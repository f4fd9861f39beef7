#define _DEFAULT_SOURCE /* d_type */
#include "store/disk/walk.h"

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

enum { DEEPEST = 16, PATH_ROOM = 1200 };

void ind_temporary_name(const char *path, char *name, size_t room)
{
    const char *slash = strrchr(path, '/');
    int folder = slash ? (int)(slash + 1 - path) : 0;
    snprintf(name, room, "%.*s.%s.tmp", folder, path, path + folder);
}

bool ind_is_temporary_name(const char *name)
{
    size_t length = strlen(name);
    return name[0] == '.' && length > 5 && strcmp(name + length - 4, ".tmp") == 0;
}

struct walk {
    bool (*visit)(void *context, const char *path);
    void *context;
    size_t *unreadable;
    char path[PATH_ROOM];
};

static bool is_folder(int folder, const struct dirent *entry)
{
    struct stat facts;
#ifdef DT_DIR
    if (entry->d_type != DT_UNKNOWN)
        return entry->d_type == DT_DIR;
#endif
    return fstatat(folder, entry->d_name, &facts, AT_SYMLINK_NOFOLLOW) == 0 && S_ISDIR(facts.st_mode);
}

static bool walk_folder(struct walk *walk, int folder, size_t length, int depth)
{
    DIR *stream = fdopendir(folder);
    struct dirent *entry;
    bool good = true;
    if (!stream) {
        close(folder);
        return false;
    }
    while (good && (entry = readdir(stream)) != NULL) {
        bool is_dir = is_folder(dirfd(stream), entry);
        if (entry->d_name[0] == '.' && (is_dir || !ind_is_temporary_name(entry->d_name)))
            continue;
        int written =
            snprintf(walk->path + length, PATH_ROOM - length, "%s%s", length ? "/" : "", entry->d_name);
        if (written < 0 || (size_t)written >= PATH_ROOM - length)
            continue;
        if (!is_dir) {
            good = walk->visit(walk->context, walk->path);
        } else if (depth < DEEPEST) {
            int inner = openat(dirfd(stream), entry->d_name, O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC);
            if (inner >= 0)
                good = walk_folder(walk, inner, length + (size_t)written, depth + 1);
            else if (errno != ENOENT && walk->unreadable)
                ++*walk->unreadable;
        }
    }
    closedir(stream);
    return good;
}

bool ind_walk(int folder, bool (*visit)(void *, const char *), void *context, size_t *unreadable)
{
    struct walk walk = {visit, context, unreadable, ""};
    int top = openat(folder, ".", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    return top >= 0 && walk_folder(&walk, top, 0, 0);
}
