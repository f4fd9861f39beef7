#include "store/disk/frame.h"

#include "store/disk/read_at.h"
#include <stdlib.h>
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
    const ssize_t there = ind_read_at(file, reader->packed, packed, offset);
    if (there < (ssize_t)packed)
        return there < 0 ? strerror(errno) : "the file ends early";
    const size_t got = ZSTD_decompressDCtx(reader->zstd, text, length, reader->packed, packed);
    return ZSTD_isError(got) ? ZSTD_getErrorName(got)
           : got != length   ? "the text is not as long as the index says"
                             : NULL;
}
