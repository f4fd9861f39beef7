/* Whom to believe (RFC 5425 section 4.2, RFC 6125): a certificate that we know by its fingerprint, whatever
 * it says; or one that an authority of ours has signed, and that is valid today. And it must bear a name that
 * is asked for, where one is. */
#include "net/tls_private.h"

#include "core/base/address.h"
#include <openssl/err.h>
#include <openssl/x509v3.h>
#include <string.h>

enum { LEAST_BITS = 112 };

static bool fingerprint_of(X509 *certificate, struct ind_fingerprint *fingerprint)
{
    unsigned length = 0;
    return X509_digest(certificate, EVP_sha256(), fingerprint->bytes, &length) == 1 &&
           length == IND_FINGERPRINT_BYTES;
}

static void write_fingerprint(struct ind_buffer *out, X509 *certificate)
{
    struct ind_fingerprint own;
    if (fingerprint_of(certificate, &own))
        ind_fingerprint_write(out, &own);
}

static bool is_pinned(const struct ind_tls *tls, X509 *certificate)
{
    struct ind_fingerprint own;
    if (tls->fingerprint_count == 0 || !fingerprint_of(certificate, &own))
        return false;
    for (size_t i = 0; i < tls->fingerprint_count; i++)
        if (memcmp(own.bytes, tls->fingerprints[i].bytes, sizeof own.bytes) == 0)
            return true;
    return false;
}

static bool bears(X509 *certificate, const char *name)
{
    struct ind_address address;
    if (ind_address_read(ind_slice_of(name), &address))
        return X509_check_ip_asc(certificate, name, 0) == 1;
    return X509_check_host(certificate, name, 0, X509_CHECK_FLAG_NO_PARTIAL_WILDCARDS, NULL) == 1;
}

static const char *name_asked_for(const struct ind_tls *tls, X509 *certificate)
{
    for (size_t i = 0; i < tls->name_count; i++)
        if (bears(certificate, tls->names[i]))
            return tls->names[i];
    return NULL;
}

/* Of a certificate that could be trusted by its fingerprint, that is told. */
static int refuse(X509_STORE_CTX *store, struct ind_tls_session *session, enum ind_tls_failure failure,
                  int error)
{
    X509 *certificate = X509_STORE_CTX_get0_cert(store);
    struct ind_buffer detail = ind_buffer_on(session->detail, sizeof session->detail - 1);
    session->failure = failure;
    if (failure == IND_TLS_OTHER_FINGERPRINT || failure == IND_TLS_SELF_SIGNED) {
        ind_buffer_text(&detail, "it is ");
        write_fingerprint(&detail, certificate);
    }
    session->detail[detail.length] = '\0';
    ind_tls_note_peer(session, certificate);
    X509_STORE_CTX_set_error(store, error);
    return 0;
}

static enum ind_tls_failure failure_of(int error)
{
    switch (error) {
    case X509_V_ERR_DEPTH_ZERO_SELF_SIGNED_CERT:
        return IND_TLS_SELF_SIGNED;
    case X509_V_ERR_CERT_HAS_EXPIRED:
        return IND_TLS_EXPIRED;
    case X509_V_ERR_CERT_NOT_YET_VALID:
        return IND_TLS_NOT_YET_VALID;
    case X509_V_ERR_CERT_REVOKED:
        return IND_TLS_REVOKED_CERTIFICATE;
    case X509_V_ERR_EE_KEY_TOO_SMALL:
    case X509_V_ERR_CA_KEY_TOO_SMALL:
    case X509_V_ERR_CA_MD_TOO_WEAK:
        return IND_TLS_TOO_WEAK;
    case X509_V_ERR_INVALID_PURPOSE:
        return IND_TLS_OTHER_PURPOSE;
    case X509_V_ERR_UNABLE_TO_GET_ISSUER_CERT:
    case X509_V_ERR_UNABLE_TO_GET_ISSUER_CERT_LOCALLY:
    case X509_V_ERR_UNABLE_TO_VERIFY_LEAF_SIGNATURE:
    case X509_V_ERR_SELF_SIGNED_CERT_IN_CHAIN:
    case X509_V_ERR_CERT_UNTRUSTED:
        return IND_TLS_UNKNOWN_AUTHORITY;
    default:
        return IND_TLS_OTHERWISE;
    }
}

/* A list of revoked certificates that is missing or out of date says nothing; the administrator is told of it
 * (struct ind_tls_expiries), but no device is turned away for it. */
static int pass_over_lists(int good, X509_STORE_CTX *store)
{
    int error = X509_STORE_CTX_get_error(store);
    if (good || (error != X509_V_ERR_UNABLE_TO_GET_CRL && error != X509_V_ERR_CRL_HAS_EXPIRED &&
                 error != X509_V_ERR_CRL_NOT_YET_VALID))
        return good;
    X509_STORE_CTX_set_error(store, X509_V_OK);
    return 1;
}

