/* The lines of a file, added up: of an archive once, of a live file from where the last time ended. */
#include "store/archive/catalog_file.h"

#include "store/archive/catalog.h"
#include "store/archive/catalog_private.h"
#include "store/disk/reader.h"

#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#define XXH_INLINE_ALL
#include <xxhash.h>

/* By so many bytes before the place up to which it was counted a file is known again. */
enum { KNOWN_BY = 256, PATH_ROOM = 1200 };

/* Of the bytes before `end`. */
static int64_t mark_before(int file, uint64_t end)
{
    char bytes[KNOWN_BY];
    const uint64_t from = end < KNOWN_BY ? 0 : end - KNOWN_BY;
    const ssize_t got = pread(file, bytes, (size_t)(end - from), (off_t)from);
    return got == (ssize_t)(end - from) ? (int64_t)XXH64(bytes, (size_t)got, 0) : -1;
}

/* An archive may be packed, or recompressed, meanwhile. -1 with errno set. */
static int open_file(int folder, const struct ind_counted_file *file, enum ind_compression *compression)
{
    static const enum ind_compression forms[] = {IND_COMPRESS_NONE, IND_COMPRESS_ZSTD, IND_COMPRESS_GZIP,
                                                 IND_COMPRESS_NONE};
    const int flags = O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC;
    *compression = IND_COMPRESS_NONE;
    if (file->live)
        return openat(folder, file->live, flags);
    int opened = -1;
    for (size_t i = 0; i < sizeof forms / sizeof *forms && opened < 0; i++) {
        char path[PATH_ROOM];
        snprintf(path, sizeof path, "%s%s", file->archive, ind_compression_suffix(forms[i]).at);
        *compression = forms[i];
        opened = openat(folder, path, flags);
        if (opened < 0 && errno != ENOENT)
            break;
    }
    return opened;
}

/* Whole lines only of a file that is still written to. 0, or the error. */
static int read_all(struct ind_reader *reader, struct ind_counted_file *file, struct ind_counting *counting,
                    const struct ind_interrupt *interrupt)
{
    struct ind_slice block;
    enum ind_read result;
    uint64_t at;
    while ((result = ind_reader_next(reader, &block, &at)) == IND_READ_BLOCK) {
        while (file->live && block.length && block.at[block.length - 1] != '\n')
            block.length--;
        ind_counting_add(counting, block);
        file->to = at + block.length;
        file->bytes += block.length;
        if (ind_interrupted(interrupt))
            return ECANCELED;
    }
    return result == IND_READ_END ? 0 : EBADMSG;
}

void ind_count_file(int folder, struct ind_counted_file *file, struct ind_counting *counting,
                    const struct ind_interrupt *interrupt)
{
    enum ind_compression compression;
    struct stat facts;
    int opened = open_file(folder, file, &compression);
    ind_counting_begin(counting, file->stored);
    if (opened < 0 || fstat(opened, &facts) != 0 || !S_ISREG(facts.st_mode)) {
        file->error = opened < 0 ? errno : ELOOP;
        if (opened >= 0)
            close(opened);
        return;
    }
    const bool goes_on = compression == IND_COMPRESS_NONE && file->from > 0 &&
                         (uint64_t)facts.st_size >= file->from &&
                         mark_before(opened, file->from) == file->mark;
    file->instead = !goes_on;
    file->to = goes_on ? file->from : 0;
    const int copy = dup(opened);
    struct ind_reader *reader = copy < 0 ? NULL : ind_reader_open(copy, compression, file->to, UINT64_MAX);
    file->error = reader ? read_all(reader, file, counting, interrupt) : ENOMEM;
    ind_reader_close(reader);
    /* Of a packed one no part is kept: it would have to be unpacked again up to there. */
    file->mark = compression == IND_COMPRESS_NONE ? mark_before(opened, file->to) : 0;
    if (compression != IND_COMPRESS_NONE && file->error == ECANCELED)
        file->to = 0;
    close(opened);
}

/* ---- Of an archive that goes ---- */

static struct ind_slice name_of(void *context, uint32_t device)
{
    return ind_counting_name(context, device);
}

char *ind_catalog_closing_of(int folder, const char *archive, int stored,
                             const struct ind_interrupt *interrupt)
{
    struct ind_counting *counting = ind_counting_new();
    char *text = NULL, *path = strdup(archive);
    struct ind_counted_file file = {.archive = path, .stored = stored};
    if (counting && path) {
        ind_count_file(folder, &file, counting, interrupt);
        struct ind_volumes *volumes = file.error ? NULL : ind_counting_volumes(counting);
        text = volumes ? ind_catalog_closing_text(volumes, name_of, counting) : NULL;
    }
    free(path);
    ind_counting_free(counting);
    return text;
}
