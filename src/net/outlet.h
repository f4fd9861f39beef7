/* net/outlet.h: messages going out, one connection or socket each: datagrams (RFC 5426), streams with octet
 * counting or lines (RFC 6587), the same under TLS (RFC 5425), local sockets.
 *
 * What goes to a stream is gathered into large writes; ind_outlet_flush sends what is gathered. Sending waits
 * where the other side does not read. */
#ifndef IND_NET_OUTLET_H
#define IND_NET_OUTLET_H

#include "core/base/slice.h"
#include "net/socket.h"
#include "net/tls.h"

struct ind_outlet_settings {
    enum ind_transport_kind kind;
    const char *host, *port; /* of a local socket: its path, and NULL */
    const char *from;        /* numeric address to send from; NULL: any */
    struct ind_tls *tls;     /* of TLS: who we are, and whom we believe; held while the outlet lives */
    bool lines;              /* of a stream: each message ends with LF; else its octets are counted */
    bool trains; /* UDP: datagrams of one length are handed to the kernel many at a time, where it can */
};

/* The longest message that fits a datagram, or that we send at all. */
enum { IND_OUTLET_DATAGRAM = 65507 };

struct ind_outlet;

/* New; NULL with *reason (never freed) set. */
struct ind_outlet *ind_outlet_open(const struct ind_outlet_settings *settings, const char **reason);
/* Closes it; what is gathered and not flushed is not sent. Accepts NULL. */
void ind_outlet_close(struct ind_outlet *outlet);

/* False: nothing more can be sent, for the reason of ind_outlet_reason; without TLS errno is set. What is too
 * long for a datagram is cut: *cut. */
bool ind_outlet_send(struct ind_outlet *outlet, struct ind_slice message, bool *cut);
bool ind_outlet_flush(struct ind_outlet *outlet);
/* Flushes, and under TLS waits until the other side has taken it all, and said so. */
bool ind_outlet_finish(struct ind_outlet *outlet);
/* Why the last call failed; never freed, good until the outlet is closed. */
const char *ind_outlet_reason(const struct ind_outlet *outlet);

#endif
