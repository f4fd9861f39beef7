#include "net/tls_session.h"

static const struct {
    const char *key, *text;
} failures[IND_TLS_FAILURES] = {
    [IND_TLS_NOT_TLS] = {"not_tls", "it does not speak TLS; does it send to the port for plain TCP?"},
    [IND_TLS_TOO_OLD] = {"too_old", "it speaks no TLS 1.2 or later"},
    [IND_TLS_NOTHING_IN_COMMON] = {"nothing_in_common", "it offers no cipher or signature that we take"},
    [IND_TLS_NO_CERTIFICATE] = {"no_certificate", "it has shown no certificate"},
    [IND_TLS_UNKNOWN_AUTHORITY] = {"unknown_authority",
                                   "its certificate is signed by no authority that we trust"},
    [IND_TLS_SELF_SIGNED] = {"self_signed",
                             "its certificate is signed by itself; give its fingerprint to trust it"},
    [IND_TLS_EXPIRED] = {"expired", "its certificate, or its authority's, has expired"},
    [IND_TLS_NOT_YET_VALID] = {"not_yet_valid",
                               "its certificate, or its authority's, is not valid yet; is the clock right?"},
    [IND_TLS_REVOKED_CERTIFICATE] = {"revoked", "its certificate has been revoked"},
    [IND_TLS_TOO_WEAK] = {"too_weak",
                          "its certificate has too short a key, or too weak a signature such as SHA-1"},
    [IND_TLS_OTHER_PURPOSE] = {"other_purpose", "its certificate is not meant for this"},
    [IND_TLS_OTHER_NAME] = {"other_name", "its certificate bears none of the names that are asked for"},
    [IND_TLS_OTHER_FINGERPRINT] = {"other_fingerprint",
                                   "its certificate has none of the fingerprints that are trusted"},
    [IND_TLS_OURS_REFUSED] = {"ours_refused", "it does not accept our certificate"},
    [IND_TLS_BROKEN_OFF] = {"broken_off", "it broke off"},
    [IND_TLS_TOO_SLOW] = {"too_slow", "it took too long"},
    [IND_TLS_CROWDED_OUT] = {"crowded_out", "it was the oldest of too many at once"},
    [IND_TLS_OTHERWISE] = {"otherwise", "it failed"},
};

const char *ind_tls_failure_key(enum ind_tls_failure failure)
{
    return failures[failure].key;
}

const char *ind_tls_failure_text(enum ind_tls_failure failure)
{
    return failures[failure].text;
}
