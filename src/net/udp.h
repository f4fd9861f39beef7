/* net/udp.h: datagrams coming in: UDP (RFC 5426), and local datagram sockets. Knows nothing of messages. */
#ifndef IND_NET_UDP_H
#define IND_NET_UDP_H

#include "core/base/address.h"
#include "core/time/civil.h"

struct ind_datagram {
    const char *bytes;
    size_t length;
    ind_time received;         /* the kernel's stamp; IND_TIME_NONE where it gives none */
    struct ind_address sender; /* of 0 bits: a local socket */
    bool cut;                  /* it was longer than 64 KiB: the rest is gone */
};

/* Binds a socket to a numeric address; port 0: any. One for IPv6 takes no IPv4. `shared`: others of ours may
 * be bound to the same. -1 with errno set. */
int ind_udp_listen(const char *address, uint16_t port, bool shared);

/* What such a socket is to have that somebody else has bound: stamps, and a large buffer. */
void ind_udp_prepare(int socket);

/* Whether several sockets can share a port in such a way that all datagrams of one address come to one of
 * them, whatever port they were sent from: their order is kept then. */
bool ind_udp_can_share(void);
/* Sees to that, for a group of `sockets` sockets, `socket` being any of them. False where it failed. */
bool ind_udp_share_by_address(int socket, unsigned sockets);

/* What the kernel dropped of this socket's, because its buffer was full; 0 where it does not tell. */
uint64_t ind_udp_dropped(int socket);

/* The most datagrams of one call. */
enum { IND_UDP_BATCH = 64 };

/* Room for a batch of datagrams, reused for every call. */
struct ind_udp_batch;
struct ind_udp_batch *ind_udp_batch_new(void);
void ind_udp_batch_free(struct ind_udp_batch *batch);

/* Takes what waits in the socket, without waiting, at most a batch, and at most `most`. `local`: a local
 * socket; only its bytes are taken, and its senders have no address. Returns how many; -1 with errno set. */
int ind_udp_receive(int socket, bool local, struct ind_udp_batch *batch, int most);
/* The i-th of the last call; borrowed until the next. */
struct ind_datagram ind_udp_datagram(const struct ind_udp_batch *batch, int i);

/* Sends a datagram to the sender of the i-th of the last call, without waiting; where it cannot be sent, it
 * is not. */
void ind_udp_answer(int socket, const struct ind_udp_batch *batch, int i, const void *bytes, size_t length);

/* Bytes that a socket asks the kernel to keep for datagrams that are not read yet. */
int ind_udp_buffer_wanted(void);

#endif
