/* net/socket_table.h: what a receiver asks of its sockets, as a table, so that a test can play the network.
 * Results as in POSIX: -1 and errno. Belongs to one thread. */
#ifndef IND_NET_SOCKET_TABLE_H
#define IND_NET_SOCKET_TABLE_H

#include "net/udp.h"

#include <sys/types.h>

struct ind_socket_table {
    void *context;
    /* Datagrams that wait, without waiting, `most` at most (IND_UDP_BATCH); borrowed until the next call. */
    int (*receive)(void *context, int socket, bool local, struct ind_datagram *datagrams, int most);
    /* Sends a datagram to the sender of the i-th that was received last. What has no room is not sent:
     * whoever wanted it asks again. */
    void (*answer)(void *context, int socket, int i, const void *bytes, size_t length);
    /* What the kernel dropped for want of room, since the socket was opened. */
    uint64_t (*dropped)(void *context, int socket);
    /* The next connection that waits. */
    int (*accept)(void *context, int socket, struct ind_address *sender);
    /* Bytes of a connection, without waiting; 0 at its end. */
    ssize_t (*read)(void *context, int socket, void *bytes, size_t room);
};

/* The system's; false where memory is out. To be ended with ind_socket_table_end_system. */
bool ind_socket_table_begin_system(struct ind_socket_table *table);
void ind_socket_table_end_system(struct ind_socket_table *table);

#endif
