/* core/trap/ber.h: reading and writing the basic encoding rules (BER) as far as SNMP uses them (RFC 3417
 * section 8): definite lengths, tags of one byte.
 *
 * Reading is a cursor over borrowed bytes: nothing is copied or allocated, no length is believed that goes
 * past the end, and each step goes forward by two bytes at least. Writing goes backwards, from the end of a
 * buffer to its front, so that a length is known when it is written. */
#ifndef IND_CORE_TRAP_BER_H
#define IND_CORE_TRAP_BER_H

#include "core/base/slice.h"

#include <stdint.h>

/* Tags (RFC 3416 section 3, RFC 2578 section 7.1). */
enum {
    IND_BER_INTEGER = 0x02,
    IND_BER_OCTETS = 0x04,
    IND_BER_NULL = 0x05,
    IND_BER_OID = 0x06,
    IND_BER_SEQUENCE = 0x30,
    IND_BER_ADDRESS = 0x40, /* IpAddress */
    IND_BER_COUNTER = 0x41,
    IND_BER_GAUGE = 0x42,
    IND_BER_TICKS = 0x43, /* TimeTicks: hundredths of a second */
    IND_BER_OPAQUE = 0x44,
    IND_BER_COUNTER64 = 0x46,
    IND_BER_NO_OBJECT = 0x80, /* exceptions in place of a value */
    IND_BER_NO_INSTANCE = 0x81,
    IND_BER_END_OF_VIEW = 0x82
};

/* Begins as {bytes, false}. Once `bad`, nothing more is read. */
struct ind_ber {
    struct ind_slice rest;
    bool bad; /* what came next was not encoded so, or went past the end */
};

struct ind_ber_item {
    uint8_t tag;
    struct ind_slice value; /* its contents */
};

/* An item of 128 bytes or more, or one that is bad. */
bool ind_ber_next_long(struct ind_ber *ber, struct ind_ber_item *item);

/* The next item of any tag. False at the end, and where it is bad. */
static IND_INLINE bool ind_ber_next(struct ind_ber *ber, struct ind_ber_item *item)
{
    const unsigned char *at = (const unsigned char *)ber->rest.at;
    const size_t room = ber->rest.length;
    if (ber->bad || room < 2 || at[1] >= 0x80 || at[1] > room - 2 || (at[0] & 0x1f) == 0x1f)
        return ind_ber_next_long(ber, item);
    const size_t whole = 2u + at[1];
    item->tag = at[0];
    item->value = (struct ind_slice){ber->rest.at + 2, at[1]};
    ber->rest = ind_slice_from(ber->rest, whole);
    return true;
}

/* The contents of the next item, which is to be of that tag; empty, and `bad`, where it is not. */
struct ind_slice ind_ber_take(struct ind_ber *ber, uint8_t tag);
/* A whole number of at most 8 bytes, and one without a sign, which may have a ninth that is 0. 0, and `bad`,
 * where it is none. */
int64_t ind_ber_take_integer(struct ind_ber *ber);
uint64_t ind_ber_take_count(struct ind_ber *ber, uint8_t tag);

/* The same of contents alone. */
bool ind_ber_integer(struct ind_slice value, int64_t *number);
bool ind_ber_count(struct ind_slice value, uint64_t *number);

/* ---- Object identifiers, as the contents of their items: what is a beginning byte by byte is one of the
 * identifier, too ---- */

/* X.690 section 8.19; no more parts than RFC 2578 section 3.5 allows, each below 2^32. */
enum { IND_OID_PARTS = 128, IND_OID_BYTES = 5 * IND_OID_PARTS };

/* Whether it is one. */
bool ind_oid_is_good(struct ind_slice oid);
/* "1.3.6.1.4.1"; of one that is none as far as it goes. `parts`: from the middle of one, without the first
 * byte's double meaning. */
void ind_oid_write(struct ind_buffer *buffer, struct ind_slice oid);
void ind_oid_write_parts(struct ind_buffer *buffer, struct ind_slice parts);
/* From digits with points between them. False where that is none, or there is no room. */
bool ind_oid_read(struct ind_slice text, struct ind_buffer *oid);
/* Adds one part. */
void ind_oid_add(struct ind_buffer *oid, uint32_t part);

/* ---- Writing, backwards ---- */

/* Begins as {room, size, size, false}: what is written is from `at` on. */
struct ind_ber_out {
    char *room;
    size_t size, at;
    bool full;
};

static inline struct ind_slice ind_ber_written(const struct ind_ber_out *out)
{
    return out->full ? IND_NOTHING : (struct ind_slice){out->room + out->at, out->size - out->at};
}

/* Bytes as they are. */
void ind_ber_put(struct ind_ber_out *out, struct ind_slice bytes);
/* Makes all that was written since `out->at` was `end` the contents of an item. */
void ind_ber_wrap(struct ind_ber_out *out, uint8_t tag, size_t end);
void ind_ber_put_item(struct ind_ber_out *out, uint8_t tag, struct ind_slice value);
void ind_ber_put_integer(struct ind_ber_out *out, int64_t number);
/* Without a sign, of that tag. */
void ind_ber_put_count(struct ind_ber_out *out, uint8_t tag, uint64_t number);

#endif
