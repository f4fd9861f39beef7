/* Links as they stand in lines, their hashes and signatures: chain.h. */
#include "store/disk/chain_private.h"

#include "core/base/escape.h"
#include <openssl/err.h>
#include <openssl/evp.h>
#include <openssl/pem.h>
#include <stdio.h>

/* Behind the link's number: its hash, and the signature where there is one. */
#define NUMBER ",\"link\":"
#define HASH ",\"chain\":\""
#define SIGNATURE "\",\"signature\":\""
#define END "\"}"
enum { PLAIN_END = sizeof HASH - 1 + IND_HASH_TEXT + sizeof END - 1 };
enum { SIGNED_END = PLAIN_END + sizeof SIGNATURE - 1 + 2 * IND_SIGNATURE };

static void write_hex(const unsigned char *bytes, size_t count, char *text)
{
    static const char digits[] = "0123456789abcdef";
    for (size_t i = 0; i < count; i++) {
        text[2 * i] = digits[bytes[i] >> 4];
        text[2 * i + 1] = digits[bytes[i] & 15];
    }
    text[2 * count] = '\0';
}

/* Only as write_hex writes it: there is one way to write a hash. */
static bool read_hex(const char *text, size_t count, unsigned char *bytes)
{
    for (size_t i = 0; i < count; i++) {
        const int high = ind_hex_digit(text[2 * i]), low = ind_hex_digit(text[2 * i + 1]);
        if (high < 0 || low < 0)
            return false;
        bytes[i] = (unsigned char)(high << 4 | low);
    }
    char again[2 * IND_SIGNATURE + 1];
    write_hex(bytes, count, again);
    return memcmp(again, text, 2 * count) == 0;
}

void ind_hash_write(const unsigned char hash[IND_HASH], char text[IND_HASH_TEXT + 1])
{
    write_hex(hash, IND_HASH, text);
}

bool ind_hash_read(struct ind_slice text, unsigned char hash[IND_HASH])
{
    return text.length == IND_HASH_TEXT && read_hex(text.at, IND_HASH, hash);
}

void ind_link_write(const struct ind_link *link, char hash[IND_HASH_TEXT + 1],
                    char signature[2 * IND_SIGNATURE + 1])
{
    ind_hash_write(link->hash, hash);
    signature[0] = '\0';
    if (link->is_signed)
        write_hex(link->signature, IND_SIGNATURE, signature);
}

bool ind_link_handed_on(const struct ind_journal_record *record, struct ind_link *link)
{
    const struct ind_slice signature = ind_slice_of(record->link_signature);
    if (record->event != IND_EVENT_COMPACTED || !ind_hash_read(ind_slice_of(record->link_hash), link->hash))
        return false;
    link->is_signed =
        signature.length == 2 * IND_SIGNATURE && read_hex(signature.at, IND_SIGNATURE, link->signature);
    return true;
}

/* The number in front of `end`, as we write one. */
static bool read_number(struct ind_slice line, size_t end, uint64_t *number)
{
    size_t at = end;
    while (at > 0 && end - at < 18 && ind_is_digit(line.at[at - 1]))
        at--;
    const size_t key = sizeof NUMBER - 1;
    if (at == end || at < key || memcmp(line.at + at - key, NUMBER, key) != 0 || line.at[at] == '0')
        return false;
    for (*number = 0; at < end; at++)
        *number = *number * 10 + (uint64_t)(line.at[at] - '0');
    return true;
}

static bool stands_at(struct ind_slice line, size_t at, const char *text)
{
    return memcmp(line.at + at, text, strlen(text)) == 0;
}

bool ind_link_read(struct ind_slice line, struct ind_link *link)
{
    for (int with = 0; with < 2; with++) {
        const size_t end = with ? SIGNED_END : PLAIN_END;
        if (line.length <= end || !stands_at(line, line.length - end, HASH) ||
            !stands_at(line, line.length - (sizeof END - 1), END))
            continue;
        link->covered = line.length - end;
        const size_t hash = link->covered + sizeof HASH - 1, behind = hash + IND_HASH_TEXT;
        link->is_signed = with != 0;
        return (!with ||
                (stands_at(line, behind, SIGNATURE) &&
                 read_hex(line.at + behind + sizeof SIGNATURE - 1, IND_SIGNATURE, link->signature))) &&
               read_hex(line.at + hash, IND_HASH, link->hash) &&
               read_number(line, link->covered, &link->number);
    }
    return false;
}

