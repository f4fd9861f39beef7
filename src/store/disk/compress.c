#include "store/disk/compress.h"

#include "core/line/template.h"
#include "store/disk/index_file.h"
#include "store/disk/reader.h"
#include "store/disk/walk.h"
#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <unistd.h>
#include <zlib.h>
#include <zstd.h>

enum { PART = 1 << 20 };

size_t ind_frame_size(int level)
{
    return (size_t)1 << (level < 13 ? 20 : level < 16 ? 22 : 23);
}

struct packer {
    struct ind_disk *disk;
    enum ind_compression compression;
    int level;
    int from, to;
    struct ind_reader *reader; /* of `from`, where that is compressed; else NULL */
    struct ind_slice block;    /* what is left of what it gave last */
    size_t frame;
    char *text, *packed;
    size_t filled, room; /* of text; of packed */
    ZSTD_CCtx *zstd;
    z_stream gzip;
    bool gzip_open;
    const struct ind_frame_calls *calls; /* or NULL */
    struct ind_digesting *digesting;     /* likewise */
    uint64_t size;
    const struct ind_interrupt *interrupt;
};

static int put(struct packer *packer, size_t packed)
{
    packer->size += packed;
    return ind_fs_write_all(&packer->disk->fs, packer->to, packer->packed, packed) ? 0 : errno;
}

/* A frame at the levels that take long is packed in parts, so that nobody waits for all of it. */
static int pack_frame(struct packer *packer, size_t length, size_t *packed)
{
    ZSTD_outBuffer out = {packer->packed, packer->room, 0};
    size_t left = 1;
    (void)ZSTD_CCtx_setPledgedSrcSize(packer->zstd, length);
    for (size_t done = 0; left; done += PART) {
        const size_t part = length - done < PART ? length - done : PART;
        const bool last = done + part == length;
        ZSTD_inBuffer in = {packer->text + done, part, 0};
        do {
            left = ZSTD_compressStream2(packer->zstd, &out, &in, last ? ZSTD_e_end : ZSTD_e_continue);
            if (ZSTD_isError(left))
                return ENOMEM;
        } while (last ? left > 0 : in.pos < in.size);
        if (!last && ind_interrupted(packer->interrupt))
            return ECANCELED;
        left = last ? 0 : 1;
    }
    *packed = out.pos;
    return 0;
}

/* 0, or the error; as all below. */
static int pack_zstd(struct packer *packer, size_t length)
{
    const struct ind_frame_calls *calls = packer->calls;
    if (calls)
        calls->begin(calls->context, (struct ind_slice){packer->text, length});
    size_t packed = 0;
    int error = pack_frame(packer, length, &packed);
    error = error ? error : put(packer, packed);
    if (calls)
        calls->end(calls->context, error ? 0 : (uint32_t)packed);
    return error;
}

/* One member: what is packed may lie in zlib's memory until the end of the text. */
static int pack_gzip(struct packer *packer, size_t length, bool last)
{
    z_stream *gzip = &packer->gzip;
    int error = 0;
    gzip->next_in = (Bytef *)packer->text;
    gzip->avail_in = (uInt)length;
    do {
        gzip->next_out = (Bytef *)packer->packed;
        gzip->avail_out = (uInt)packer->room;
        if (deflate(gzip, last ? Z_FINISH : Z_NO_FLUSH) == Z_STREAM_ERROR)
            return ENOMEM;
        error = put(packer, packer->room - gzip->avail_out);
    } while (!error && gzip->avail_out == 0);
    return error;
}

static int pack(struct packer *packer, size_t length, bool last)
{
    if (packer->digesting && !ind_digesting_add(packer->digesting, packer->text, length))
        return EIO;
    return packer->compression == IND_COMPRESS_ZSTD ? pack_zstd(packer, length)
                                                    : pack_gzip(packer, length, last);
}

/* The end of the last whole line in the text so far; all of it where a line is longer than a frame. */
static size_t line_end(const struct packer *packer)
{
    for (size_t i = packer->filled; i > 0; i--)
        if (packer->text[i - 1] == '\n')
            return i;
    return packer->filled;
}

/* As read(2). */
static ssize_t get(struct packer *packer, char *to, size_t room)
{
    uint64_t at;
    if (!packer->reader)
        return read(packer->from, to, room);
    if (packer->block.length == 0) {
        const enum ind_read got = ind_reader_next(packer->reader, &packer->block, &at);
        if (got != IND_READ_BLOCK) {
            packer->block = IND_NOTHING;
            errno = EBADMSG;
            return got == IND_READ_END ? 0 : -1;
        }
    }
    const size_t part = packer->block.length < room ? packer->block.length : room;
    memcpy(to, packer->block.at, part);
    packer->block = ind_slice_from(packer->block, part);
    return (ssize_t)part;
}

