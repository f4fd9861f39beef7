/* collect/input/streams.h: the stream connections of a receiver: what they say, and how they end.
 *
 * They are read from only while half of the burst buffer is free: they can wait at the sender. Belongs to one
 * receiver's thread; connections come from the door, which lets them in (collect/input/door.h). */
#ifndef IND_COLLECT_INPUT_STREAMS_H
#define IND_COLLECT_INPUT_STREAMS_H

#include "collect/input/connection.h"
#include "collect/input/dispatch.h"
#include "collect/input/listener.h"
#include "net/socket_table.h"

struct event_base;

/* Milliseconds between two looks for messages that wait for another line. */
enum { IND_STREAMS_JOIN_LOOK = 150 };

/* Connections that are open; and those that were ended, by the reason. */
struct ind_stream_numbers {
    uint64_t connections;
    uint64_t bad_counts; /* no octet count where one must stand */
    uint64_t too_slow;   /* for want of room for half messages */
    uint64_t unfinished; /* a message that did not end in time */
    uint64_t idle;       /* nothing came for too long */
    uint64_t broken_off; /* TLS: the end was not the other side's own: somebody cut it off, or it broke */
};

/* The same, written by the receiver and read by any thread. */
struct ind_stream_facts {
    atomic_uint_fast64_t connections, bad_counts, too_slow, unfinished, idle, broken_off;
};

struct ind_streams {
    /* Set before the thread is started; borrowed. */
    struct ind_dispatch *dispatch;
    const struct ind_socket_table *sockets;
    struct ind_slabs *slabs;
    unsigned receivers; /* each has a slab in its hand also when nothing waits */
    struct ind_admission *admission;
    struct event_base *base;
    int priority;         /* of their events */
    struct event *joined; /* the receiver's timer: ind_streams_end_waits is to be called soon */
    struct event *retry;  /* the receiver's timer: ind_streams_retry is to be called soon */

    struct ind_limits limits; /* of the present rules */
    size_t halves_limit;      /* bytes of half messages that all connections together may hold */
    struct ind_connection *list;
    char *scratch;         /* what is read */
    struct ind_clocks now; /* of the last bytes */
    bool any;              /* the last reads brought something, or were put off */
    size_t read_bytes;     /* since the receiver last looked at its sockets */
    unsigned put_off;      /* reads, one after the other */
    struct ind_steady reported, halves_reported, break_reported, unfinished_reported, idle_reported;
    struct ind_stream_facts facts;
};

/* False where memory is out. */
bool ind_streams_begin(struct ind_streams *streams);
/* Closes what is still open. */
void ind_streams_end(struct ind_streams *streams);

/* A connection that was let in. */
void ind_streams_add(struct ind_streams *streams, struct ind_connection *connection);
/* The receiver looks at its sockets again. */
void ind_streams_begin_look(struct ind_streams *streams);
/* Reads once from a connection; it may be gone afterwards. Where messages that were read before still wait,
 * and the writer has room, they come first: then it is left for the next look. */
void ind_streams_read(struct ind_streams *streams, struct ind_connection *connection);
/* Reads again from those that were held for want of room. True where some must still wait. */
bool ind_streams_retry(struct ind_streams *streams);
/* Messages that have waited for another line long enough are whole. True where some still wait. */
bool ind_streams_end_waits(struct ind_streams *streams);
/* Ends those that have said nothing, or not finished a message, for too long. Once a second or so. */
void ind_streams_end_late(struct ind_streams *streams);
bool ind_streams_any_held(const struct ind_streams *streams);

/* Other listeners from now on: connections whose listener goes, or whose sender is not allowed any more, are
 * ended. */
void ind_streams_adopt(struct ind_streams *streams, const struct ind_listener_set *set);
/* We end all of them, room or not. */
void ind_streams_end_all(struct ind_streams *streams);

/* Any thread. */
struct ind_stream_numbers ind_streams_numbers(const struct ind_streams *streams);

/* "192.0.2.9" into `text`, which is returned. */
const char *ind_address_text(const struct ind_address *address, char text[IND_ADDRESS_WIDTH]);

#endif
