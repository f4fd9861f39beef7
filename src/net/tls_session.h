/* net/tls_session.h: one connection under TLS, on a socket that the caller opens, waits for and closes.
 *
 * A session belongs to one thread at a time. What one call may cost is bounded, whatever the other side
 * sends: it takes a bounded number of bytes from the socket, and then says that there may be more. */
#ifndef IND_NET_TLS_SESSION_H
#define IND_NET_TLS_SESSION_H

#include "net/tls.h"

#include <sys/types.h>

struct ind_tls_session;

/* New, for a connection that came to us. NULL where memory is out. */
struct ind_tls_session *ind_tls_session_new(struct ind_tls *tls, int socket);
/* New, for one that we made, to a server of that name or address. */
struct ind_tls_session *ind_tls_session_new_to(struct ind_tls *tls, int socket, const char *host);
/* Says goodbye, where that needs no wait; the socket stays open. Accepts NULL. */
void ind_tls_session_free(struct ind_tls_session *session);

enum ind_tls_step { IND_TLS_DONE, IND_TLS_WANTS_TO_READ, IND_TLS_WANTS_TO_WRITE, IND_TLS_FAILED };

/* Goes on with the handshake. After IND_TLS_FAILED: ind_tls_failure. */
enum ind_tls_step ind_tls_handshake(struct ind_tls_session *session);

/* Why a handshake failed; a row in net/tls_failure.c for each. */
enum ind_tls_failure {
    IND_TLS_NOT_TLS,
    IND_TLS_TOO_OLD,
    IND_TLS_NOTHING_IN_COMMON,
    IND_TLS_NO_CERTIFICATE,
    IND_TLS_UNKNOWN_AUTHORITY,
    IND_TLS_SELF_SIGNED,
    IND_TLS_EXPIRED,
    IND_TLS_NOT_YET_VALID,
    IND_TLS_REVOKED_CERTIFICATE,
    IND_TLS_TOO_WEAK,
    IND_TLS_OTHER_PURPOSE,
    IND_TLS_OTHER_NAME,
    IND_TLS_OTHER_FINGERPRINT,
    IND_TLS_OURS_REFUSED,
    IND_TLS_BROKEN_OFF,
    IND_TLS_TOO_SLOW,    /* the caller's */
    IND_TLS_CROWDED_OUT, /* the caller's */
    IND_TLS_OTHERWISE,
    IND_TLS_FAILURES
};

/* "unknown_authority", and "its certificate is signed by none of the authorities that we trust". */
const char *ind_tls_failure_key(enum ind_tls_failure failure);
const char *ind_tls_failure_text(enum ind_tls_failure failure);

enum ind_tls_failure ind_tls_failure(const struct ind_tls_session *session);
/* What the library says of it, for whoever looks for the reason; "": nothing. Clean text, terminated. */
const char *ind_tls_failure_detail(const struct ind_tls_session *session);

/* After the handshake: what the other side's certificate says it is: the name among `names` that it bears,
 * else its first DNS name, its common name, its first address, or its fingerprint. Bytes of a stranger, not
 * terminated; empty where there is no certificate. After a handshake that failed for its certificate, too. As
 * long as the session. */
struct ind_slice ind_tls_peer(const struct ind_tls_session *session);
enum { IND_TLS_PEER_WIDTH = 255 };

/* As read(2) of a socket that does not wait; 0: the other side has said goodbye (RFC 8446 section 6.1). -1
 * with errno: EAGAIN; ECONNRESET: it ended without one, so that somebody else may have cut it off; EPROTO:
 * what came is no TLS, or was changed on its way. */
ssize_t ind_tls_read(struct ind_tls_session *session, void *bytes, size_t room);
/* After a read: there may be more, though the socket need not be readable: read again soon. */
bool ind_tls_has_more(const struct ind_tls_session *session);
/* Whether it holds bytes of which nothing can be handed out yet, in up to IND_TLS_RECORD bytes of memory. */
bool ind_tls_holds_part(const struct ind_tls_session *session);
enum { IND_TLS_RECORD = 17 << 10 };

/* Writes all of it to a socket that waits. False with ind_tls_failure_detail. */
bool ind_tls_write_all(struct ind_tls_session *session, const void *bytes, size_t length);
/* Writes one record to a socket that does not wait: all of it, or -1 with errno EAGAIN: then it is to be
 * called again with the same bytes; any other error is the end. */
ssize_t ind_tls_write(struct ind_tls_session *session, const void *bytes, size_t length);
/* Bytes that were given to the socket so far, those of handshakes included. */
uint64_t ind_tls_given(const struct ind_tls_session *session);
/* Says goodbye and waits for the other side's, on a socket that waits. False where that came to an end
 * otherwise: what was sent last may not have been taken. */
bool ind_tls_say_goodbye(struct ind_tls_session *session);

#endif
