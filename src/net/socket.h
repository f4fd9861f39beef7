/* net/socket.h: what sockets of all kinds share, streams (RFC 6587's transport), and local sockets. */
#ifndef IND_NET_SOCKET_H
#define IND_NET_SOCKET_H

#include "core/base/address.h"

#include <sys/socket.h>

/* The address in a socket's name; of 0 bits where it is no IP address. */
struct ind_address ind_socket_address(const struct sockaddr_storage *name);

/* The port that a socket is bound to, 0 where it has none. */
uint16_t ind_socket_port(int socket);

void ind_socket_set_flags(int socket); /* not waiting, and not inherited */

/* A socket that takes connections on a numeric address; port 0: any. One for IPv6 takes no IPv4. `shared`:
 * others of ours may be bound to the same. -1 with errno set. */
int ind_tcp_listen(const char *address, uint16_t port, bool shared);

/* Another descriptor of the same socket; -1 with errno set. */
int ind_socket_copy(int socket);

/* The next connection that waits, and who it is from. -1 with errno set. */
int ind_tcp_accept(int socket, struct ind_address *sender);

/* A local datagram socket in the file system, with those permissions. A socket that nobody listens to any
 * more is replaced; one that somebody listens to is EADDRINUSE, anything else of that name EEXIST. -1 with
 * errno set. */
int ind_unix_listen(const char *path, unsigned mode);

/* The same for streams. */
int ind_unix_listen_stream(const char *path, unsigned mode);

enum ind_transport_kind { IND_SEND_UDP, IND_SEND_TCP, IND_SEND_TLS, IND_SEND_UNIX };

/* A socket that sends to HOST and PORT (names are looked up), from the address `from` (numeric; NULL: any);
 * to a local socket, datagrams or a stream, HOST is its path. -1 with *reason set. */
int ind_connect(enum ind_transport_kind kind, const char *host, const char *port, const char *from,
                const char **reason);

#endif
