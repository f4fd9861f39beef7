/* core/ledger/ledger.h: the account of messages (docs/architecture.md).
 *
 * Every message received ends in exactly one of the ways below, or waits. Nothing here is worked out as a
 * difference: what is received is counted where it comes in, what has ended where it ends, and what waits by
 * the queues in which it waits; so that a sum that does not add up shows a fault. */
#ifndef IND_CORE_LEDGER_LEDGER_H
#define IND_CORE_LEDGER_LEDGER_H

#include "core/message/message.h"
#include "core/message/names.h"

enum ind_end {
    IND_END_STORED,         /* in at least one file, its write done */
    IND_END_HANDED,         /* to standard output or a program, and in no file */
    IND_END_DROPPED,        /* by an edit */
    IND_END_UNROUTED,       /* no route took it */
    IND_END_REFUSED_SENDER, /* its sender is not under allow: */
    IND_END_REFUSED_EMPTY,  /* nothing but line ends */
    IND_END_REFUSED_TRAP,   /* what came to a listener for traps is none, or not from whom it may be */
    IND_END_LOST_BUFFER,    /* by us: there was no room for it in memory */
    IND_END_LOST_DISK,      /* by us: it could not be written */
    IND_END_LOST_SINK,      /* by us: neither standard output nor a program took it, and no file has it */
    IND_ENDS
};

struct ind_ledger {
    uint64_t received, bytes; /* bytes: of the messages as they were received */
    uint64_t ended[IND_ENDS];
    uint64_t waiting;
    uint64_t malformed, cut; /* of those received; they are filed like all others */
    uint64_t gave_up; /* regular expressions and patterns that took too long, and count as not matching */
    uint64_t forms[IND_FORMS];
    uint64_t severities[IND_SEVERITIES];
};

/* "stored", "unrouted", "refused: not allowed", …; never freed. */
const char *ind_end_name(enum ind_end end);
/* The same as a key: "stored", "refused_sender", …. */
const char *ind_end_key(enum ind_end end);

void ind_ledger_add(struct ind_ledger *sum, const struct ind_ledger *part);

/* What has ended and what waits, together. */
uint64_t ind_ledger_accounted(const struct ind_ledger *ledger);

/* What we lost. */
uint64_t ind_ledger_lost(const struct ind_ledger *ledger);

#endif
