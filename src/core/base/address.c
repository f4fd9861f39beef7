#include "core/base/address.h"

#include <arpa/inet.h> /* inet_pton, inet_ntop: conversions of text, no I/O */

struct ind_address ind_address_v4(const uint8_t bytes[4])
{
    struct ind_address address = {32, {0}};
    memcpy(address.bytes, bytes, 4);
    return address;
}

struct ind_address ind_address_v6(const uint8_t bytes[16])
{
    static const uint8_t mapped[12] = {0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0xff, 0xff};
    if (memcmp(bytes, mapped, sizeof mapped) == 0)
        return ind_address_v4(bytes + sizeof mapped);
    struct ind_address address = {128, {0}};
    memcpy(address.bytes, bytes, 16);
    return address;
}

/* Four decimal numbers (RFC 3986 section 3.2.2, IPv4address): no zeros in front. */
static bool read_v4(struct ind_slice text, uint8_t bytes[4])
{
    const char *at = text.at, *end = text.at + text.length;
    for (int i = 0; i < 4; i++) {
        const char *first = at;
        unsigned value = 0;
        for (; at < end && at - first < 4 && ind_is_digit(*at); at++)
            value = value * 10 + (unsigned)(*at - '0');
        if (at == first || value > 255 || (*first == '0' && at - first > 1))
            return false;
        bytes[i] = (uint8_t)value;
        if (i == 3)
            return at == end;
        if (at == end || *at++ != '.')
            return false;
    }
    return false;
}

static bool read_v6(struct ind_slice text, uint8_t bytes[16])
{
    char terminated[IND_ADDRESS_WIDTH];
    memcpy(terminated, text.at, text.length);
    terminated[text.length] = '\0';
    return strlen(terminated) == text.length && inet_pton(AF_INET6, terminated, bytes) == 1;
}

bool ind_address_read(struct ind_slice text, struct ind_address *address)
{
    uint8_t bytes[16];
    if (text.length == 0 || text.length >= IND_ADDRESS_WIDTH)
        return false;
    if (read_v4(text, bytes)) {
        *address = ind_address_v4(bytes);
        return true;
    }
    if (!memchr(text.at, ':', text.length) || !read_v6(text, bytes))
        return false;
    *address = ind_address_v6(bytes);
    return true;
}

void ind_address_write(struct ind_buffer *buffer, const struct ind_address *address)
{
    char text[IND_ADDRESS_WIDTH];
    if (address->bits &&
        inet_ntop(address->bits == 32 ? AF_INET : AF_INET6, address->bytes, text, sizeof text))
        ind_buffer_text(buffer, text);
}

void ind_network_write(struct ind_buffer *buffer, const struct ind_network *network)
{
    ind_address_write(buffer, &network->address);
    if (network->prefix < network->address.bits) {
        ind_buffer_byte(buffer, '/');
        ind_buffer_number(buffer, network->prefix);
    }
}

struct ind_slice ind_host_of(struct ind_slice place)
{
    const char *end = NULL;
    if (place.length && place.at[0] == '[') {
        place = ind_slice_from(place, 1);
        end = memchr(place.at, ']', place.length);
    } else if (place.length) {
        end = memchr(place.at, ':', place.length);
    }
    return end ? (struct ind_slice){place.at, (size_t)(end - place.at)} : place;
}

bool ind_host_is_loopback(struct ind_slice host)
{
    static const uint8_t one[16] = {[15] = 1};
    struct ind_address address;
    if (ind_slice_equal_nocase(host, IND_SLICE("localhost")))
        return true;
    if (!ind_address_read(host, &address))
        return false;
    return address.bits == 32 ? address.bytes[0] == 127 : memcmp(address.bytes, one, sizeof one) == 0;
}

bool ind_address_equal(const struct ind_address *a, const struct ind_address *b)
{
    return a->bits == b->bits && memcmp(a->bytes, b->bytes, sizeof a->bytes) == 0;
}

static bool same_prefix(const uint8_t *a, const uint8_t *b, unsigned bits)
{
    unsigned whole = bits / 8, rest = bits % 8;
    if (memcmp(a, b, whole) != 0)
        return false;
    return rest == 0 || ((a[whole] ^ b[whole]) >> (8 - rest)) == 0;
}

static bool read_prefix(struct ind_slice text, unsigned limit, uint8_t *prefix)
{
    unsigned value = 0;
    if (text.length == 0 || text.length > 3)
        return false;
    for (size_t i = 0; i < text.length; i++) {
        if (!ind_is_digit(text.at[i]))
            return false;
        value = value * 10 + (unsigned)(text.at[i] - '0');
    }
    *prefix = (uint8_t)value;
    return value <= limit;
}

enum ind_network_mistake ind_network_read(struct ind_slice text, struct ind_network *network)
{
    const char *slash = text.length ? memchr(text.at, '/', text.length) : NULL;
    struct ind_slice address = {text.at, slash ? (size_t)(slash - text.at) : text.length};
    if (!ind_address_read(address, &network->address))
        return IND_NETWORK_ADDRESS;
    network->prefix = network->address.bits;
    if (slash &&
        !read_prefix(ind_slice_from(text, address.length + 1), network->address.bits, &network->prefix))
        return IND_NETWORK_PREFIX;
    struct ind_network whole = *network;
    for (unsigned bit = network->prefix; bit < 128; bit++)
        network->address.bytes[bit / 8] &= (uint8_t) ~(0x80u >> (bit % 8));
    return memcmp(whole.address.bytes, network->address.bytes, 16) == 0 ? IND_NETWORK_OK
                                                                        : IND_NETWORK_HOST_BITS;
}

/* The first address behind the network; false where there is none. */
static bool step_past(const struct ind_network *network, struct ind_address *address)
{
    *address = network->address;
    for (unsigned bit = network->prefix; bit > 0; bit--) {
        uint8_t *byte = &address->bytes[(bit - 1) / 8], mask = (uint8_t)(0x80u >> ((bit - 1) % 8));
        *byte ^= mask;
        if (*byte & mask)
            return true; /* no carry any more */
    }
    return false;
}

static bool reaches_past(const struct ind_network *network, const struct ind_address *to)
{
    struct ind_address last = network->address;
    for (unsigned bit = network->prefix; bit < last.bits; bit++)
        last.bytes[bit / 8] |= (uint8_t)(0x80u >> (bit % 8));
    return memcmp(last.bytes, to->bytes, sizeof last.bytes) > 0;
}

bool ind_range_next(struct ind_address *from, const struct ind_address *to, struct ind_network *network)
{
    if (from->bits == 0 || memcmp(from->bytes, to->bytes, sizeof from->bytes) > 0)
        return false;
    *network = (struct ind_network){*from, from->bits};
    while (network->prefix > 0) {
        unsigned bit = network->prefix - 1u;
        struct ind_network wider = {*from, (uint8_t)bit};
        if ((from->bytes[bit / 8] & (0x80u >> (bit % 8))) || reaches_past(&wider, to))
            break;
        *network = wider;
    }
    if (!step_past(network, from))
        from->bits = 0;
    return true;
}

bool ind_network_holds(const struct ind_network *network, const struct ind_address *address)
{
    return network->address.bits == address->bits &&
           same_prefix(network->address.bytes, address->bytes, network->prefix);
}
