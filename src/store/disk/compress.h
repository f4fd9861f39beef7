/* store/disk/compress.h: an archive into an ordinary .zst or .gz.
 *
 * In a .zst about 1 MiB of text at a time (ind_frame_size), whole lines, becomes a frame of its own: any tool
 * reads the file as one, and a reader can begin at any of them. A .gz is one member, so that "gzip -l" is
 * right. */
#ifndef IND_STORE_DISK_COMPRESS_H
#define IND_STORE_DISK_COMPRESS_H

#include "store/disk/digest.h"
#include "store/disk/disk.h"

/* Bytes of text of a frame at most: about 1 MiB; more at the levels that look farther back for what is like.
 */
size_t ind_frame_size(int level);

/* Told of each frame of a .zst; of a .gz nobody is told. */
struct ind_frame_calls {
    void *context;
    void (*begin)(void *context, struct ind_slice text); /* which stays as it is until `end` */
    void (*end)(void *context, uint32_t packed);         /* bytes that the frame takes */
    /* What is put behind the last frame, as a frame that readers pass over (RFC 8878 section 3.1.2): new, and
     * freed after that; NULL: nothing. */
    char *(*finish)(void *context, size_t *length);
};

struct ind_packing {
    const char *from;            /* an archive, plain or compressed */
    enum ind_compression packed; /* as it is */
    const char *to;              /* may be the same */
    enum ind_compression compression;
    int level;
    const struct ind_interrupt *interrupt; /* these three may be NULL */
    const struct ind_frame_calls *calls;
    struct ind_digesting *digesting; /* is given the text */
    /* Asked before the new file gets its name, where it is set; false: it does not get it. */
    bool (*approve)(void *context);
    void *context;
};

/* Compresses by way of a temporary file, flushed before it gets its name. Returns 0, or the error (ECANCELED:
 * interrupted; EBADMSG: it cannot be unpacked, or was not approved); then nothing is left behind but by a
 * crash. *size: of the result. */
int ind_compress_file(struct ind_disk *disk, const struct ind_packing *packing, uint64_t *size);

#endif
