/* collect/taking/unpack.h: what a batch holds once it is unpacked, of whoever has made it. */
#ifndef IND_COLLECT_TAKING_UNPACK_H
#define IND_COLLECT_TAKING_UNPACK_H

#include "core/base/slice.h"

struct ind_unpacker;

/* New; NULL where memory is out. */
struct ind_unpacker *ind_unpacker_new(void);
/* Accepts NULL. */
void ind_unpacker_free(struct ind_unpacker *unpacker);

/* Frames of zstd (RFC 8878), one or several, whole. *plain: good until the next call. False where it is none,
 * or more than 31 MiB, or asks for a window over 32 MiB. */
bool ind_unpack(struct ind_unpacker *unpacker, struct ind_slice packed, struct ind_slice *plain);

#endif
