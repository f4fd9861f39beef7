#include "net/tls_private.h"

#include "core/base/address.h"
#include <errno.h>
#include <openssl/err.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/time.h>
#include <unistd.h>

enum {
    BUDGET = 64 << 10,      /* bytes from the socket in one call: some hundred small records */
    GOODBYE_SECONDS = 5,    /* to wait for the other side's */
    HANDSHAKE_RECORD = 0x16 /* the first byte of all that is TLS (RFC 8446 section 5.1) */
};

/* ---- Made and ended ---- */

static struct ind_tls_session *new_session(struct ind_tls *tls, int socket)
{
    struct ind_tls_session *session = calloc(1, sizeof *session);
    if (!session)
        return NULL;
    session->tls = ind_tls_hold(tls);
    session->socket = socket;
    session->failure = IND_TLS_FAILURES;
    ERR_clear_error();
    session->ssl = SSL_new(tls->context);
    BIO *bio = session->ssl ? BIO_new(tls->method) : NULL;
    if (!bio) {
        ind_tls_session_free(session);
        return NULL;
    }
    BIO_set_data(bio, session);
    BIO_set_init(bio, 1);
    SSL_set_bio(session->ssl, bio, bio);
    SSL_set_app_data(session->ssl, session);
    return session;
}

struct ind_tls_session *ind_tls_session_new(struct ind_tls *tls, int socket)
{
    struct ind_tls_session *session = new_session(tls, socket);
    if (session)
        SSL_set_accept_state(session->ssl);
    return session;
}

struct ind_tls_session *ind_tls_session_new_to(struct ind_tls *tls, int socket, const char *host)
{
    struct ind_tls_session *session = new_session(tls, socket);
    struct ind_address address;
    if (!session)
        return NULL;
    SSL_set_connect_state(session->ssl);
    bool named = !ind_address_read(ind_slice_of(host), &address);
    if ((session->host = strdup(host)) && (!named || SSL_set_tlsext_host_name(session->ssl, host) == 1))
        return session;
    ind_tls_session_free(session);
    return NULL;
}

void ind_tls_session_free(struct ind_tls_session *session)
{
    if (!session)
        return;
    ERR_clear_error();
    if (session->ssl && !session->broken && SSL_is_init_finished(session->ssl))
        (void)SSL_shutdown(session->ssl);
    ERR_clear_error();
    SSL_free(session->ssl);
    ind_tls_release(session->tls);
    free(session->host);
    free(session);
}

/* ---- The handshake ---- */

static enum ind_tls_failure failure_of(int reason)
{
    switch (reason) {
    case SSL_R_UNSUPPORTED_PROTOCOL:
    case SSL_R_VERSION_TOO_LOW:
    case SSL_R_TLSV1_ALERT_PROTOCOL_VERSION:
        return IND_TLS_TOO_OLD;
    case SSL_R_WRONG_VERSION_NUMBER:
    case SSL_R_HTTP_REQUEST:
    case SSL_R_HTTPS_PROXY_REQUEST:
        return IND_TLS_NOT_TLS;
    case SSL_R_PEER_DID_NOT_RETURN_A_CERTIFICATE:
        return IND_TLS_NO_CERTIFICATE;
    case SSL_R_NO_SHARED_CIPHER:
    case SSL_R_NO_SHARED_GROUPS:
    case SSL_R_NO_SUITABLE_KEY_SHARE:
    case SSL_R_NO_SUITABLE_SIGNATURE_ALGORITHM:
    case SSL_R_NO_SHARED_SIGNATURE_ALGORITHMS:
    case SSL_R_SSLV3_ALERT_HANDSHAKE_FAILURE:
        return IND_TLS_NOTHING_IN_COMMON;
    case SSL_R_EE_KEY_TOO_SMALL:
    case SSL_R_CA_KEY_TOO_SMALL:
    case SSL_R_CA_MD_TOO_WEAK:
        return IND_TLS_TOO_WEAK;
    case SSL_R_SSLV3_ALERT_BAD_CERTIFICATE:
    case SSL_R_SSLV3_ALERT_UNSUPPORTED_CERTIFICATE:
    case SSL_R_SSLV3_ALERT_CERTIFICATE_REVOKED:
    case SSL_R_SSLV3_ALERT_CERTIFICATE_EXPIRED:
    case SSL_R_SSLV3_ALERT_CERTIFICATE_UNKNOWN:
    case SSL_R_TLSV1_ALERT_UNKNOWN_CA:
    case SSL_R_TLSV1_ALERT_ACCESS_DENIED:
    case SSL_R_TLSV13_ALERT_CERTIFICATE_REQUIRED:
        return IND_TLS_OURS_REFUSED;
    case SSL_R_UNEXPECTED_EOF_WHILE_READING:
        return IND_TLS_BROKEN_OFF;
    default:
        return IND_TLS_OTHERWISE;
    }
}

static enum ind_tls_step fail(struct ind_tls_session *session, int error)
{
    unsigned long last = ERR_peek_last_error();
    enum ind_tls_failure failure = error == SSL_ERROR_SSL && ERR_GET_LIB(last) == ERR_LIB_SSL
                                       ? failure_of(ERR_GET_REASON(last))
                                       : IND_TLS_BROKEN_OFF;
    if (session->failure == IND_TLS_FAILURES)
        session->failure = failure;
    session->broken = true;
    bool known = session->failure != IND_TLS_OTHERWISE && session->failure != IND_TLS_OURS_REFUSED &&
                 session->failure != IND_TLS_NOTHING_IN_COMMON;
    if (!session->detail[0] && !known)
        ind_tls_last_error(session->detail, sizeof session->detail);
    return IND_TLS_FAILED;
}

