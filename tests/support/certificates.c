#include "support/certificates.h"

#include "core/base/fingerprint.h"
#include <openssl/pem.h>
#include <openssl/rsa.h>
#include <openssl/x509v3.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { DAY = 86400 };

static void must(bool good, const char *what)
{
    if (good)
        return;
    fprintf(stderr, "certificates for a test: cannot %s\n", what);
    abort();
}

static FILE *open_at(const char *folder, const char *name, const char *ending, const char *mode)
{
    char path[1200];
    snprintf(path, sizeof path, "%s/%s.%s", folder, name, ending);
    FILE *file = fopen(path, mode);
    must(file != NULL, path);
    return file;
}

static X509 *read_certificate(const char *folder, const char *name)
{
    FILE *file = open_at(folder, name, "pem", "r");
    X509 *certificate = PEM_read_X509(file, NULL, NULL, NULL);
    must(certificate != NULL, "read a certificate");
    fclose(file);
    return certificate;
}

static EVP_PKEY *read_key(const char *folder, const char *name)
{
    FILE *file = open_at(folder, name, "key", "r");
    EVP_PKEY *key = PEM_read_PrivateKey(file, NULL, NULL, NULL);
    must(key != NULL, "read a key");
    fclose(file);
    return key;
}

static void add_extension(X509 *certificate, int kind, const char *value)
{
    X509V3_CTX context;
    X509V3_set_ctx(&context, NULL, certificate, NULL, NULL, 0);
    X509_EXTENSION *extension = X509V3_EXT_conf_nid(NULL, &context, kind, value);
    must(extension && X509_add_ext(certificate, extension, -1) == 1, "add an extension");
    X509_EXTENSION_free(extension);
}

static void add_names(X509 *certificate, const struct ind_made *made)
{
    char names[600] = "";
    size_t used = 0;
    for (int i = 0; i < 3 && made->dns[i]; i++)
        used +=
            (size_t)snprintf(names + used, sizeof names - used, "%sDNS:%s", used ? "," : "", made->dns[i]);
    if (made->ip)
        used += (size_t)snprintf(names + used, sizeof names - used, "%sIP:%s", used ? "," : "", made->ip);
    if (used)
        add_extension(certificate, NID_subject_alt_name, names);
}

static void set_facts(X509 *certificate, const struct ind_made *made)
{
    const char *subject = made->subject ? made->subject : made->name;
    X509_NAME *name = X509_get_subject_name(certificate);
    ASN1_INTEGER *serial = X509_get_serialNumber(certificate);
    uint64_t number = 0;
    for (const char *at = made->name; *at; at++)
        number = number * 131 + (unsigned char)*at;
    must(X509_set_version(certificate, 2) == 1 && ASN1_INTEGER_set_uint64(serial, number | 1) == 1,
         "number a certificate");
    if (*subject)
        must(X509_NAME_add_entry_by_txt(name, "CN", MBSTRING_UTF8, (const unsigned char *)subject, -1, -1,
                                        0) == 1,
             "name a certificate");
    bool year = made->from == 0 && made->to == 0;
    X509_gmtime_adj(X509_getm_notBefore(certificate), (year ? -1L : made->from) * DAY);
    X509_gmtime_adj(X509_getm_notAfter(certificate), (year ? 365L : made->to) * DAY);
    add_extension(certificate, NID_basic_constraints, made->authority ? "critical,CA:TRUE" : "CA:FALSE");
    add_names(certificate, made);
}

