/* collect/queue/burst.h: the burst buffer: messages as they came from the sockets, packed one after the other
 * into slabs, until there is time for them.
 *
 * The slabs come from one pool that all intake threads share; its size is the bound of what can wait, and its
 * memory is given back after a burst. The queue of records belongs to one thread. */
#ifndef IND_COLLECT_QUEUE_BURST_H
#define IND_COLLECT_QUEUE_BURST_H

#include "core/base/address.h"
#include "core/time/steady.h"

enum { IND_SLAB_BYTES = 1 << 20 };

struct ind_slabs;

/* A pool of `bytes`, at least a slab for each of `users` and one more. NULL where memory is out. */
struct ind_slabs *ind_slabs_new(uint64_t bytes, unsigned users);
void ind_slabs_free(struct ind_slabs *slabs);
/* Gives the memory of slabs back that nobody has needed since the last call. Now and then, by one thread. */
void ind_slabs_trim(struct ind_slabs *slabs);
/* Slabs not in use, and how many there are. Any thread. */
size_t ind_slabs_left(struct ind_slabs *slabs);
size_t ind_slabs_count(const struct ind_slabs *slabs);

struct ind_record {
    uint32_t length; /* of the message */
    uint16_t listener;
    uint8_t transport;
    bool cut;
    ind_time received;
    struct ind_steady moment; /* when it was read from its socket */
    struct ind_address sender;
    uint8_t certificate; /* bytes of the name in its sender's certificate, which stand before the message */
    bool waits;          /* its sender is held back rather than that it is lost */
    bool refused;        /* it is no trap that is accepted: only to be counted */
};

_Static_assert(sizeof(struct ind_record) % 8 == 0, "records stand one behind the other");

/* What a record takes with its bytes, which follow it: the next begins at a multiple of eight. */
static inline size_t ind_record_size(const struct ind_record *record)
{
    return (sizeof *record + record->certificate + record->length + 7) & ~(size_t)7;
}

/* The name in its sender's certificate, of a record whose message is at `bytes`. */
static inline struct ind_slice ind_record_certificate(const struct ind_record *record, const char *bytes)
{
    return (struct ind_slice){bytes - record->certificate, record->certificate};
}

struct ind_burst;
struct ind_burst *ind_burst_new(struct ind_slabs *slabs);
void ind_burst_free(struct ind_burst *burst);

/* Room for a record's certificate and message to be filled in; NULL where the pool is used up. */
char *ind_burst_add(struct ind_burst *burst, const struct ind_record *record);

/* Whether records of `bytes` together, with what they take themselves, have room. */
bool ind_burst_has_room(const struct ind_burst *burst, size_t bytes);

/* Whether nothing waits, and a record of any size has room all the same. */
bool ind_burst_idle(struct ind_burst *burst);

/* The oldest record and its message; NULL where there is none. */
const struct ind_record *ind_burst_first(const struct ind_burst *burst, const char **bytes);
void ind_burst_drop(struct ind_burst *burst);

/* The record that was added behind `record`, for whoever looks ahead; NULL: none, or not near it. */
const struct ind_record *ind_burst_behind(const struct ind_burst *burst, const struct ind_record *record);

#endif
