/* store/disk/identity.h: by what a store is told from another one: STORE/.indagator/id, 32 hexadecimal digits
 * that chance has given it. A second place that has its copies bears the same. */
#ifndef IND_STORE_DISK_IDENTITY_H
#define IND_STORE_DISK_IDENTITY_H

#include "store/disk/fs.h"

enum { IND_STORE_ID = 32 };
#define IND_STORE_ID_PATH ".indagator/id"

/* That of the store at `folder`, which gets one where it has none. False with errno set. */
bool ind_store_id(const struct ind_fs *fs, int folder, char id[IND_STORE_ID + 1]);

enum ind_claim { IND_CLAIM_OURS, IND_CLAIM_OTHERS, IND_CLAIM_FAILED };
/* Whether a second place is that of the store with this id; one that is nobody's becomes so. IND_CLAIM_FAILED
 * with errno set. */
enum ind_claim ind_store_id_claim(const struct ind_fs *fs, int place, const char id[IND_STORE_ID + 1]);

#endif
