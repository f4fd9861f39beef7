/* collect/senders.h: what an intake thread knows of the addresses from which messages come, found in two
 * looks at memory however many they are.
 *
 * Addresses can be forged: at IND_SENDERS of them all are forgotten, and the table begins anew. */
#ifndef IND_COLLECT_SENDERS_H
#define IND_COLLECT_SENDERS_H

#include "collect/intake.h"

enum { IND_SENDERS = 65536 };

/* What is used for each message stands together, at the beginning. */
struct ind_known_sender {
    struct ind_sender sender;
    struct ind_address address;
    uint16_t listener; /* of `account` */
    uint32_t account;  /* of its device, where it speaks for itself; UINT32_MAX: not known yet */
    char text[IND_ADDRESS_WIDTH];
};

struct ind_senders;
struct ind_senders *ind_senders_new(void);
void ind_senders_free(struct ind_senders *senders);

/* NULL where it is not known. Good until ind_senders_add. */
struct ind_known_sender *ind_senders_find(const struct ind_senders *senders,
                                          const struct ind_address *address);

/* A new record for an address that is not known, with nothing but the address in it. NULL where memory is
 * out. */
struct ind_known_sender *ind_senders_add(struct ind_senders *senders, const struct ind_address *address);

#endif
