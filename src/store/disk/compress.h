/* store/disk/compress.h: a plain archive into an ordinary .zst or .gz.
 *
 * About 1 MiB of text at a time, whole lines, becomes a frame (zstd) or a member (gzip) of its own: any tool
 * reads the file as one, and a reader can begin at any of them. */
#ifndef IND_STORE_DISK_COMPRESS_H
#define IND_STORE_DISK_COMPRESS_H

#include "store/disk/disk.h"

/* Asked between two files, and between two blocks of one that is compressed (about 1 MiB of text): whoever
 * waits for the keeping half waits no longer than for one. True: leave it; what is half done is done again
 * later. It may adopt other rules. */
struct ind_interrupt {
    bool (*asked)(void *context);
    void *context;
};

static inline bool ind_interrupted(const struct ind_interrupt *interrupt)
{
    return interrupt && interrupt->asked(interrupt->context);
}

/* Compresses `plain` into `to` by way of a temporary file, flushed before it gets its name. Returns 0, or the
 * error (ECANCELED: interrupted); then nothing is left behind but by a crash. `interrupt` may be NULL. *size:
 * of the result. */
int ind_compress_file(struct ind_disk *disk, const char *plain, const char *to,
                      enum ind_compression compression, int level, const struct ind_interrupt *interrupt,
                      uint64_t *size);

#endif
