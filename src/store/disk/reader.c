#include "store/disk/reader.h"

#include <errno.h>
#include <stdlib.h>
#include <unistd.h>
#include <zlib.h>
#include <zstd.h>

enum { BLOCK = 256 << 10, PACKED = 256 << 10, LONGEST_LINE = 64 << 20 };

struct ind_reader {
    int file;
    enum ind_compression compression;
    uint64_t place, limit; /* of the file on disk */
    uint64_t at;           /* of the text: where `text` begins */
    char *text;
    size_t room, filled, given; /* bytes of text; of these, those given out already */
    char *packed;
    size_t packed_from, packed_to;
    ZSTD_DStream *zstd;
    z_stream gzip;
    bool gzip_open, frame_open, ended;
    const char *reason;
};

enum ind_compression ind_compression_of(const char *path)
{
    size_t length = strlen(path);
    if (length > 4 && strcmp(path + length - 4, ".zst") == 0)
        return IND_COMPRESS_ZSTD;
    return length > 3 && strcmp(path + length - 3, ".gz") == 0 ? IND_COMPRESS_GZIP : IND_COMPRESS_NONE;
}

struct ind_reader *ind_reader_open(int file, enum ind_compression compression, uint64_t from, uint64_t limit)
{
    struct ind_reader *reader = calloc(1, sizeof *reader);
    if (!reader) {
        close(file);
        errno = ENOMEM;
        return NULL;
    }
    reader->file = file;
    reader->compression = compression;
    reader->place = reader->at = from;
    reader->limit = limit;
    reader->room = BLOCK;
    reader->text = malloc(reader->room);
    if (compression != IND_COMPRESS_NONE)
        reader->packed = malloc(PACKED);
    if (compression == IND_COMPRESS_ZSTD)
        reader->zstd = ZSTD_createDStream();
    if (compression == IND_COMPRESS_GZIP)
        reader->gzip_open = inflateInit2(&reader->gzip, 15 + 16) == Z_OK;
    if (!reader->text || (compression != IND_COMPRESS_NONE && !reader->packed) ||
        (compression == IND_COMPRESS_ZSTD && !reader->zstd) ||
        (compression == IND_COMPRESS_GZIP && !reader->gzip_open)) {
        ind_reader_close(reader);
        errno = ENOMEM;
        return NULL;
    }
    return reader;
}

void ind_reader_close(struct ind_reader *reader)
{
    if (!reader)
        return;
    if (reader->gzip_open)
        inflateEnd(&reader->gzip);
    ZSTD_freeDStream(reader->zstd);
    free(reader->packed);
    free(reader->text);
    close(reader->file);
    free(reader);
}

const char *ind_reader_reason(const struct ind_reader *reader)
{
    return reader->reason;
}

/* Reads bytes of the file as they lie on disk; 0 at the end, -1 with `reason` set. */
static ssize_t read_disk(struct ind_reader *reader, char *to, size_t room)
{
    uint64_t left = reader->limit > reader->place ? reader->limit - reader->place : 0;
    if (room > left)
        room = (size_t)left;
    if (room == 0)
        return 0;
    ssize_t got;
    do
        got = pread(reader->file, to, room, (off_t)reader->place);
    while (got < 0 && errno == EINTR);
    if (got < 0 && errno == ESPIPE) /* a pipe: it has one place only */
        do
            got = read(reader->file, to, room);
        while (got < 0 && errno == EINTR);
    if (got < 0)
        reader->reason = strerror(errno);
    else
        reader->place += (uint64_t)got;
    return got;
}

static bool refill(struct ind_reader *reader)
{
    if (reader->packed_from < reader->packed_to)
        return true;
    ssize_t got = read_disk(reader, reader->packed, PACKED);
    if (got < 0)
        return false;
    reader->packed_from = 0;
    reader->packed_to = (size_t)got;
    if (got == 0 && reader->frame_open)
        reader->reason = "the compressed file ends early";
    return got > 0;
}

