/* store/disk/chain.h: the chain of a series (docs/proof.md).
 *
 * Every journal line of a chained series ends with a link: its number within the series, and the SHA-256
 * (FIPS 180-4) of the hash and the signature of the link before it and of all that stands in the line before
 * the hash. So no line can be changed, left out, put in or moved without the links behind it telling. With a
 * key each hash is signed (Ed25519, RFC 8032): who has no key cannot make the rest of a chain anew.
 * A series that is chained once stays so, whatever its
 * policy says later. */
#ifndef IND_STORE_DISK_CHAIN_H
#define IND_STORE_DISK_CHAIN_H

#include "config/config.h"
#include "store/disk/disk.h"
#include "store/disk/journal.h"

/* In the state folder: a line for each chained series, the number and the hash of a link that is in the
 * journal for certain, and the series' name, with blanks between. */
#define IND_CHAIN_HEADS "chain-heads"

enum { IND_HASH = 32, IND_HASH_TEXT = 2 * IND_HASH, IND_SIGNATURE = 64 };

/* The link at the end of a journal line. */
struct ind_link {
    uint64_t number; /* within the series, from 1 on */
    unsigned char hash[IND_HASH];
    bool is_signed;
    unsigned char signature[IND_SIGNATURE];
    size_t covered; /* bytes of the line that the hash is over, behind that of the link before */
};

/* False where the line, without its end, has none. */
bool ind_link_read(struct ind_slice line, struct ind_link *link);
/* The hash that a line should have behind the link `before`, or as the first (NULL). */
bool ind_link_hash(const struct ind_link *before, struct ind_slice covered, unsigned char hash[IND_HASH]);

/* The link that a record "compacted" hands on: those behind it are made over that one. False where it hands
 * on none. */
bool ind_link_handed_on(const struct ind_journal_record *record, struct ind_link *link);
/* As such a record has it; the second text is empty where it is not signed. */
void ind_link_write(const struct ind_link *link, char hash[IND_HASH_TEXT + 1],
                    char signature[2 * IND_SIGNATURE + 1]);

void ind_hash_write(const unsigned char hash[IND_HASH], char text[IND_HASH_TEXT + 1]);
bool ind_hash_read(struct ind_slice text, unsigned char hash[IND_HASH]);

/* A public key in PEM, to check signatures with; NULL with the reason in `reason`. */
struct ind_public_key;
struct ind_public_key *ind_public_key_open(const char *path, char *reason, size_t room);
void ind_public_key_free(struct ind_public_key *key);
bool ind_link_is_signed_by(const struct ind_link *link, const struct ind_public_key *key);

/* Whether there is a private key to sign with; else the reason. */
bool ind_sign_key_is_there(const char *path, char *reason, size_t room);

/* ---- Of a running store ---- */

/* Finds the last link of each series in the journal; false where memory is out. Once, before any other. */
bool ind_chain_open(struct ind_disk *disk);
void ind_chain_close(struct ind_disk *disk);

/* Reads the private key at `path` (PEM, Ed25519), or reads it again. False with the reason. */
bool ind_chain_load_key(struct ind_disk *disk, const char *path, char *reason, size_t room);

/* Whether the series is chained: its policy says so (`policy` may be NULL), or it was before. Any thread. */
bool ind_chained(struct ind_disk *disk, const char *series, const struct ind_policy *policy);

/* Writes a record into the journal, with its link where the series is chained. From any thread: one line
 * after another. False with errno set; then there is no such link, and the next one takes its number. */
bool ind_chain_journal(struct ind_disk *disk, const struct ind_journal_record *record,
                       const struct ind_policy *policy);

/* The line of a record "compacted" in the place of all links up to `last`: it bears the number of that one,
 * its hash is over itself alone, and it is signed where `last` is. New; NULL with errno set (EPERM or its
 * like: there is no key). */
char *ind_chain_compacted(struct ind_disk *disk, const struct ind_journal_record *record,
                          const struct ind_link *last, const struct ind_policy *policy, size_t *length);

/* Calls `visit` for each chained series with its last link, in no order; borrowed for the call. */
void ind_chain_heads(struct ind_disk *disk,
                     void (*visit)(void *context, const char *series, uint64_t number,
                                   const unsigned char hash[IND_HASH]),
                     void *context);

#endif
