/* store/disk/chain_private.h: what the making of links needs of them (link.c). */
#ifndef IND_STORE_DISK_CHAIN_PRIVATE_H
#define IND_STORE_DISK_CHAIN_PRIVATE_H

#include "store/disk/chain.h"

#include <errno.h>

/* There is no key to sign with; its own word is of no standard. */
#ifdef ENOKEY
#define IND_NO_KEY ENOKEY
#else
#define IND_NO_KEY EPERM
#endif

struct evp_pkey_st; /* of OpenSSL: an EVP_PKEY */

/* An Ed25519 key in PEM, the private or the public one; NULL with the reason. */
struct evp_pkey_st *ind_key_open(const char *path, bool to_sign, char *reason, size_t room);
/* Of link->hash. False where it cannot be done. */
bool ind_link_sign(struct ind_link *link, struct evp_pkey_st *key);

/* What stands behind the part of the line that the hash covers. */
enum { IND_LINK_END = 320 };
size_t ind_link_end(const struct ind_link *link, char text[IND_LINK_END]);

#endif