static int verify(X509_STORE_CTX *store, void *unused)
{
    SSL *ssl = X509_STORE_CTX_get_ex_data(store, SSL_get_ex_data_X509_STORE_CTX_idx());
    struct ind_tls_session *session = SSL_get_app_data(ssl);
    const struct ind_tls *tls = session->tls;
    X509 *leaf = X509_STORE_CTX_get0_cert(store);
    (void)unused;
    bool pinned = is_pinned(tls, leaf);
    EVP_PKEY *key = X509_get0_pubkey(leaf);
    if (!key || EVP_PKEY_get_security_bits(key) < LEAST_BITS)
        return refuse(store, session, IND_TLS_TOO_WEAK, X509_V_ERR_EE_KEY_TOO_SMALL);
    if (!pinned && !tls->has_authorities)
        return refuse(store, session, IND_TLS_OTHER_FINGERPRINT, X509_V_ERR_CERT_UNTRUSTED);
    if (!pinned && X509_verify_cert(store) != 1) {
        int error = X509_STORE_CTX_get_error(store);
        return refuse(store, session, failure_of(error), error ? error : X509_V_ERR_UNSPECIFIED);
    }
    if (tls->name_count > 0 && !name_asked_for(tls, leaf))
        return refuse(store, session, IND_TLS_OTHER_NAME, X509_V_ERR_HOSTNAME_MISMATCH);
    if (session->host && !pinned && !bears(leaf, session->host))
        return refuse(store, session, IND_TLS_OTHER_NAME, X509_V_ERR_HOSTNAME_MISMATCH);
    X509_STORE_CTX_set_error(store, X509_V_OK);
    return 1;
}

void ind_tls_verify(struct ind_tls *tls, bool required)
{
    X509_STORE *store = SSL_CTX_get_cert_store(tls->context);
    X509_STORE_set_verify_cb(store, pass_over_lists);
    /* An authority in the file is trusted though it is signed by another that is not there. */
    (void)X509_STORE_set_flags(store, X509_V_FLAG_PARTIAL_CHAIN);
    SSL_CTX_set_verify(tls->context, SSL_VERIFY_PEER | (required ? SSL_VERIFY_FAIL_IF_NO_PEER_CERT : 0),
                       NULL);
    SSL_CTX_set_cert_verify_callback(tls->context, verify, NULL);
}

/* ---- What it says it is ---- */

static bool set_peer(struct ind_tls_session *session, const void *bytes, int length)
{
    if (length <= 0 || length > IND_TLS_PEER_WIDTH || memchr(bytes, 0, (size_t)length))
        return false;
    memcpy(session->peer, bytes, (size_t)length);
    session->peer_length = (size_t)length;
    return true;
}

static bool set_peer_address(struct ind_tls_session *session, const ASN1_OCTET_STRING *bytes)
{
    struct ind_buffer out = ind_buffer_on(session->peer, sizeof session->peer);
    struct ind_address address = {.bits = 128};
    const uint8_t *at = ASN1_STRING_get0_data(bytes);
    if (ASN1_STRING_length(bytes) == 4)
        address = ind_address_v4(at);
    else if (ASN1_STRING_length(bytes) == 16)
        memcpy(address.bytes, at, 16);
    else
        return false;
    ind_address_write(&out, &address);
    session->peer_length = out.length;
    return true;
}

/* The first of a kind among its other names (RFC 5280 section 4.2.1.6). */
static bool set_peer_by(struct ind_tls_session *session, const GENERAL_NAMES *names, int kind)
{
    for (int i = 0; i < sk_GENERAL_NAME_num(names); i++) {
        const GENERAL_NAME *name = sk_GENERAL_NAME_value(names, i);
        if (name->type != kind)
            continue;
        if (kind == GEN_DNS ? set_peer(session, ASN1_STRING_get0_data(name->d.dNSName),
                                       ASN1_STRING_length(name->d.dNSName))
                            : set_peer_address(session, name->d.iPAddress))
            return true;
    }
    return false;
}

static bool set_peer_by_common_name(struct ind_tls_session *session, const X509 *certificate)
{
    const X509_NAME *subject = X509_get_subject_name(certificate);
    int at = X509_NAME_get_index_by_NID(subject, NID_commonName, -1);
    unsigned char *text = NULL;
    const ASN1_STRING *name = at < 0 ? NULL : X509_NAME_ENTRY_get_data(X509_NAME_get_entry(subject, at));
    int length = name ? ASN1_STRING_to_UTF8(&text, name) : -1;
    bool good = length > 0 && set_peer(session, text, length);
    if (length >= 0)
        OPENSSL_free(text);
    return good;
}

static void set_peer_by_fingerprint(struct ind_tls_session *session, X509 *certificate)
{
    struct ind_buffer out = ind_buffer_on(session->peer, sizeof session->peer);
    write_fingerprint(&out, certificate);
    session->peer_length = out.length;
}

void ind_tls_note_peer(struct ind_tls_session *session, X509 *certificate)
{
    const char *asked_for = name_asked_for(session->tls, certificate);
    GENERAL_NAMES *names = X509_get_ext_d2i(certificate, NID_subject_alt_name, NULL, NULL);
    if (!(asked_for && set_peer(session, asked_for, (int)strlen(asked_for))) &&
        !set_peer_by(session, names, GEN_DNS) && !set_peer_by_common_name(session, certificate) &&
        !set_peer_by(session, names, GEN_IPADD))
        set_peer_by_fingerprint(session, certificate);
    GENERAL_NAMES_free(names);
}
