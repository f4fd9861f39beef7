/* collect/input/receiver_private.h: what a receiver is made of, for the files that are one.
 *
 * receiver.c is the thread, its orders and its parts; watch.c the sockets it reads. */
#ifndef IND_COLLECT_INPUT_RECEIVER_PRIVATE_H
#define IND_COLLECT_INPUT_RECEIVER_PRIVATE_H

#include "collect/input/receiver.h"
#include "net/waker.h"
#include "thread/mutex.h"
#include <event2/event.h>

/* Datagrams come before streams: they do not wait at their sender. */
enum { IND_PRIORITY_DATAGRAMS = 0, IND_PRIORITY_STREAMS = 1, IND_PRIORITIES = 2 };

/* A socket of a listener that this receiver reads. */
struct ind_watch {
    struct ind_receiver *receiver;
    struct ind_listener *listener;
    struct event *event;
    unsigned index; /* of the socket */
    const struct ind_trap_rules
        *traps; /* who may send them, by the present rules; NULL: it is not for such */
    uint64_t reported_dropped;
    struct ind_steady reported;
};

struct ind_receiver {
    struct ind_receivers *all;
    unsigned number;
    const struct ind_receiver_rules *rules; /* the present ones */

    struct ind_dispatch dispatch;
    struct ind_datagrams datagrams;
    struct ind_streams streams;

    struct ind_socket_table sockets;
    struct ind_watch watches[IND_MOST_LISTENERS_OPEN];
    size_t watch_count;
    bool no_room; /* for datagrams: their sockets are not looked at until on_room */

    struct event_base *base;
    struct event *on_wake, *on_tick, *on_room, *on_joined;
    struct ind_waker waker;
    uint64_t told_lost; /* messages whose loss has been told */
    struct ind_steady lost_told;
    struct ind_steady looked; /* when the sockets were last looked at; not set: it waited for them since */
    atomic_uint_fast64_t longest_pause, received; /* written by itself, read by control */
    struct ind_pulse pulse;

    /* Orders: set by control, taken by itself. */
    _Atomic(struct ind_marker *) snapshot_order;
    _Atomic(struct ind_receiver_rules *) rules_order;

    struct ind_mutex mutex;
    struct ind_connection *arriving IND_GUARDED_BY(mutex); /* handed over by the door */
};

/* Watches the listeners of `set` to which datagrams come from now on. Those that are not in it are left: what
 * stands in their sockets is read, and this receiver's ones are closed. */
void ind_watch_listeners(struct ind_receiver *receiver, const struct ind_listener_set *set);
void ind_watches_free(struct ind_receiver *receiver);
/* What the kernel dropped, of all sockets: counted, and reported at most once a minute; `last`: in any case.
 */
void ind_watch_drops(struct ind_receiver *receiver, bool last);

/* Timers of the receiver's event loop, one shot each; `context` is the receiver. */
void ind_watch_on_room(evutil_socket_t socket, short what, void *context);
void ind_watch_on_joined(evutil_socket_t socket, short what, void *context);

#endif
