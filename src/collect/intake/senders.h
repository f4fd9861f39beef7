/* collect/intake/senders.h: what an intake thread knows of the addresses from which messages come, found in
 * two looks at memory however many they are.
 *
 * Addresses can be forged: at IND_SENDERS of them all are forgotten, and the table begins anew. */
#ifndef IND_COLLECT_INTAKE_SENDERS_H
#define IND_COLLECT_INTAKE_SENDERS_H

#include "collect/intake/origin.h"
#include "config/config.h"
#include "core/base/address.h"

enum { IND_SENDERS = 65536 };

/* What is used for each message stands together, at the beginning. */
struct ind_known_sender {
    struct ind_sender sender;
    struct ind_address address;
    char text[IND_ADDRESS_WIDTH];
};

/* What the configuration knows of an address (0 bits: this machine's local sockets, and ourselves; `local`
 * stands in where it is not configured). Adds the address in text; *sender is borrowed from it and from
 * `config`. */
void ind_sender_describe(const struct ind_config *config, const struct ind_address *address,
                         const struct ind_device *local, struct ind_buffer *text, struct ind_sender *sender);

struct ind_senders;
struct ind_senders *ind_senders_new(void);
void ind_senders_free(struct ind_senders *senders);

/* NULL where it is not known. Good until ind_senders_add. */
struct ind_known_sender *ind_senders_find(const struct ind_senders *senders,
                                          const struct ind_address *address);

/* It is soon looked for: its slot is asked for from memory. */
void ind_senders_expect(const struct ind_senders *senders, const struct ind_address *address);

/* A new record for an address that is not known, with nothing but the address in it. NULL where memory is
 * out. */
struct ind_known_sender *ind_senders_add(struct ind_senders *senders, const struct ind_address *address);

#endif
