/* store/disk/seal.h: what an archive's text is known by: its length and its SHA-256 (FIPS 180-4), whatever it
 * is compressed with. */
#ifndef IND_STORE_DISK_SEAL_H
#define IND_STORE_DISK_SEAL_H

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

struct ind_seal {
    unsigned char hash[32];
    uint64_t bytes;
};

/* Text is added piece by piece. */
struct ind_sealing;
struct ind_sealing *ind_sealing_new(void); /* NULL where memory is out */
bool ind_sealing_add(struct ind_sealing *sealing, const void *text, size_t length);
/* Gives the seal of all that was added, and begins anew. */
bool ind_sealing_end(struct ind_sealing *sealing, struct ind_seal *seal);
void ind_sealing_free(struct ind_sealing *sealing);

/* Of the file at `path` below `folder`. 0, or the error: ECANCELED where it was interrupted, EBADMSG where it
 * cannot be unpacked; then *reason (may be NULL) is a text that tells why. */
int ind_seal_file(int folder, const char *path, enum ind_compression compression,
                  const struct ind_interrupt *interrupt, struct ind_seal *seal, const char **reason);

#endif
