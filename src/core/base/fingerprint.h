/* core/base/fingerprint.h: fingerprints of certificates as RFC 5425 section 4.2.2 writes them: the name of
 * the hash, a colon, and each byte as two hexadecimal digits, with colons between. Of the hashes only SHA-256
 * is taken: SHA-1, which the RFC asks for, is no proof of anything any more. */
#ifndef IND_CORE_BASE_FINGERPRINT_H
#define IND_CORE_BASE_FINGERPRINT_H

#include "core/base/slice.h"
#include <stdint.h>

enum { IND_FINGERPRINT_BYTES = 32, IND_FINGERPRINT_WIDTH = 8 + 3 * IND_FINGERPRINT_BYTES - 1 };

struct ind_fingerprint {
    uint8_t bytes[IND_FINGERPRINT_BYTES];
};

/* "sha-256:AB:CD:…", also without the colons between the bytes; case does not matter. False where it is none.
 */
bool ind_fingerprint_read(struct ind_slice text, struct ind_fingerprint *fingerprint);

/* Adds IND_FINGERPRINT_WIDTH bytes: with colons, in capitals. */
void ind_fingerprint_write(struct ind_buffer *buffer, const struct ind_fingerprint *fingerprint);

#endif
