#include "store/disk/frame.h"

#include <errno.h>
#include <stdlib.h>
#include <unistd.h>
#include <zstd.h>

struct ind_frame_reader {
    ZSTD_DCtx *zstd;
    char *packed;
    size_t room;
};

struct ind_frame_reader *ind_frame_reader_new(void)
{
    struct ind_frame_reader *reader = calloc(1, sizeof *reader);
    if (reader && (reader->zstd = ZSTD_createDCtx()))
        return reader;
    free(reader);
    return NULL;
}

void ind_frame_reader_free(struct ind_frame_reader *reader)
{
    if (!reader)
        return;
    ZSTD_freeDCtx(reader->zstd);
    free(reader->packed);
    free(reader);
}

static const char *read_whole(int file, char *to, size_t length, uint64_t from)
{
    for (size_t done = 0; done < length;) {
        const ssize_t got = pread(file, to + done, length - done, (off_t)(from + done));
        if (got < 0 && errno == EINTR)
            continue;
        if (got < 0)
            return strerror(errno);
        if (got == 0)
            return "the file ends early";
        done += (size_t)got;
    }
    return NULL;
}

const char *ind_frame_read(struct ind_frame_reader *reader, int file, uint64_t offset, size_t packed,
                           char *text, size_t length)
{
    if (reader->room < packed) {
        free(reader->packed);
        reader->packed = malloc(packed);
        reader->room = reader->packed ? packed : 0;
        if (!reader->packed)
            return "out of memory";
    }
    const char *reason = read_whole(file, reader->packed, packed, offset);
    if (reason)
        return reason;
    const size_t got = ZSTD_decompressDCtx(reader->zstd, text, length, reader->packed, packed);
    return ZSTD_isError(got) ? ZSTD_getErrorName(got)
           : got != length   ? "the text is not as long as the index says"
                             : NULL;
}
