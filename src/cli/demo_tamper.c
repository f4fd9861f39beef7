#include "cli/demo_tamper.h"

#include "cli/cli.h"
#include "core/archive/archive_name.h"
#include "store/disk/reader.h"
#include "store/disk/walk.h"

#include <errno.h>
#include <fcntl.h>
#include <string.h>
#include <unistd.h>

struct first {
    const char *folder;
    char *name;
    size_t room;
};

static bool take_first(void *context, const char *path)
{
    const struct first *first = context;
    const bool is_one = strncmp(path, first->folder, strlen(first->folder)) == 0 &&
                        ind_compression_of(path) == IND_COMPRESS_ZSTD;
    if (is_one && (!first->name[0] || strcmp(path, first->name) < 0))
        snprintf(first->name, first->room, "%s", path);
    return true;
}

/* "203.0.113.…" of a documentation network becomes one of another. */
static void change(char *text, size_t length)
{
    static const char before[] = "from 203.0.113.", after[] = "from 192.0.2.01";
    for (size_t i = 0; i + sizeof before <= length; i++)
        if (memcmp(text + i, before, sizeof before - 1) == 0) {
            memcpy(text + i, after, sizeof after - 1);
            return;
        }
}

static bool put_back(int store, const char *packed)
{
    struct ind_archive_name name;
    struct ind_slice block = IND_NOTHING;
    char plain[1200], text[1 << 16];
    uint64_t at;
    const int file = openat(store, packed, O_RDONLY | O_CLOEXEC);
    struct ind_reader *reader = file >= 0 ? ind_reader_open(file, IND_COMPRESS_ZSTD, 0, UINT64_MAX) : NULL;
    if (!reader || !ind_archive_name_read(ind_slice_of(packed), &name) ||
        ind_reader_next(reader, &block, &at) != IND_READ_BLOCK || block.length > sizeof text) {
        ind_reader_close(reader);
        return false;
    }
    memcpy(text, block.at, block.length);
    ind_reader_close(reader);
    change(text, block.length);
    snprintf(plain, sizeof plain, "%.*s", IND_ARG(name.plain));
    const int to = openat(store, plain, O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0640);
    const bool good = to >= 0 && write(to, text, block.length) == (ssize_t)block.length;
    if (to >= 0)
        close(to);
    return good && unlinkat(store, packed, 0) == 0;
}

bool ind_demo_tamper(const char *store, const char *folder, char *name, size_t room)
{
    struct first first = {folder, name, room};
    const int at = open(store, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    name[0] = '\0';
    bool good = at >= 0 && ind_walk(at, take_first, &first, NULL) && name[0] && put_back(at, name);
    if (!good)
        ind_complain("cannot change an archive below %s/%s: %s", store, folder, strerror(errno));
    if (at >= 0)
        close(at);
    return good;
}
