/* net/udp.h: datagrams in (RFC 5426) and out. Knows nothing of messages. */
#ifndef IND_NET_UDP_H
#define IND_NET_UDP_H

#include "core/address.h"
#include "core/civil.h"

struct ind_datagram {
    const char *bytes;
    size_t length;
    struct ind_address sender;
    ind_time received; /* the kernel's stamp; IND_TIME_NONE where it gives none */
};

/* Binds a socket to a numeric address; port 0: any. `only_v6`: an IPv6 socket takes no IPv4. -1 with errno
 * set. */
int ind_udp_listen(const char *address, uint16_t port, bool only_v6);

/* The port that a socket is bound to, 0 where it is none. */
uint16_t ind_udp_port(int socket);

/* What the kernel dropped of this socket's, because its buffer was full; 0 where it does not tell. */
uint64_t ind_udp_dropped(int socket);

/* Room for a batch of datagrams, reused for every call. */
struct ind_udp_batch;
struct ind_udp_batch *ind_udp_batch_new(void);
void ind_udp_batch_free(struct ind_udp_batch *batch);

/* Takes what waits in the socket, without waiting, at most a batch. Returns how many; -1 with errno set. */
int ind_udp_receive(int socket, struct ind_udp_batch *batch);
/* The i-th of the last call; borrowed until the next. */
struct ind_datagram ind_udp_datagram(const struct ind_udp_batch *batch, int i);

/* A socket that sends to HOST and PORT (names are looked up). -1 with *reason set. */
int ind_udp_connect(const char *host, const char *port, const char **reason);

#endif
