#include "store/disk/compress.h"

#include "core/line/template.h"
#include "store/disk/walk.h"
#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <unistd.h>
#include <zlib.h>
#include <zstd.h>

enum { FRAME = 1 << 20 };

struct packer {
    struct ind_disk *disk;
    enum ind_compression compression;
    int level;
    int from, to;
    char *text, *packed;
    size_t filled, room; /* of text; of packed */
    ZSTD_CCtx *zstd;
    uint64_t size;
    const struct ind_interrupt *interrupt;
};

static bool pack_zstd(struct packer *packer, size_t length, size_t *packed)
{
    *packed = ZSTD_compress2(packer->zstd, packer->packed, packer->room, packer->text, length);
    return !ZSTD_isError(*packed);
}

static bool pack_gzip(struct packer *packer, size_t length, size_t *packed)
{
    z_stream stream = {0};
    if (deflateInit2(&stream, packer->level, Z_DEFLATED, 15 + 16, 8, Z_DEFAULT_STRATEGY) != Z_OK)
        return false;
    stream.next_in = (Bytef *)packer->text;
    stream.avail_in = (uInt)length;
    stream.next_out = (Bytef *)packer->packed;
    stream.avail_out = (uInt)packer->room;
    bool good = deflate(&stream, Z_FINISH) == Z_STREAM_END;
    *packed = packer->room - stream.avail_out;
    deflateEnd(&stream);
    return good;
}

/* 0, or the error; as all below. */
static int pack(struct packer *packer, size_t length)
{
    size_t packed = 0;
    bool good = packer->compression == IND_COMPRESS_ZSTD ? pack_zstd(packer, length, &packed)
                                                         : pack_gzip(packer, length, &packed);
    if (!good)
        return ENOMEM;
    packer->size += packed;
    return ind_fs_write_all(&packer->disk->fs, packer->to, packer->packed, packed) ? 0 : errno;
}

/* The end of the last whole line in the text so far; all of it where a line is longer than a frame. */
static size_t line_end(const struct packer *packer)
{
    for (size_t i = packer->filled; i > 0; i--)
        if (packer->text[i - 1] == '\n')
            return i;
    return packer->filled;
}

static int pack_all(struct packer *packer)
{
    for (;;) {
        ssize_t got = read(packer->from, packer->text + packer->filled, FRAME - packer->filled);
        if (got < 0 && errno == EINTR)
            continue;
        if (got < 0)
            return errno;
        packer->filled += (size_t)got;
        if (got > 0 && packer->filled < FRAME)
            continue;
        if (packer->filled == 0)
            return 0;
        size_t length = got == 0 ? packer->filled : line_end(packer);
        int error = pack(packer, length);
        if (error)
            return error;
        memmove(packer->text, packer->text + length, packer->filled - length);
        packer->filled -= length;
        if (ind_interrupted(packer->interrupt))
            return ECANCELED;
    }
}

static int prepare(struct packer *packer)
{
    size_t zstd = ZSTD_compressBound(FRAME), gzip = (size_t)compressBound(FRAME) + 64;
    packer->room = zstd > gzip ? zstd : gzip;
    packer->text = malloc(FRAME);
    packer->packed = malloc(packer->room);
    packer->zstd = packer->compression == IND_COMPRESS_ZSTD ? ZSTD_createCCtx() : NULL;
    if (packer->zstd) {
        ZSTD_CCtx_setParameter(packer->zstd, ZSTD_c_compressionLevel, packer->level);
        ZSTD_CCtx_setParameter(packer->zstd, ZSTD_c_checksumFlag, 1);
    }
    bool good = packer->text && packer->packed && (packer->zstd || packer->compression != IND_COMPRESS_ZSTD);
    return good ? 0 : ENOMEM;
}

/* The packed file looks as the plain one did: owner's group, mode, and when it was last written to. */
static int copy_attributes(struct packer *packer)
{
    struct stat facts;
    const struct ind_fs *fs = &packer->disk->fs;
    if (fstat(packer->from, &facts) != 0 ||
        fs->own(fs->context, packer->to, facts.st_mode & 07777, (int64_t)facts.st_gid) != 0)
        return errno;
    struct timespec times[] = {facts.st_atim, facts.st_mtim};
    (void)futimens(packer->to, times);
    return 0;
}

static int open_files(struct packer *packer, const char *plain, const char *temporary)
{
    const struct ind_fs *fs = &packer->disk->fs;
    packer->from = openat(packer->disk->folder, plain, O_RDONLY | O_NOFOLLOW | O_CLOEXEC);
    if (packer->from < 0)
        return errno;
    packer->to = fs->open(fs->context, packer->disk->folder, temporary,
                          O_WRONLY | O_CREAT | O_TRUNC | O_NOFOLLOW, 0600);
    return packer->to < 0 ? errno : 0;
}

static int name_it(struct packer *packer, const char *temporary, const char *to)
{
    const struct ind_fs *fs = &packer->disk->fs;
    bool good = fs->sync(fs->context, packer->to) == 0 &&
                fs->rename(fs->context, packer->disk->folder, temporary, to) == 0;
    return good ? 0 : errno;
}

int ind_compress_file(struct ind_disk *disk, const char *plain, const char *to,
                      enum ind_compression compression, int level, const struct ind_interrupt *interrupt,
                      uint64_t *size)
{
    struct packer packer = {.disk = disk,
                            .compression = compression,
                            .level = level,
                            .from = -1,
                            .to = -1,
                            .interrupt = interrupt};
    char temporary[IND_PATH + 128];
    ind_temporary_name(to, temporary, sizeof temporary);
    int error = open_files(&packer, plain, temporary);
    error = error ? error : prepare(&packer);
    error = error ? error : pack_all(&packer);
    error = error ? error : copy_attributes(&packer);
    error = error ? error : name_it(&packer, temporary, to);
    if (packer.from >= 0)
        close(packer.from);
    if (packer.to >= 0) {
        close(packer.to);
        if (error)
            (void)disk->fs.remove(disk->fs.context, disk->folder, temporary);
    }
    free(packer.text);
    free(packer.packed);
    ZSTD_freeCCtx(packer.zstd);
    *size = packer.size;
    return error;
}
