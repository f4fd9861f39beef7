/* collect/intake/traps.h: what a receiver does with a datagram that came to a listener for traps: whether it
 * is accepted, the message that is made of it, and what is answered.
 *
 * Knows no sockets, and counts nothing. Belongs to one thread. */
#ifndef IND_COLLECT_INTAKE_TRAPS_H
#define IND_COLLECT_INTAKE_TRAPS_H

#include "collect/intake/trap_engines.h"
#include "collect/intake/trap_rules.h"

struct ind_traps;

/* New; borrows the engines. NULL where memory is out. Without engines, for what is only to be shown, no time
 * is asked for and no engine is our own. */
struct ind_traps *ind_traps_new(struct ind_trap_engines *engines);
void ind_traps_free(struct ind_traps *traps);

/* Where a datagram comes from. */
struct ind_trap_sender {
    struct ind_address address;
    bool relay; /* it may speak for others: the agent in the trap is the host */
};

enum ind_trap_outcome {
    IND_TRAP_MESSAGE, /* `message` is to be filed */
    IND_TRAP_REFUSED, /* by `fault` */
    IND_TRAP_ANSWERED /* nothing but `answer`: a question of the protocol, or an inform that was here */
};

/* All borrowed until the next call. */
struct ind_trap_result {
    enum ind_trap_outcome outcome;
    enum ind_trap_fault fault;
    struct ind_slice message; /* in RFC 5424's form (core/trap/trap.h) */
    struct ind_slice answer;  /* to be sent to its sender once the message is taken; empty: nothing */
    bool cut;                 /* the message had no room for all of it */
};

/* The trap of the last message that was accepted. */
const struct ind_trap *ind_traps_last(const struct ind_traps *traps);

void ind_traps_read(struct ind_traps *traps, const struct ind_trap_rules *rules,
                    const struct ind_trap_sender *sender, struct ind_slice datagram, struct ind_steady now,
                    struct ind_trap_result *result);

#endif