/* Whoever does not speak TLS at all is told from one that does it wrong. */
static bool begins_as_tls(const struct ind_tls_session *session)
{
    unsigned char first;
    return recv(session->socket, &first, 1, MSG_PEEK) != 1 || first == HANDSHAKE_RECORD;
}

enum ind_tls_step ind_tls_handshake(struct ind_tls_session *session)
{
    ERR_clear_error();
    session->budget = BUDGET;
    if (SSL_get_state(session->ssl) == TLS_ST_BEFORE && SSL_is_server(session->ssl) &&
        !begins_as_tls(session)) {
        session->failure = IND_TLS_NOT_TLS;
        return fail(session, SSL_ERROR_SYSCALL);
    }
    int result = SSL_do_handshake(session->ssl);
    if (result == 1) {
        X509 *certificate = SSL_get0_peer_certificate(session->ssl);
        if (certificate)
            ind_tls_note_peer(session, certificate);
        return IND_TLS_DONE;
    }
    int error = SSL_get_error(session->ssl, result);
    return error == SSL_ERROR_WANT_READ    ? IND_TLS_WANTS_TO_READ
           : error == SSL_ERROR_WANT_WRITE ? IND_TLS_WANTS_TO_WRITE
                                           : fail(session, error);
}

enum ind_tls_failure ind_tls_failure(const struct ind_tls_session *session)
{
    return session->failure == IND_TLS_FAILURES ? IND_TLS_OTHERWISE : session->failure;
}

const char *ind_tls_failure_detail(const struct ind_tls_session *session)
{
    return session->detail;
}

struct ind_slice ind_tls_peer(const struct ind_tls_session *session)
{
    return (struct ind_slice){session->peer, session->peer_length};
}

/* ---- Reading ---- */

/* The end, whatever it is, comes once all before it has been handed out. */
static void note_over(struct ind_tls_session *session, int error)
{
    session->over = true;
    session->over_error = 0;
    if (error == SSL_ERROR_ZERO_RETURN)
        return;
    unsigned long last = ERR_peek_last_error();
    bool cut_off = error == SSL_ERROR_SYSCALL || (ERR_GET_LIB(last) == ERR_LIB_SSL &&
                                                  ERR_GET_REASON(last) == SSL_R_UNEXPECTED_EOF_WHILE_READING);
    session->broken = true;
    session->over_error = cut_off ? (session->error ? session->error : ECONNRESET) : EPROTO;
    if (session->failure == IND_TLS_FAILURES && !cut_off)
        session->failure = failure_of(ERR_GET_REASON(last));
    ind_tls_last_error(session->detail, sizeof session->detail);
}

ssize_t ind_tls_read(struct ind_tls_session *session, void *bytes, size_t room)
{
    size_t got = 0, more = 0;
    session->budget = BUDGET;
    session->starved = false;
    ERR_clear_error();
    while (!session->over && got < room) {
        int result = SSL_read_ex(session->ssl, (char *)bytes + got, room - got, &more);
        if (result == 1) {
            got += more;
            continue;
        }
        int error = SSL_get_error(session->ssl, result);
        if (error == SSL_ERROR_WANT_READ)
            break;
        /* We would have to wait until it takes something from us, which nobody has asked for but itself. */
        note_over(session, error);
    }
    session->full = got == room;
    if (got > 0)
        return (ssize_t)got;
    if (!session->over) {
        errno = EAGAIN;
        return -1;
    }
    errno = session->over_error;
    return session->over_error ? -1 : 0;
}

bool ind_tls_holds_part(const struct ind_tls_session *session)
{
    return SSL_has_pending(session->ssl) == 1;
}

bool ind_tls_has_more(const struct ind_tls_session *session)
{
    return session->starved || session->over || session->full;
}

/* ---- Writing ---- */

bool ind_tls_write_all(struct ind_tls_session *session, const void *bytes, size_t length)
{
    size_t written;
    session->budget = SIZE_MAX;
    ERR_clear_error();
    while (length > 0) {
        int result = SSL_write_ex(session->ssl, bytes, length, &written);
        if (result == 1)
            return written == length;
        int error = SSL_get_error(session->ssl, result);
        if (error == SSL_ERROR_WANT_WRITE && session->error == EINTR)
            continue;
        note_over(session, error);
        return false;
    }
    return true;
}

ssize_t ind_tls_write(struct ind_tls_session *session, const void *bytes, size_t length)
{
    size_t written;
    session->budget = BUDGET;
    ERR_clear_error();
    const int result = SSL_write_ex(session->ssl, bytes, length, &written);
    if (result == 1)
        return (ssize_t)written;
    const int error = SSL_get_error(session->ssl, result);
    errno = EAGAIN;
    if (error == SSL_ERROR_WANT_WRITE || error == SSL_ERROR_WANT_READ)
        return -1;
    note_over(session, error);
    errno = session->over_error ? session->over_error : ECONNRESET;
    return -1;
}

uint64_t ind_tls_given(const struct ind_tls_session *session)
{
    return session->given;
}

bool ind_tls_say_goodbye(struct ind_tls_session *session)
{
    const struct timeval most = {GOODBYE_SECONDS, 0};
    char rest[4096];
    size_t got;
    (void)setsockopt(session->socket, SOL_SOCKET, SO_RCVTIMEO, &most, sizeof most);
    ERR_clear_error();
    if (session->over || SSL_shutdown(session->ssl) < 0)
        return false;
    for (;;) {
        session->budget = sizeof rest;
        int result = SSL_read_ex(session->ssl, rest, sizeof rest, &got);
        if (result == 1)
            continue;
        int error = SSL_get_error(session->ssl, result);
        if (error == SSL_ERROR_WANT_READ && (session->starved || session->error == EINTR))
            continue;
        note_over(session, error);
        return error == SSL_ERROR_ZERO_RETURN;
    }
}
