/* store/disk/compress.h: a plain archive into an ordinary .zst or .gz.
 *
 * In a .zst about 1 MiB of text at a time, whole lines, becomes a frame of its own: any tool reads the file
 * as one, and a reader can begin at any of them. A .gz is one member, so that "gzip -l" is right. */
#ifndef IND_STORE_DISK_COMPRESS_H
#define IND_STORE_DISK_COMPRESS_H

#include "store/disk/disk.h"
#include "store/disk/seal.h"

/* Compresses `plain` into `to` by way of a temporary file, flushed before it gets its name. Returns 0, or the
 * error (ECANCELED: interrupted); then nothing is left behind but by a crash. `interrupt` may be NULL. *size:
 * of the result. `seal` (may be NULL): of the text that is in it. */
int ind_compress_file(struct ind_disk *disk, const char *plain, const char *to,
                      enum ind_compression compression, int level, const struct ind_interrupt *interrupt,
                      uint64_t *size, struct ind_seal *seal);

#endif
