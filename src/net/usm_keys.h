/* net/usm_keys.h: keys of users of SNMP version 3: made, and used (RFC 3414 sections 2.6, 6 and A.2, RFC 7860
 * section 4, RFC 3826). Any thread; nothing is kept between calls. */
#ifndef IND_NET_USM_KEYS_H
#define IND_NET_USM_KEYS_H

#include "core/trap/usm.h"

/* A user's own keys, before they are made those of one engine. */
struct ind_usm_user {
    char name[IND_USM_USER + 1];
    enum ind_usm_authentication authentication;
    enum ind_usm_privacy privacy;
    unsigned char key[IND_USM_KEY], privacy_key[IND_USM_KEY]; /* of ind_usm_key_bytes bytes each */
};

enum { IND_USM_PASSWORD_LEAST = 8 }; /* RFC 3414 section 11.2 */

/* The key of a password (section A.2). False where the library refuses. */
bool ind_usm_key_of(enum ind_usm_authentication authentication, struct ind_slice password,
                    unsigned char key[IND_USM_KEY]);
/* The same key for one engine (section 2.6). */
bool ind_usm_localise(enum ind_usm_authentication authentication, const unsigned char key[IND_USM_KEY],
                      struct ind_slice engine, unsigned char local[IND_USM_KEY]);

/* The digest of a message in which that of `length` bytes at `at` counts as zeros. */
bool ind_usm_sign(enum ind_usm_authentication authentication, const unsigned char local[IND_USM_KEY],
                  struct ind_slice whole, size_t at, unsigned char digest[IND_USM_DIGEST]);
/* Whether the message's digest is that, without telling by its time where it differs. */
bool ind_usm_is_signed(enum ind_usm_authentication authentication, const unsigned char local[IND_USM_KEY],
                       const struct ind_usm *usm);

/* AES-128 in CFB (RFC 3826 section 3.1), as many bytes out as in; `out` may be where `bytes` is. */
bool ind_usm_encipher(const unsigned char local[IND_USM_KEY], uint32_t boots, uint32_t time,
                      const unsigned char salt[IND_USM_SALT], struct ind_slice bytes, char *out);
bool ind_usm_decipher(const unsigned char local[IND_USM_KEY], const struct ind_usm *usm, char *out);

/* Overwrites what was secret. */
void ind_usm_forget(void *bytes, size_t length);

/* Bytes that nobody can guess. */
bool ind_usm_random(void *bytes, size_t length);

#endif
