/* tests/support/certificates.h: certificates of all kinds, good and bad, made on the spot. */
#ifndef IND_TESTS_CERTIFICATES_H
#define IND_TESTS_CERTIFICATES_H

#include <stdbool.h>

struct ind_made {
    const char *name;    /* of its files: NAME.pem and NAME.key */
    const char *signer;  /* the name of its authority; NULL: itself */
    const char *subject; /* common name; NULL: as `name`; "": none */
    const char *dns[3], *ip;
    int from, to; /* days from now; both 0: a year around it */
    int rsa;      /* bits; 0: an elliptic curve */
    bool sha1;    /* a signature with SHA-1 */
    bool authority;
};

/* Into a folder. Ends the process where it cannot be done. */
void ind_make_certificate(const char *folder, const struct ind_made *made);

/* NAME.crl of an authority, which revokes one of its certificates (NULL: none), and is good for so many days.
 */
void ind_make_revocation(const char *folder, const char *authority, const char *revoked, int days);

/* A usual set: authorities "authority" and "stranger"; "collector" for 127.0.0.1 and
 * collector.skerry.example; clients "pier1-rtr" and "pier3-sw2" of the authority. */
void ind_make_certificates(const char *folder);

/* "sha-256:AB:…" of NAME.pem into `text`. */
enum { IND_MADE_FINGERPRINT = 104 };
void ind_made_fingerprint(const char *folder, const char *name, char text[IND_MADE_FINGERPRINT]);

#endif
