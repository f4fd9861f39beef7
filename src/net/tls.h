/* net/tls.h: who we are and whom we believe, for TLS 1.2 and later (RFC 5425, RFC 8446): certificates, keys
 * and authorities, read from files into a context that connections share (net/tls_session.h).
 *
 * A context never changes once it is made; any thread may use it. It lives until all who hold it have let it
 * go, so that a reload can put another in its place while connections go on. */
#ifndef IND_NET_TLS_H
#define IND_NET_TLS_H

#include "core/base/fingerprint.h"
#include "core/time/civil.h"

struct ind_tls;

/* Which of the files, and what else can be wrong. */
enum ind_tls_part {
    IND_TLS_CERTIFICATE,
    IND_TLS_KEY,
    IND_TLS_AUTHORITIES,
    IND_TLS_REVOKED,
    IND_TLS_PARTS,
    IND_TLS_ITSELF = IND_TLS_PARTS /* none of them: memory, or the library */
};

/* Everything is borrowed for the call. Files are PEM; NULL: not given. */
struct ind_tls_settings {
    /* Our own certificate, with those between it and its authority behind it, and its private key, without a
     * password. A server must have them. */
    const char *certificate, *key;
    /* Certificates of authorities, one of which must have signed the other side's; of a client, when there
     * are neither these nor fingerprints, those that the system trusts. */
    const char *authorities;
    const char *revoked; /* lists of certificates that their authorities have revoked (RFC 5280 section 5) */
    /* Certificates that are accepted whoever signed them, and however old they are. */
    const struct ind_fingerprint *fingerprints;
    size_t fingerprint_count;
    /* Names or addresses, one of which the other side's certificate must bear (RFC 6125); none: any. Of a
     * client: of which server, in its session. */
    const char *const *names;
    size_t name_count;
};

/* What is wrong, and the remedy, as the rest of a sentence that begins with the file's name. */
struct ind_tls_fault {
    enum ind_tls_part part;
    char text[400];
};

/* A context for those who connect to us, or for ourselves where we connect. A server asks for a certificate
 * where there are authorities or fingerprints, and turns away who has none. NULL with *fault filled in. */
struct ind_tls *ind_tls_server_new(const struct ind_tls_settings *settings, struct ind_tls_fault *fault);
struct ind_tls *ind_tls_client_new(const struct ind_tls_settings *settings, struct ind_tls_fault *fault);

struct ind_tls *ind_tls_hold(struct ind_tls *tls);
void ind_tls_release(struct ind_tls *tls); /* accepts NULL */

/* The earliest end of what a file holds: of certificates, and of a revocation list the time of its next
 * issue. IND_TIME_NONE: it holds nothing that ends. */
struct ind_tls_expiries {
    ind_time ends[IND_TLS_PARTS];
    char names[IND_TLS_PARTS][80]; /* of whom that is the certificate, or whose list it is; clean text */
};
const struct ind_tls_expiries *ind_tls_expiries(const struct ind_tls *tls);

/* Whether that end is near or past, so that somebody is to be told: thirty days. */
bool ind_tls_expires_soon(ind_time end, ind_time now);

#endif
