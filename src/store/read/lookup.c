#define _GNU_SOURCE
#include "store/read/lookup.h"

#include "core/archive/archive_name.h"
#include "store/disk/journal.h"
#include "store/disk/line_reader.h"
#include "store/disk/reader.h"
#include <fcntl.h>
#include <limits.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <unistd.h>

struct wanted {
    struct ind_slice path; /* in the store: of a live file, or of the plain archive */
    bool live;
    int stored;
};

/* The newest counts. */
static void add_opened(void *context, const struct ind_journal_record *record)
{
    struct wanted *wanted = context;
    if (record->event == IND_EVENT_OPENED &&
        ind_slice_equal(ind_slice_of(wanted->live ? record->live : record->archive), wanted->path))
        wanted->stored = ind_stored_read(ind_slice_of(record->layout), record->version);
}

static int look_in(int folder, const char *path)
{
    struct ind_archive_name name;
    struct wanted wanted = {ind_slice_of(path), true, IND_STORED_UNKNOWN};
    if (ind_archive_name_read(wanted.path, &name)) {
        wanted.path = name.plain;
        wanted.live = false;
    }
    (void)ind_journal_read(folder, 0, "opened", add_opened, &wanted);
    return wanted.stored;
}

static bool has_journal(const char *path)
{
    int folder = open(path, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    bool found = folder >= 0 && ind_journal_size(folder) > 0;
    if (folder >= 0)
        close(folder);
    return found;
}

char *ind_store_around(const char *path, const char **inside)
{
    char *real = realpath(path, NULL);
    if (!real)
        return NULL;
    *inside = real + strlen(real);
    if (has_journal(real))
        return real;
    for (size_t at = strlen(real); at > 1; at--) {
        if (real[at - 1] != '/')
            continue;
        real[at - 1] = '\0';
        *inside = real + at;
        if (has_journal(real))
            return real;
        real[at - 1] = '/';
    }
    free(real);
    return NULL;
}

int ind_stored_of_path(const char *path)
{
    const char *inside;
    int stored = IND_STORED_UNKNOWN;
    char *store = ind_store_around(path, &inside);
    int folder = store ? open(store, O_RDONLY | O_DIRECTORY | O_CLOEXEC) : -1;
    if (folder >= 0) {
        stored = look_in(folder, inside);
        close(folder);
    }
    free(store);
    return stored;
}

bool ind_lies_in(const char *store, const char *path)
{
    char *outer = realpath(store, NULL), *inner = realpath(path, NULL);
    size_t length = outer ? strlen(outer) : 0;
    bool lies = outer && inner && strncmp(outer, inner, length) == 0 && (inner[length] == '/' || length == 1);
    free(outer);
    free(inner);
    return lies;
}

bool ind_is_same_folder(const char *one, const char *other)
{
    struct stat a, b;
    return stat(one, &a) == 0 && stat(other, &b) == 0 && a.st_dev == b.st_dev && a.st_ino == b.st_ino;
}

int ind_looks_stored(const char *path)
{
    struct ind_message message;
    struct ind_slice block, line, bytes;
    struct stat facts;
    uint64_t at;
    int looks = -1, file = open(path, O_RDONLY | O_NONBLOCK | O_CLOEXEC);
    if (file < 0 || fstat(file, &facts) != 0 || !S_ISREG(facts.st_mode)) {
        if (file >= 0)
            close(file);
        return -1;
    }
    struct ind_reader *reader = ind_reader_open(file, ind_compression_of(path), 0, UINT64_MAX);
    struct ind_line_reader *lines = ind_line_reader_new();
    if (reader && lines && ind_reader_next(reader, &block, &at) == IND_READ_BLOCK &&
        ind_slice_line(&block, &line))
        looks = ind_line_reader_read(lines, IND_LAYOUT_PLAIN, line, &message, &bytes)  ? IND_LAYOUT_PLAIN
                : ind_line_reader_read(lines, IND_LAYOUT_JSON, line, &message, &bytes) ? IND_LAYOUT_JSON
                                                                                       : -1;
    ind_line_reader_free(lines);
    ind_reader_close(reader);
    return looks;
}
