/* net/tls_private.h: what a context is made of, for the files that are TLS.
 *
 * tls.c makes contexts, tls_files.c reads files into them, tls_verify.c decides whom to believe,
 * tls_session.c speaks. */
#ifndef IND_NET_TLS_PRIVATE_H
#define IND_NET_TLS_PRIVATE_H

#include "net/tls_session.h"
#include <openssl/ssl.h>
#include <stdatomic.h>

struct ind_tls {
    atomic_uint holders;
    SSL_CTX *context;
    BIO_METHOD *method; /* how a session reads and writes its socket */
    bool has_authorities;
    struct ind_fingerprint *fingerprints;
    size_t fingerprint_count;
    char **names;
    size_t name_count;
    struct ind_tls_expiries expiries;
};

struct ind_tls_session {
    struct ind_tls *tls;
    SSL *ssl;
    int socket;
    size_t budget;  /* bytes that this call may still take from the socket */
    bool starved;   /* it would have taken more */
    bool full;      /* the caller's room was used up */
    bool broken;    /* there is nobody to say goodbye to */
    bool over;      /* nothing more comes */
    int over_error; /* and why, as errno; 0: it has said goodbye */
    int error;      /* errno of the last read or write of the socket; 0: none, or it ended */
    uint64_t given; /* bytes that the socket has taken */
    char *host;     /* of one that we made: whom we want to speak to */
    enum ind_tls_failure failure;
    char detail[160];
    char peer[IND_TLS_PEER_WIDTH];
    size_t peer_length;
};

/* ---- tls_files.c: false with *fault filled in ---- */

bool ind_tls_load_own(struct ind_tls *tls, const struct ind_tls_settings *settings,
                      struct ind_tls_fault *fault);
bool ind_tls_load_authorities(struct ind_tls *tls, const struct ind_tls_settings *settings,
                              struct ind_tls_fault *fault);
bool ind_tls_load_revoked(struct ind_tls *tls, const struct ind_tls_settings *settings,
                          struct ind_tls_fault *fault);

/* ---- tls_verify.c ---- */

/* Has the context ask for certificates, and decide by what is in `tls`. */
void ind_tls_verify(struct ind_tls *tls, bool required);
/* What the other side's certificate says it is, into session->peer. */
void ind_tls_note_peer(struct ind_tls_session *session, X509 *certificate);

/* ---- tls_bio.c ---- */

/* New; NULL where memory is out. A session is its BIO's data. */
BIO_METHOD *ind_tls_method_new(void);

/* ---- tls_error.c ---- */

/* The last thing that the library has to say, as clean text; "" where it says nothing. */
void ind_tls_last_error(char *text, size_t room);

#endif
