/* collect/account/tally.h: what one intake thread has had of one account, and done by one edit, since it last
 * passed that on to the book. */
#ifndef IND_COLLECT_ACCOUNT_TALLY_H
#define IND_COLLECT_ACCOUNT_TALLY_H

#include "core/ledger/ledger.h"

/* Messages that a route took; most devices have a few routes. */
enum { IND_TALLY_ROUTES = 4 };
struct ind_tally_route {
    uint32_t route, messages; /* route: its place in the rules of the batch; messages 0: nothing yet */
};

struct ind_tally {
    uint32_t account, received, malformed, cut, gave_up;
    uint32_t ended[IND_ENDS]; /* those that the intake thread decides */
    uint32_t forms[IND_FORMS];
    uint32_t severities[IND_SEVERITIES];
    struct ind_tally_route routes[IND_TALLY_ROUTES];
    uint32_t other_routes; /* messages that those beyond took */
    uint64_t bytes;
    ind_time last, lag; /* of the last message; IND_TIME_NONE where it names no time */
    bool unset;         /* it says that its device's clock is not set */
};

struct ind_edit_tally {
    const char *edit; /* its name; the configuration's */
    uint32_t changed, dropped;
    uint64_t dropped_bytes; /* of messages as they were received */
};

/* A message with more than one line. */
struct ind_copies {
    uint32_t account, count; /* count: of all its lines, also those in other batches */
    uint32_t token;          /* the book's; UINT32_MAX: none yet */
    bool continued;          /* its first line is in the batch before this one */
};

struct ind_tallies {
    const struct ind_tally *accounts;
    size_t account_count;
    const struct ind_edit_tally *edits;
    size_t edit_count;
};

void ind_tally_add(struct ind_ledger *ledger, const struct ind_tally *tally);

#endif
