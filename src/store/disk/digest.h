/* store/disk/digest.h: what an archive's text is known by: its length and its SHA-256 (FIPS 180-4), whatever
 * it is compressed with. */
#ifndef IND_STORE_DISK_DIGEST_H
#define IND_STORE_DISK_DIGEST_H

#include "core/archive/archive_name.h"
#include <stdbool.h>

/* Asked between two files, and between two blocks of one (about 1 MiB of text): whoever waits for the keeping
 * half waits no longer than for one. True: leave it; what is half done is done again later. It may adopt
 * other rules. */
struct ind_interrupt {
    bool (*asked)(void *context);
    void *context;
};

static inline bool ind_interrupted(const struct ind_interrupt *interrupt)
{
    return interrupt && interrupt->asked(interrupt->context);
}

struct ind_digest {
    unsigned char hash[32];
    uint64_t bytes;
};

/* Text is added piece by piece. */
struct ind_digesting;
struct ind_digesting *ind_digesting_new(void); /* NULL where memory is out */
bool ind_digesting_add(struct ind_digesting *digesting, const void *text, size_t length);
/* Gives the digest of all that was added, and begins anew. */
bool ind_digesting_end(struct ind_digesting *digesting, struct ind_digest *digest);
void ind_digesting_free(struct ind_digesting *digesting);

/* Of the file at `path` below `folder`. 0, or the error: ECANCELED where it was interrupted, EBADMSG where it
 * cannot be unpacked; then *reason (may be NULL) is a text that tells why. */
int ind_digest_file(int folder, const char *path, enum ind_compression compression,
                    const struct ind_interrupt *interrupt, struct ind_digest *digest, const char **reason);

#endif