void ind_make_certificate(const char *folder, const struct ind_made *made)
{
    EVP_PKEY *key = made->rsa ? EVP_PKEY_Q_keygen(NULL, NULL, "RSA", (size_t)made->rsa)
                              : EVP_PKEY_Q_keygen(NULL, NULL, "EC", "P-256");
    X509 *certificate = X509_new(), *signer = NULL;
    must(key && certificate && X509_set_pubkey(certificate, key) == 1, "make a key");
    set_facts(certificate, made);
    EVP_PKEY *signing = key;
    if (made->signer) {
        signer = read_certificate(folder, made->signer);
        signing = read_key(folder, made->signer);
    }
    X509_set_issuer_name(certificate, X509_get_subject_name(signer ? signer : certificate));
    must(X509_sign(certificate, signing, made->sha1 ? EVP_sha1() : EVP_sha256()) > 0, "sign a certificate");
    FILE *file = open_at(folder, made->name, "pem", "w");
    PEM_write_X509(file, certificate);
    fclose(file);
    file = open_at(folder, made->name, "key", "w");
    PEM_write_PrivateKey(file, key, NULL, NULL, 0, NULL, NULL);
    fclose(file);
    if (signing != key)
        EVP_PKEY_free(signing);
    X509_free(signer);
    X509_free(certificate);
    EVP_PKEY_free(key);
}

void ind_make_revocation(const char *folder, const char *authority, const char *revoked, int days)
{
    X509 *signer = read_certificate(folder, authority);
    EVP_PKEY *key = read_key(folder, authority);
    X509_CRL *list = X509_CRL_new();
    ASN1_TIME *from = X509_gmtime_adj(NULL, days < 0 ? (days - 1L) * DAY : -DAY),
              *to = X509_gmtime_adj(NULL, (long)days * DAY);
    must(list && from && to && X509_CRL_set_version(list, 1) == 1 &&
             X509_CRL_set_issuer_name(list, X509_get_subject_name(signer)) == 1 &&
             X509_CRL_set1_lastUpdate(list, from) == 1 && X509_CRL_set1_nextUpdate(list, to) == 1,
         "make a revocation list");
    if (revoked) {
        X509 *certificate = read_certificate(folder, revoked);
        X509_REVOKED *entry = X509_REVOKED_new();
        must(X509_REVOKED_set_serialNumber(entry, X509_get_serialNumber(certificate)) == 1 &&
                 X509_REVOKED_set_revocationDate(entry, from) == 1 && X509_CRL_add0_revoked(list, entry) == 1,
             "revoke a certificate");
        X509_free(certificate);
    }
    must(X509_CRL_sort(list) == 1 && X509_CRL_sign(list, key, EVP_sha256()) > 0, "sign a revocation list");
    FILE *file = open_at(folder, authority, "crl", "w");
    PEM_write_X509_CRL(file, list);
    fclose(file);
    ASN1_TIME_free(from);
    ASN1_TIME_free(to);
    X509_CRL_free(list);
    EVP_PKEY_free(key);
    X509_free(signer);
}

void ind_make_certificates(const char *folder)
{
    static const struct ind_made all[] = {
        {.name = "authority", .subject = "Skerry Line devices", .authority = true},
        {.name = "stranger", .subject = "somebody else", .authority = true},
        {.name = "collector",
         .signer = "authority",
         .dns = {"collector.skerry.example", "localhost"},
         .ip = "127.0.0.1"},
        {.name = "pier1-rtr", .signer = "authority", .dns = {"pier1-rtr.skerry.example"}},
        {.name = "pier3-sw2", .signer = "authority", .dns = {"pier3-sw2.skerry.example"}},
    };
    for (size_t i = 0; i < sizeof all / sizeof *all; i++)
        ind_make_certificate(folder, &all[i]);
}

void ind_made_fingerprint(const char *folder, const char *name, char text[IND_MADE_FINGERPRINT])
{
    struct ind_fingerprint fingerprint;
    struct ind_buffer out = ind_buffer_on(text, IND_MADE_FINGERPRINT - 1);
    X509 *certificate = read_certificate(folder, name);
    must(X509_digest(certificate, EVP_sha256(), fingerprint.bytes, NULL) == 1, "hash a certificate");
    X509_free(certificate);
    ind_fingerprint_write(&out, &fingerprint);
    text[out.length] = '\0';
}