static int pack_all(struct packer *packer)
{
    for (;;) {
        ssize_t got = get(packer, packer->text + packer->filled, packer->frame - packer->filled);
        if (got < 0 && errno == EINTR)
            continue;
        if (got < 0)
            return errno;
        packer->filled += (size_t)got;
        if (got > 0 && packer->filled < packer->frame)
            continue;
        const bool last = got == 0;
        if (packer->filled == 0 && packer->compression == IND_COMPRESS_ZSTD)
            return 0;
        size_t length = last ? packer->filled : line_end(packer);
        int error = pack(packer, length, last);
        if (error)
            return error;
        memmove(packer->text, packer->text + length, packer->filled - length);
        packer->filled -= length;
        if (last)
            return 0;
        if (ind_interrupted(packer->interrupt))
            return ECANCELED;
    }
}

static int prepare(struct packer *packer)
{
    packer->room = ZSTD_compressBound(packer->frame);
    packer->text = malloc(packer->frame);
    packer->packed = malloc(packer->room);
    packer->zstd = packer->compression == IND_COMPRESS_ZSTD ? ZSTD_createCCtx() : NULL;
    if (packer->zstd) {
        ZSTD_CCtx_setParameter(packer->zstd, ZSTD_c_compressionLevel, packer->level);
        ZSTD_CCtx_setParameter(packer->zstd, ZSTD_c_checksumFlag, 1);
    }
    if (packer->compression == IND_COMPRESS_GZIP)
        packer->gzip_open =
            deflateInit2(&packer->gzip, packer->level, Z_DEFLATED, 15 + 16, 8, Z_DEFAULT_STRATEGY) == Z_OK;
    return packer->text && packer->packed && (packer->zstd || packer->gzip_open) ? 0 : ENOMEM;
}

/* Behind the last frame. 0, or the error. */
static int finish(struct packer *packer)
{
    const struct ind_frame_calls *calls = packer->calls;
    size_t length = 0;
    char *bytes =
        calls && packer->compression == IND_COMPRESS_ZSTD ? calls->finish(calls->context, &length) : NULL;
    unsigned char head[IND_INDEX_WRAP];
    if (!bytes)
        return 0;
    for (int i = 0; i < 4; i++) {
        head[i] = (unsigned char)(IND_INDEX_MAGIC >> (8 * i));
        head[4 + i] = (unsigned char)((uint32_t)length >> (8 * i));
    }
    const struct ind_fs *fs = &packer->disk->fs;
    const bool good = ind_fs_write_all(fs, packer->to, head, sizeof head) &&
                      ind_fs_write_all(fs, packer->to, bytes, length);
    packer->size += sizeof head + length;
    free(bytes);
    return good ? 0 : errno;
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

static int open_files(struct packer *packer, const char *from, enum ind_compression compression,
                      const char *temporary)
{
    const struct ind_fs *fs = &packer->disk->fs;
    packer->from = openat(packer->disk->folder, from, O_RDONLY | O_NOFOLLOW | O_CLOEXEC);
    if (packer->from < 0)
        return errno;
    if (compression != IND_COMPRESS_NONE) { /* the reader owns what it reads */
        const int own = dup(packer->from);
        packer->reader = own < 0 ? NULL : ind_reader_open(own, compression, 0, UINT64_MAX);
        if (!packer->reader)
            return errno;
    }
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

static void clean_up(struct packer *packer, const char *temporary, bool failed)
{
    const struct ind_fs *fs = &packer->disk->fs;
    ind_reader_close(packer->reader);
    if (packer->from >= 0)
        close(packer->from);
    if (packer->to >= 0) {
        close(packer->to);
        if (failed)
            (void)fs->remove(fs->context, packer->disk->folder, temporary);
    }
    if (packer->gzip_open)
        deflateEnd(&packer->gzip);
    ZSTD_freeCCtx(packer->zstd);
    free(packer->text);
    free(packer->packed);
}

int ind_compress_file(struct ind_disk *disk, const struct ind_packing *packing, uint64_t *size)
{
    struct packer packer = {
        .disk = disk,
        .compression = packing->compression,
        .level = packing->level,
        .frame = ind_frame_size(packing->compression == IND_COMPRESS_ZSTD ? packing->level : 1),
        .from = -1,
        .to = -1,
        .calls = packing->calls,
        .digesting = packing->digesting,
        .interrupt = packing->interrupt};
    char temporary[IND_PATH + 128];
    ind_temporary_name(packing->to, temporary, sizeof temporary);
    int error = open_files(&packer, packing->from, packing->packed, temporary);
    error = error ? error : prepare(&packer);
    error = error ? error : pack_all(&packer);
    error = error ? error : finish(&packer);
    error = error ? error : copy_attributes(&packer);
    if (!error && packing->approve && !packing->approve(packing->context))
        error = EBADMSG;
    error = error ? error : name_it(&packer, temporary, packing->to);
    clean_up(&packer, temporary, error != 0);
    *size = packer.size;
    return error;
}
