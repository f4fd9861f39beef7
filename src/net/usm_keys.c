#include "net/usm_keys.h"

#include <openssl/crypto.h>
#include <openssl/evp.h>
#include <openssl/rand.h>

static const EVP_MD *digest_of(enum ind_usm_authentication authentication)
{
    return authentication == IND_USM_SHA1 ? EVP_sha1() : EVP_sha256();
}

bool ind_usm_key_of(enum ind_usm_authentication authentication, struct ind_slice password,
                    unsigned char key[IND_USM_KEY])
{
    enum { ALL = 1048576, ROOM = 64 };
    unsigned char room[ROOM];
    EVP_MD_CTX *context = EVP_MD_CTX_new();
    bool good = context && password.length > 0 && EVP_DigestInit_ex(context, digest_of(authentication), NULL);
    for (size_t done = 0, at = 0; good && done < ALL; done += ROOM) {
        for (size_t i = 0; i < ROOM; i++, at = (at + 1) % password.length)
            room[i] = (unsigned char)password.at[at];
        good = EVP_DigestUpdate(context, room, ROOM);
    }
    good = good && EVP_DigestFinal_ex(context, key, NULL);
    EVP_MD_CTX_free(context);
    return good;
}

bool ind_usm_localise(enum ind_usm_authentication authentication, const unsigned char key[IND_USM_KEY],
                      struct ind_slice engine, unsigned char local[IND_USM_KEY])
{
    const size_t length = ind_usm_key_bytes(authentication);
    EVP_MD_CTX *context = EVP_MD_CTX_new();
    bool good = context && EVP_DigestInit_ex(context, digest_of(authentication), NULL) &&
                EVP_DigestUpdate(context, key, length) &&
                EVP_DigestUpdate(context, engine.at, engine.length) &&
                EVP_DigestUpdate(context, key, length) && EVP_DigestFinal_ex(context, local, NULL);
    EVP_MD_CTX_free(context);
    return good;
}

/* HMAC (RFC 2104) by hand over the library's digest: its own takes the message in one piece only. */
static bool hmac(const EVP_MD *kind, const unsigned char *key, size_t length, const struct ind_slice *parts,
                 size_t count, unsigned char result[EVP_MAX_MD_SIZE])
{
    enum { BLOCK = 64 }; /* of SHA-1 and SHA-256 */
    unsigned char inner[BLOCK], outer[BLOCK];
    memset(inner, 0x36, BLOCK);
    memset(outer, 0x5c, BLOCK);
    for (size_t i = 0; i < length; i++) {
        inner[i] ^= key[i];
        outer[i] ^= key[i];
    }
    EVP_MD_CTX *context = EVP_MD_CTX_new();
    unsigned size = 0;
    bool good = context && EVP_DigestInit_ex(context, kind, NULL) && EVP_DigestUpdate(context, inner, BLOCK);
    for (size_t i = 0; good && i < count; i++)
        good = EVP_DigestUpdate(context, parts[i].at, parts[i].length);
    good = good && EVP_DigestFinal_ex(context, result, &size) && EVP_DigestInit_ex(context, kind, NULL) &&
           EVP_DigestUpdate(context, outer, BLOCK) && EVP_DigestUpdate(context, result, size) &&
           EVP_DigestFinal_ex(context, result, NULL);
    EVP_MD_CTX_free(context);
    OPENSSL_cleanse(inner, BLOCK);
    OPENSSL_cleanse(outer, BLOCK);
    return good;
}

bool ind_usm_sign(enum ind_usm_authentication authentication, const unsigned char local[IND_USM_KEY],
                  struct ind_slice whole, size_t at, unsigned char digest[IND_USM_DIGEST])
{
    static const char zeros[IND_USM_DIGEST] = {0};
    unsigned char result[EVP_MAX_MD_SIZE];
    const size_t length = ind_usm_digest_bytes(authentication);
    if (at + length > whole.length)
        return false;
    const struct ind_slice parts[] = {{whole.at, at}, {zeros, length}, ind_slice_from(whole, at + length)};
    if (!hmac(digest_of(authentication), local, ind_usm_key_bytes(authentication), parts, 3, result))
        return false;
    memcpy(digest, result, length);
    return true;
}

bool ind_usm_is_signed(enum ind_usm_authentication authentication, const unsigned char local[IND_USM_KEY],
                       const struct ind_usm *usm)
{
    unsigned char digest[IND_USM_DIGEST];
    const size_t length = ind_usm_digest_bytes(authentication);
    return usm->digest.length == length && length > 0 &&
           ind_usm_sign(authentication, local, usm->whole, (size_t)(usm->digest.at - usm->whole.at),
                        digest) &&
           CRYPTO_memcmp(digest, usm->digest.at, length) == 0;
}

static void put_four(unsigned char *at, uint32_t number)
{
    for (int i = 0; i < 4; i++)
        at[i] = (unsigned char)(number >> (24 - 8 * i));
}

static bool cipher(bool encipher, const unsigned char *key, uint32_t boots, uint32_t time,
                   const unsigned char *salt, struct ind_slice bytes, char *out)
{
    unsigned char start[16];
    int written = 0, rest = 0;
    put_four(start, boots);
    put_four(start + 4, time);
    memcpy(start + 8, salt, IND_USM_SALT);
    EVP_CIPHER_CTX *context = EVP_CIPHER_CTX_new();
    const bool good = context &&
                      EVP_CipherInit_ex(context, EVP_aes_128_cfb128(), NULL, key, start, encipher) &&
                      EVP_CipherUpdate(context, (unsigned char *)out, &written,
                                       (const unsigned char *)bytes.at, (int)bytes.length) &&
                      EVP_CipherFinal_ex(context, (unsigned char *)out + written, &rest) &&
                      (size_t)(written + rest) == bytes.length;
    EVP_CIPHER_CTX_free(context);
    return good;
}

bool ind_usm_encipher(const unsigned char local[IND_USM_KEY], uint32_t boots, uint32_t time,
                      const unsigned char salt[IND_USM_SALT], struct ind_slice bytes, char *out)
{
    return cipher(true, local, boots, time, salt, bytes, out);
}

bool ind_usm_decipher(const unsigned char local[IND_USM_KEY], const struct ind_usm *usm, char *out)
{
    return usm->salt.length == IND_USM_SALT && usm->scoped.length <= 65536 &&
           cipher(false, local, usm->boots, usm->time, (const unsigned char *)usm->salt.at, usm->scoped, out);
}

void ind_usm_forget(void *bytes, size_t length)
{
    OPENSSL_cleanse(bytes, length);
}

bool ind_usm_random(void *bytes, size_t length)
{
    return RAND_bytes(bytes, (int)length) == 1;
}
