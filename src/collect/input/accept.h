/* collect/input/accept.h: connections let in, or turned away at once. The door's.
 *
 * Without a descriptor to spare it pauses: asking again at once would only fill the processor. That is a
 * state of its own, apart from want of room for messages. */
#ifndef IND_COLLECT_INPUT_ACCEPT_H
#define IND_COLLECT_INPUT_ACCEPT_H

#include "collect/input/connection.h"
#include "collect/input/listener.h"
#include "collect/runtime/clock.h"
#include "net/socket_table.h"

/* Written by the door, read by any thread. */
struct ind_accept_facts {
    atomic_uint_fast64_t accepted, turned_away, not_allowed;
};

struct ind_acceptor {
    struct ind_admission *admission;
    const struct ind_socket_table *sockets;
    const struct ind_clock *clock;
    struct ind_reporter *reporter;
    /* Takes a connection that is admitted. */
    void (*admitted)(void *context, struct ind_connection *connection);
    void *context;
    const struct ind_config *config; /* of the present rules */
    struct ind_steady reported, descriptors_reported;
    struct ind_accept_facts facts;
};

enum ind_accepted {
    IND_ACCEPTED,
    IND_ACCEPT_NO_DESCRIPTOR /* new ones wait: ask again in a while */
};

/* Lets in those who wait, a bounded number. */
enum ind_accepted ind_accept(struct ind_acceptor *acceptor, struct ind_listener *listener, int socket);

#endif
