/* collect/receiver.h: the inside of a receiver, for the files that make it up: receiver.c (the thread),
 * ports.c (datagrams and listeners), streams.c (connections), uptake.c (from messages to batches). */
#ifndef IND_COLLECT_RECEIVER_H
#define IND_COLLECT_RECEIVER_H

#include "collect/clock.h"
#include "collect/guests.h"
#include "collect/inside.h"

#include <event2/event.h>

enum {
    IND_SCRATCH = 256 << 10,
    IND_INTERNAL_MESSAGES = 1024,
    IND_TELL_AGAIN = 60, /* seconds */
    IND_PRIORITY_DATAGRAMS = 0,
    IND_PRIORITY_STREAMS = 1,
    IND_PRIORITIES = 2
};

struct ind_watched {
    struct ind_receiver *receiver;
    struct ind_port *port;
    struct event *event;
    unsigned index; /* of the socket in the port */
    uint64_t told_dropped;
    struct ind_steady told_at;
};

struct ind_receiver {
    struct ind_collector *collector;
    unsigned number;
    struct event_base *base;
    struct event *on_wake, *on_tick, *on_retry;
    int wake[2];
    struct ind_rules *rules;
    struct ind_intake *intake;
    struct ind_burst *burst;
    struct ind_batch *batch;
    struct ind_steady batch_began;
    struct ind_udp_batch *datagrams;
    char *scratch;
    struct ind_watched watched[IND_MOST_PORTS];
    size_t watched_count;
    bool paused;  /* no room for datagrams either */
    bool tallied; /* the record at the head of the burst buffer is in a tally already */
    bool any;     /* the last look at the sockets brought something */
    struct ind_connection *guests;
    struct ind_admission *door; /* the first receiver's; shared */
    unsigned next_receiver;
    struct ind_clocks now;    /* of the last bytes of a stream */
    struct ind_steady looked; /* when the sockets were last looked at; not set: it waited for them since */
    struct ind_steady told_guests, told_claim, told_descriptors, told_halves;
    struct ind_ledger_snapshot counts; /* received, lost_buffer, waiting */
    bool tapped;                       /* somebody follows */

    /* From other threads. */
    _Atomic(struct ind_marker *) sheet_order, rules_order;
    pthread_mutex_t mailbox;
    struct ind_connection *arriving;
    char *own[IND_INTERNAL_MESSAGES];
    size_t own_count, own_lost;

    atomic_uint_fast64_t longest_pause, connections, accepted, turned_away, not_allowed, bad_counts, too_slow;
};

/* ---- receiver.c ---- */

/* Looks again, in a moment, whether there is room. */
void ind_retry_soon(struct ind_receiver *receiver);

/* ---- uptake.c ---- */

void ind_pass_on(struct ind_receiver *receiver);
bool ind_have_batch(struct ind_receiver *receiver);

/* Without the burst buffer: where nothing waits there, and the writer has room. False where it must wait
 * after all; some of its lines may have gone on then, which `tallied` tells. */
bool ind_take_at_once(struct ind_receiver *receiver, const struct ind_record *record, const char *bytes);

/* Into the burst buffer. False where there is no room. */
bool ind_keep_record(struct ind_receiver *receiver, const struct ind_record *record, struct ind_slice first,
                     struct ind_slice rest);
/* Nowhere: it is received, and lost. */
void ind_lose_record(struct ind_receiver *receiver, uint16_t listener, size_t length);

/* Out of the burst buffer, a bounded number. */
void ind_take_slice(struct ind_receiver *receiver);
/* A batch goes on when the sockets have nothing more, or when it has filled slowly for some time. */
void ind_pass_on_in_time(struct ind_receiver *receiver);

/* ---- ports.c ---- */

/* How many of the largest datagrams there is room for. */
int ind_datagram_room(const struct ind_receiver *receiver);
/* Looks after the ports of these rules, and no others. */
void ind_watch_ports(struct ind_receiver *receiver, const struct ind_rules *rules);
/* What the kernel dropped: told at once, then once a minute while it goes on, and at the end. */
void ind_look_for_drops(struct ind_receiver *receiver, struct ind_watched *watched, bool last);

/* ---- streams.c ---- */

void ind_on_connection(evutil_socket_t socket, short what, void *watched);
void ind_welcome(struct ind_receiver *receiver, struct ind_connection *guest);
/* We end it, room or not. */
void ind_see_off_now(struct ind_receiver *receiver, struct ind_connection *guest);
/* Reads again from those who were held. True where some must still wait. */
bool ind_streams_retry(struct ind_receiver *receiver);
bool ind_any_held(const struct ind_receiver *receiver);

#endif
