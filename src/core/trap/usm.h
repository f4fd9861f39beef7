/* core/trap/usm.h: the envelope of SNMP version 3 and what its user-based security says (RFC 3412 section 6,
 * RFC 3414, RFC 3826, RFC 7860).
 *
 * Knows no keys: whoever does (net/usm_keys.h) signs, checks and deciphers what is pointed out here. Whether
 * a message is in time is decided here, by the time given. */
#ifndef IND_CORE_TRAP_USM_H
#define IND_CORE_TRAP_USM_H

#include "core/time/steady.h"
#include "core/trap/trap.h"

enum ind_usm_authentication { IND_USM_NO_AUTHENTICATION, IND_USM_SHA1, IND_USM_SHA256 };
enum ind_usm_privacy { IND_USM_NO_PRIVACY, IND_USM_AES128 };

enum {
    IND_USM_KEY = 32,     /* the longest of an authentication key: SHA-256 */
    IND_USM_DIGEST = 24,  /* the longest digest of a message (RFC 7860 section 4.2.1) */
    IND_USM_ENGINE = 32,  /* the longest engine id (RFC 3411 section 5) */
    IND_USM_USER = 32,    /* the longest name */
    IND_USM_WINDOW = 150, /* seconds (RFC 3414 section 2.2.3) */
    IND_USM_SALT = 8
};

/* Bytes of the key, and of the digest: RFC 3414 section 6, RFC 7860 section 4.1. */
static inline size_t ind_usm_key_bytes(enum ind_usm_authentication authentication)
{
    return authentication == IND_USM_SHA1 ? 20 : authentication == IND_USM_SHA256 ? 32 : 0;
}

static inline size_t ind_usm_digest_bytes(enum ind_usm_authentication authentication)
{
    return authentication == IND_USM_SHA1 ? 12 : authentication == IND_USM_SHA256 ? 24 : 0;
}

struct ind_usm {
    int64_t id;
    bool authenticated, enciphered, reportable; /* as its flags say */
    struct ind_slice whole, engine, user, digest, salt;
    uint32_t boots, time; /* of that engine: starts, and seconds since the last */
    struct ind_slice
        scoped; /* the contents of the scoped PDU; while it is enciphered, the enciphered bytes */
};

/* Reads the envelope; what is borrowed is from `bytes`. */
enum ind_trap_fault ind_usm_read(struct ind_slice bytes, struct ind_usm *usm);

/* Reads the trap in the scoped PDU, which is clear now: where it was enciphered, `scoped` points to the
 * deciphered bytes, behind which padding may stand. IND_TRAP_PRIVACY where there is none in them. */
enum ind_trap_fault ind_usm_read_trap(const struct ind_usm *usm, const struct ind_trap_names *names,
                                      struct ind_trap *trap);

/* ---- Time windows (RFC 3414 section 3.2, step 7b) ---- */

enum { IND_USM_RECENT = 64 };

/* What is known of another engine. Begins as {0} but its id. */
struct ind_usm_engine {
    char id[IND_USM_ENGINE];
    uint8_t id_length;
    bool known;           /* a message of it was authentic */
    uint32_t boots, time; /* the latest it has said */
    struct ind_steady at; /* when that was */
    uint8_t next;
    uint64_t recent[IND_USM_RECENT]; /* beginnings of digests of the last messages in the window */
};

/* An authentic message of that engine, received now: whether it is in time and new, and what is known
 * afterwards. The first of an engine settles its time. */
enum ind_trap_fault ind_usm_window(struct ind_usm_engine *engine, const struct ind_usm *usm,
                                   struct ind_steady now);
/* The same for what is said to an engine of our own: `boots`, `seconds` since its start. */
bool ind_usm_in_time(const struct ind_usm *usm, uint32_t boots, uint64_t seconds);

/* ---- Writing ---- */

/* The parts of a message of version 3 that is to be written. */
struct ind_usm_message {
    int64_t id;
    struct ind_slice engine, user; /* whose security it goes by */
    uint32_t boots, time;
    size_t digest;         /* bytes to be left for one; 0: it is not signed */
    struct ind_slice salt; /* empty: not enciphered */
    bool reportable;
};

/* A scoped PDU around the PDU that was written last and began at `end`: in the context of that engine and
 * name. */
void ind_usm_put_scoped(struct ind_ber_out *out, struct ind_slice engine, struct ind_slice name, size_t end);
/* And the message around what is its data, which began at `end`: a scoped PDU, or the enciphered bytes of
 * one as octets. The digest's bytes are zeros; *digest tells how far before the end of the message they
 * begin (0: there is none). */
void ind_usm_put_message(struct ind_ber_out *out, const struct ind_usm_message *message, size_t end,
                         size_t *digest);

/* The counters that reports bear (RFC 3414 section 5): one variable. */
enum ind_usm_report { IND_USM_UNKNOWN_ENGINE, IND_USM_NOT_IN_TIME, IND_USM_REPORTS };
void ind_usm_put_report(struct ind_ber_out *out, enum ind_usm_report report, uint32_t count,
                        int64_t request_id);

#endif