static ssize_t unpack_zstd(struct ind_reader *reader, char *to, size_t room)
{
    while (refill(reader)) {
        ZSTD_inBuffer in = {reader->packed, reader->packed_to, reader->packed_from};
        ZSTD_outBuffer out = {to, room, 0};
        size_t result = ZSTD_decompressStream(reader->zstd, &out, &in);
        reader->packed_from = in.pos;
        if (ZSTD_isError(result)) {
            reader->reason = ZSTD_getErrorName(result);
            return -1;
        }
        reader->frame_open = result != 0;
        if (out.pos > 0)
            return (ssize_t)out.pos;
    }
    return reader->reason ? -1 : 0;
}

static ssize_t unpack_gzip(struct ind_reader *reader, char *to, size_t room)
{
    while (refill(reader)) {
        z_stream *gzip = &reader->gzip;
        gzip->next_in = (Bytef *)reader->packed + reader->packed_from;
        gzip->avail_in = (uInt)(reader->packed_to - reader->packed_from);
        gzip->next_out = (Bytef *)to;
        gzip->avail_out = (uInt)room;
        int result = inflate(gzip, Z_NO_FLUSH);
        reader->packed_from = reader->packed_to - gzip->avail_in;
        if (result != Z_OK && result != Z_STREAM_END && result != Z_BUF_ERROR) {
            reader->reason = gzip->msg ? gzip->msg : "not in gzip's format";
            return -1;
        }
        reader->frame_open = result != Z_STREAM_END;
        if (result == Z_STREAM_END && inflateReset(gzip) != Z_OK)
            reader->reason = "out of memory";
        if (gzip->avail_out < room)
            return (ssize_t)(room - gzip->avail_out);
    }
    return reader->reason ? -1 : 0;
}

static ssize_t read_text(struct ind_reader *reader, char *to, size_t room)
{
    return reader->compression == IND_COMPRESS_ZSTD   ? unpack_zstd(reader, to, room)
           : reader->compression == IND_COMPRESS_GZIP ? unpack_gzip(reader, to, room)
                                                      : read_disk(reader, to, room);
}

static const char *last_newline(const char *at, size_t length)
{
    while (length > 0)
        if (at[--length] == '\n')
            return at + length;
    return NULL;
}

static bool make_room(struct ind_reader *reader)
{
    if (reader->filled < reader->room)
        return true;
    char *grown = reader->room < LONGEST_LINE ? realloc(reader->text, reader->room * 2) : NULL;
    if (!grown) {
        reader->reason = "a line of more than 64 MiB: this is not a file of messages";
        return false;
    }
    reader->text = grown;
    reader->room *= 2;
    return true;
}

enum ind_read ind_reader_next(struct ind_reader *reader, struct ind_slice *block, uint64_t *at)
{
    reader->at += reader->given;
    reader->filled -= reader->given;
    memmove(reader->text, reader->text + reader->given, reader->filled);
    reader->given = 0;
    size_t looked = 0;
    while (!reader->ended) {
        if (!make_room(reader))
            return IND_READ_FAILED;
        ssize_t got = read_text(reader, reader->text + reader->filled, reader->room - reader->filled);
        if (got < 0)
            return IND_READ_FAILED;
        reader->ended = got == 0;
        reader->filled += (size_t)got;
        const char *newline = last_newline(reader->text + looked, reader->filled - looked);
        looked = reader->filled;
        if (newline && (reader->filled >= reader->room / 2 || reader->ended)) {
            reader->given = (size_t)(newline + 1 - reader->text);
            break;
        }
    }
    if (reader->given == 0) {
        const char *newline = last_newline(reader->text, reader->filled);
        reader->given = newline ? (size_t)(newline + 1 - reader->text) : reader->filled;
    }
    *block = (struct ind_slice){reader->text, reader->given};
    *at = reader->at;
    return reader->given ? IND_READ_BLOCK : IND_READ_END;
}
