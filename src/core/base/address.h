/* core/base/address.h: IP addresses and networks.
 *
 * An IPv4-mapped IPv6 address (::ffff:192.0.2.9) is IPv4 everywhere, so that one device is one sender
 * whichever socket its datagrams came through. */
#ifndef IND_CORE_BASE_ADDRESS_H
#define IND_CORE_BASE_ADDRESS_H

#include "core/base/slice.h"
#include <stdint.h>

struct ind_address {
    uint8_t bits;      /* 32, 128, or 0: no address */
    uint8_t bytes[16]; /* network order; those past `bits` are zero */
};

struct ind_network {
    struct ind_address address; /* bits past `prefix` are zero */
    uint8_t prefix;
};

enum { IND_ADDRESS_WIDTH = 46 }; /* the longest text of one, with a final NUL */

struct ind_address ind_address_v4(const uint8_t bytes[4]);
struct ind_address ind_address_v6(const uint8_t bytes[16]);

bool ind_address_read(struct ind_slice text, struct ind_address *address);
void ind_address_write(struct ind_buffer *buffer,
                       const struct ind_address *address); /* RFC 5952's form for IPv6 */
/* An address, with a prefix where that is not all of it: "192.0.2.9", "2001:db8::/32". */
void ind_network_write(struct ind_buffer *buffer, const struct ind_network *network);
bool ind_address_equal(const struct ind_address *a, const struct ind_address *b);

/* The host of "HOST", "HOST:PORT" or "[ADDRESS]:PORT" (RFC 3986 section 3.2), without the brackets; borrowed.
 */
struct ind_slice ind_host_of(struct ind_slice place);
/* Whether a host is this machine itself: 127.0.0.0/8, ::1 (RFC 6890), or "localhost" (RFC 6761). */
bool ind_host_is_loopback(struct ind_slice host);

enum ind_network_mistake { IND_NETWORK_OK, IND_NETWORK_ADDRESS, IND_NETWORK_PREFIX, IND_NETWORK_HOST_BITS };

/* "192.0.2.0/24", "2001:db8::/32", or an address alone. Bits set past the prefix are a mistake of the
 * writer's. */
enum ind_network_mistake ind_network_read(struct ind_slice text, struct ind_network *network);
/* A range of addresses as networks, one a call: the largest that begins at *from and does not reach past
 * `to`; *from moves behind it. False once the range is used up. */
bool ind_range_next(struct ind_address *from, const struct ind_address *to, struct ind_network *network);

bool ind_network_holds(const struct ind_network *network, const struct ind_address *address);

#endif
