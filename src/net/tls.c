#include "net/tls_private.h"

#include <openssl/err.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { SOON_DAYS = 30, DEEPEST_CHAIN = 10, SECURITY = 2 /* 112 bits: no SHA-1, no RSA below 2,048 */ };

/* ---- What both sides want of the library ---- */

static bool set_protocol(SSL_CTX *context)
{
    /* Nothing is kept of a connection that is over: tickets and sessions would only save a handshake. And
     * nobody may ask for another handshake, which costs us more than him. */
    SSL_CTX_set_options(context, SSL_OP_NO_RENEGOTIATION | SSL_OP_NO_TICKET | SSL_OP_NO_COMPRESSION);
    SSL_CTX_set_session_cache_mode(context, SSL_SESS_CACHE_OFF);
    SSL_CTX_set_mode(context, SSL_MODE_RELEASE_BUFFERS); /* a connection that says nothing holds none */
    SSL_CTX_set_read_ahead(context, 1);                  /* many small records with one read */
    SSL_CTX_set_security_level(context, SECURITY);
    SSL_CTX_set_verify_depth(context, DEEPEST_CHAIN);
    (void)SSL_CTX_set_dh_auto(context, 1);
    return SSL_CTX_set_min_proto_version(context, TLS1_2_VERSION) == 1 &&
           SSL_CTX_set_num_tickets(context, 0) == 1;
}

static bool copy_names(struct ind_tls *tls, const struct ind_tls_settings *settings)
{
    tls->names = settings->name_count ? calloc(settings->name_count, sizeof *tls->names) : NULL;
    for (; tls->names && tls->name_count < settings->name_count; tls->name_count++)
        if (!(tls->names[tls->name_count] = strdup(settings->names[tls->name_count])))
            return false;
    size_t size = settings->fingerprint_count * sizeof *tls->fingerprints;
    tls->fingerprints = size ? malloc(size) : NULL;
    if (tls->fingerprints) {
        memcpy(tls->fingerprints, settings->fingerprints, size);
        tls->fingerprint_count = settings->fingerprint_count;
    }
    return tls->name_count == settings->name_count && (!size || tls->fingerprints);
}

static struct ind_tls *new_context(const SSL_METHOD *method, const struct ind_tls_settings *settings,
                                   struct ind_tls_fault *fault)
{
    struct ind_tls *tls = calloc(1, sizeof *tls);
    *fault = (struct ind_tls_fault){.part = IND_TLS_ITSELF, .text = "out of memory"};
    if (!tls)
        return NULL;
    atomic_init(&tls->holders, 1);
    for (int i = 0; i < IND_TLS_PARTS; i++)
        tls->expiries.ends[i] = IND_TIME_NONE;
    ERR_clear_error();
    tls->context = SSL_CTX_new(method);
    tls->method = ind_tls_method_new();
    if (tls->context && tls->method && copy_names(tls, settings) && set_protocol(tls->context))
        return tls;
    ind_tls_last_error(fault->text, sizeof fault->text);
    ind_tls_release(tls);
    return NULL;
}

/* ---- Server and client ---- */

static bool set_server(struct ind_tls *tls, const struct ind_tls_settings *settings,
                       struct ind_tls_fault *fault)
{
    bool asks = settings->authorities || settings->fingerprint_count > 0;
    if (!ind_tls_load_own(tls, settings, fault) || !ind_tls_load_authorities(tls, settings, fault) ||
        !ind_tls_load_revoked(tls, settings, fault))
        return false;
    if (asks)
        ind_tls_verify(tls, true);
    return true;
}

static bool set_client(struct ind_tls *tls, const struct ind_tls_settings *settings,
                       struct ind_tls_fault *fault)
{
    if (settings->certificate && !ind_tls_load_own(tls, settings, fault))
        return false;
    if (!settings->authorities && settings->fingerprint_count == 0) {
        (void)SSL_CTX_set_default_verify_paths(tls->context);
        tls->has_authorities = true;
    }
    if (!ind_tls_load_authorities(tls, settings, fault) || !ind_tls_load_revoked(tls, settings, fault))
        return false;
    ind_tls_verify(tls, false);
    return true;
}

typedef bool (*set_side)(struct ind_tls *tls, const struct ind_tls_settings *settings,
                         struct ind_tls_fault *fault);

static struct ind_tls *make(const SSL_METHOD *method, set_side set, const struct ind_tls_settings *settings,
                            struct ind_tls_fault *fault)
{
    struct ind_tls *tls = new_context(method, settings, fault);
    if (tls && !set(tls, settings, fault)) {
        ind_tls_release(tls);
        return NULL;
    }
    return tls;
}

struct ind_tls *ind_tls_server_new(const struct ind_tls_settings *settings, struct ind_tls_fault *fault)
{
    return make(TLS_server_method(), set_server, settings, fault);
}

struct ind_tls *ind_tls_client_new(const struct ind_tls_settings *settings, struct ind_tls_fault *fault)
{
    return make(TLS_client_method(), set_client, settings, fault);
}

/* ---- Held and let go ---- */

struct ind_tls *ind_tls_hold(struct ind_tls *tls)
{
    atomic_fetch_add(&tls->holders, 1);
    return tls;
}

void ind_tls_release(struct ind_tls *tls)
{
    if (!tls || atomic_fetch_sub(&tls->holders, 1) > 1)
        return;
    SSL_CTX_free(tls->context);
    BIO_meth_free(tls->method);
    for (size_t i = 0; i < tls->name_count; i++)
        free(tls->names[i]);
    free(tls->names);
    free(tls->fingerprints);
    free(tls);
}

/* ---- Ends ---- */

const struct ind_tls_expiries *ind_tls_expiries(const struct ind_tls *tls)
{
    return &tls->expiries;
}

bool ind_tls_expires_soon(ind_time end, ind_time now)
{
    return end != IND_TIME_NONE && end - now < (ind_time)SOON_DAYS * IND_DAY_SECONDS * IND_SECOND;
}
