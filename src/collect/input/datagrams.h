/* collect/input/datagrams.h: what comes in by datagrams, UDP and local sockets. They are read as long as
 * there is any room for them: they cannot be held back. Belongs to one receiver's thread. */
#ifndef IND_COLLECT_INPUT_DATAGRAMS_H
#define IND_COLLECT_INPUT_DATAGRAMS_H

#include "collect/input/dispatch.h"
#include "collect/input/listener.h"
#include "collect/intake/traps.h"
#include "net/socket_table.h"

struct ind_datagrams {
    struct ind_dispatch *dispatch;
    const struct ind_socket_table *sockets;
    struct ind_slabs *slabs; /* the pool of the burst buffer */
    size_t limit;            /* bytes of a message; what is longer is cut */
    bool any;                /* the last reads brought something */
    struct ind_traps *traps; /* reads what comes to listeners for traps; NULL: there are none such */
    struct ind_steady trap_reported[IND_TRAP_FAULTS];
};

enum ind_datagrams_read {
    IND_DATAGRAMS_READ,
    IND_DATAGRAMS_NO_ROOM /* of UDP: what waits stays in the socket; look again in a moment */
};

/* Empties a socket, or takes as much as may be taken in a row. Local programs are not made to wait: what they
 * send when all is full is lost, and counted. `traps`: who may send those, of a listener for them; else NULL.
 */
enum ind_datagrams_read ind_datagrams_read(struct ind_datagrams *datagrams, struct ind_listener *listener,
                                           const struct ind_trap_rules *traps, int socket);

/* How many of the largest datagrams there is room for. */
int ind_datagrams_room(const struct ind_datagrams *datagrams);

#endif
