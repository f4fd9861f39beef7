#include "store/disk/packer.h"

#include "store/disk/fs.h"
#include <errno.h>
#include <stdlib.h>
#include <unistd.h>
#include <zlib.h>
#include <zstd.h>

enum { ROOM = 128 << 10, GZIP_WRAP = 15 + 16 };

struct ind_packer {
    int file;
    enum ind_compression compression;
    ZSTD_CStream *zstd;
    z_stream gzip;
    bool gzip_open;
    char out[ROOM];
};

static void free_packer(struct ind_packer *packer)
{
    const int error = errno;
    if (packer->gzip_open)
        (void)deflateEnd(&packer->gzip);
    ZSTD_freeCStream(packer->zstd);
    free(packer);
    errno = error;
}

struct ind_packer *ind_packer_new(int file, enum ind_compression compression)
{
    struct ind_packer *packer = calloc(1, sizeof *packer);
    bool good = packer != NULL;
    if (good) {
        packer->file = file;
        packer->compression = compression;
    }
    if (good && compression == IND_COMPRESS_ZSTD)
        good = (packer->zstd = ZSTD_createCStream()) != NULL;
    if (good && compression == IND_COMPRESS_GZIP)
        good = packer->gzip_open = deflateInit2(&packer->gzip, Z_DEFAULT_COMPRESSION, Z_DEFLATED, GZIP_WRAP,
                                                8, Z_DEFAULT_STRATEGY) == Z_OK;
    if (good)
        return packer;
    if (packer)
        free_packer(packer);
    close(file);
    errno = ENOMEM;
    return NULL;
}

static bool pack_zstd(struct ind_packer *packer, const char *bytes, size_t length, bool end)
{
    ZSTD_inBuffer in = {bytes, length, 0};
    size_t left;
    do {
        ZSTD_outBuffer out = {packer->out, ROOM, 0};
        left = ZSTD_compressStream2(packer->zstd, &out, &in, end ? ZSTD_e_end : ZSTD_e_continue);
        if (ZSTD_isError(left)) {
            errno = EIO;
            return false;
        }
        if (!ind_fs_write_all(&ind_fs_posix, packer->file, packer->out, out.pos))
            return false;
    } while (in.pos < in.size || (end && left > 0));
    return true;
}

static bool pack_gzip(struct ind_packer *packer, const char *bytes, size_t length, bool end)
{
    z_stream *gzip = &packer->gzip;
    int result;
    gzip->next_in = (Bytef *)(uintptr_t)bytes;
    gzip->avail_in = (uInt)length;
    do {
        gzip->next_out = (Bytef *)packer->out;
        gzip->avail_out = ROOM;
        result = deflate(gzip, end ? Z_FINISH : Z_NO_FLUSH);
        if (result == Z_STREAM_ERROR) {
            errno = EIO;
            return false;
        }
        if (!ind_fs_write_all(&ind_fs_posix, packer->file, packer->out, ROOM - gzip->avail_out))
            return false;
    } while (gzip->avail_out == 0 || (end && result != Z_STREAM_END));
    return true;
}

static bool pack(struct ind_packer *packer, const char *bytes, size_t length, bool end)
{
    switch (packer->compression) {
    case IND_COMPRESS_ZSTD:
        return pack_zstd(packer, bytes, length, end);
    case IND_COMPRESS_GZIP:
        return pack_gzip(packer, bytes, length, end);
    default:
        return ind_fs_write_all(&ind_fs_posix, packer->file, bytes, length);
    }
}

bool ind_packer_write(struct ind_packer *packer, const char *bytes, size_t length)
{
    enum { AT_ONCE = 1 << 30 };
    for (size_t at = 0; at < length; at += AT_ONCE)
        if (!pack(packer, bytes + at, length - at < AT_ONCE ? length - at : AT_ONCE, false))
            return false;
    return true;
}

bool ind_packer_end(struct ind_packer *packer)
{
    bool good = pack(packer, NULL, 0, true) && fsync(packer->file) == 0;
    const int error = errno, file = packer->file;
    free_packer(packer);
    const bool closed = close(file) == 0;
    errno = good ? errno : error;
    return good && closed;
}