size_t ind_link_end(const struct ind_link *link, char text[IND_LINK_END])
{
    char hash[IND_HASH_TEXT + 1], signature[2 * IND_SIGNATURE + 1] = "";
    ind_hash_write(link->hash, hash);
    if (link->is_signed)
        write_hex(link->signature, IND_SIGNATURE, signature);
    return (size_t)snprintf(text, IND_LINK_END, HASH "%s%s%s" END, hash, link->is_signed ? SIGNATURE : "",
                            signature);
}

bool ind_link_hash(const struct ind_link *before, struct ind_slice covered, unsigned char hash[IND_HASH])
{
    static const unsigned char none[IND_HASH];
    EVP_MD_CTX *context = EVP_MD_CTX_new();
    unsigned length = 0;
    const bool good =
        context && EVP_DigestInit_ex(context, EVP_sha256(), NULL) == 1 &&
        EVP_DigestUpdate(context, before ? before->hash : none, IND_HASH) == 1 &&
        (!before || !before->is_signed || EVP_DigestUpdate(context, before->signature, IND_SIGNATURE) == 1) &&
        EVP_DigestUpdate(context, covered.at, covered.length) == 1 &&
        EVP_DigestFinal_ex(context, hash, &length) == 1;
    EVP_MD_CTX_free(context);
    return good;
}

/* ---- Keys ---- */

static bool is_ed25519(EVP_PKEY *key)
{
    return key && EVP_PKEY_get_base_id(key) == EVP_PKEY_ED25519;
}

struct evp_pkey_st *ind_key_open(const char *path, bool to_sign, char *reason, size_t room)
{
    FILE *file = fopen(path, "r");
    if (!file) {
        snprintf(reason, room, "%s: %s", path, strerror(errno));
        return NULL;
    }
    char none[] = ""; /* a pass phrase: nobody is there to be asked for one */
    EVP_PKEY *key = to_sign ? NULL : PEM_read_PUBKEY(file, NULL, NULL, none);
    rewind(file);
    if (!key) /* who has the private one can check with it, too */
        key = PEM_read_PrivateKey(file, NULL, NULL, none);
    fclose(file);
    ERR_clear_error();
    if (is_ed25519(key))
        return key;
    EVP_PKEY_free(key);
    snprintf(
        reason, room,
        to_sign
            ? "%s is no private key to sign with; make one by \"openssl genpkey -algorithm ed25519 -out "
              "FILE\""
            : "%s is no public key to check signatures with; make it from the private one by \"openssl pkey "
              "-in KEY -pubout -out FILE\"",
        path);
    return NULL;
}

bool ind_sign_key_is_there(const char *path, char *reason, size_t room)
{
    EVP_PKEY *key = ind_key_open(path, true, reason, room);
    EVP_PKEY_free(key);
    return key != NULL;
}

bool ind_link_sign(struct ind_link *link, struct evp_pkey_st *key)
{
    EVP_MD_CTX *context = EVP_MD_CTX_new();
    size_t length = IND_SIGNATURE;
    link->is_signed = context && EVP_DigestSignInit(context, NULL, NULL, NULL, key) == 1 &&
                      EVP_DigestSign(context, link->signature, &length, link->hash, IND_HASH) == 1 &&
                      length == IND_SIGNATURE;
    EVP_MD_CTX_free(context);
    return link->is_signed;
}

struct ind_public_key *ind_public_key_open(const char *path, char *reason, size_t room)
{
    return (struct ind_public_key *)ind_key_open(path, false, reason, room);
}

void ind_public_key_free(struct ind_public_key *key)
{
    EVP_PKEY_free((EVP_PKEY *)key);
}

bool ind_link_is_signed_by(const struct ind_link *link, const struct ind_public_key *key)
{
    EVP_MD_CTX *context = EVP_MD_CTX_new();
    const bool good = link->is_signed && context &&
                      EVP_DigestVerifyInit(context, NULL, NULL, NULL, (EVP_PKEY *)key) == 1 &&
                      EVP_DigestVerify(context, link->signature, IND_SIGNATURE, link->hash, IND_HASH) == 1;
    EVP_MD_CTX_free(context);
    ERR_clear_error();
    return good;
}
