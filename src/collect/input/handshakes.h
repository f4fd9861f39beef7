/* collect/input/handshakes.h: connections that are not let in yet, because they have to show who they are
 * first. The door's.
 *
 * What they may take is bounded: in number, where the oldest makes room, and in time. A connection whose
 * handshake fails is ended, and counted at its listener with the reason. */
#ifndef IND_COLLECT_INPUT_HANDSHAKES_H
#define IND_COLLECT_INPUT_HANDSHAKES_H

#include "collect/input/connection.h"
#include "collect/input/listener.h"
#include "collect/runtime/clock.h"

struct event_base;
struct ind_guest;

struct ind_handshakes {
    /* Set before the first; borrowed. */
    struct event_base *base;
    const struct ind_clock *clock;
    struct ind_reporter *reporter;
    struct ind_limits limits; /* of the present rules */
    /* Takes a connection whose handshake is done. */
    void (*done)(void *context, struct ind_connection *connection);
    void *context;

    struct ind_guest *list; /* the oldest first */
    size_t count;
};

/* Takes a connection that is admitted. */
void ind_handshakes_add(struct ind_handshakes *handshakes, struct ind_connection *connection,
                        struct ind_tls *tls);
/* Ends those that take too long. Once a second or so. */
void ind_handshakes_end_late(struct ind_handshakes *handshakes);
/* Other listeners from now on: whose listener goes, or whose address is not allowed any more, is ended. */
void ind_handshakes_adopt(struct ind_handshakes *handshakes, const struct ind_listener_set *set);
/* Ends all of them. */
void ind_handshakes_end(struct ind_handshakes *handshakes);

#endif
