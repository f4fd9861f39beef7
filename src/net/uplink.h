/* net/uplink.h: a connection to another collector that never waits, and that knows how much the other side's
 * system has acknowledged: datagrams (RFC 5426), streams (RFC 6587), the same under TLS (RFC 5425), local
 * sockets.
 *
 * What is acknowledged has come to the other side's system; that whoever listens there has read it is not
 * known (RFC 9293 section 3.1). A link belongs to one thread at a time. */
#ifndef IND_NET_UPLINK_H
#define IND_NET_UPLINK_H

#include "net/socket.h"
#include "net/tls.h"

#include <stddef.h>

struct ind_uplink;

struct ind_uplink_settings {
    enum ind_transport_kind kind;
    const char *host, *port; /* of a local socket: its path, and anything */
    struct ind_tls *tls;     /* of TLS; held while the link lives */
    int milliseconds;        /* for the connection, and as long again for the handshake */
    int stop; /* a descriptor: once it can be read from nothing is waited for any more; -1: none */
};

enum { IND_UPLINK_REASON = 200 };

/* Looks the name up, connects, shakes hands. New; NULL with the reason. */
struct ind_uplink *ind_uplink_open(const struct ind_uplink_settings *settings,
                                   char reason[IND_UPLINK_REASON]);
/* Accepts NULL. */
void ind_uplink_close(struct ind_uplink *link);

int ind_uplink_socket(const struct ind_uplink *link);
bool ind_uplink_is_stream(const struct ind_uplink *link);

/* Of a stream: takes as many bytes as there is room for, in one TLS record at most. Of datagrams: takes all
 * of one. 0: there is no room now; -1: nothing more can be sent (ind_uplink_reason). */
ptrdiff_t ind_uplink_write(struct ind_uplink *link, const char *bytes, size_t length);
/* Whether bytes were taken that the socket has not. */
bool ind_uplink_holds(const struct ind_uplink *link);
/* Goes on with these, and looks what the other side says: that is nothing, or that it ends. False: it has
 * ended. */
bool ind_uplink_look(struct ind_uplink *link);

/* Bytes that were taken; and those of them that the other side's system has acknowledged. Both grow only,
 * and the second one stays true once the link has ended. Where that system cannot be asked, or it is
 * datagrams, all that were taken count. */
uint64_t ind_uplink_taken(const struct ind_uplink *link);
uint64_t ind_uplink_acknowledged(struct ind_uplink *link);

/* Why it has ended; good until it is closed. */
const char *ind_uplink_reason(const struct ind_uplink *link);

#endif
