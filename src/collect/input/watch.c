/* The sockets of datagrams that a receiver reads. Where there is no room for them it looks away, and a timer
 * has it look again. */
#include "collect/input/receiver_private.h"

#include "core/message/names.h"
#include <unistd.h>

enum {
    ROOM_MILLISECONDS = 10, /* between two looks for room */
    REPORT_AGAIN = 60       /* seconds */
};

static void call_soon(struct event *timer, int milliseconds)
{
    const struct timeval soon = {milliseconds / 1000, milliseconds % 1000 * 1000};
    (void)event_add(timer, &soon);
}

static int socket_of(const struct ind_watch *watch)
{
    return watch->listener->sockets[watch->index];
}

static void set_watching(struct ind_receiver *receiver, bool on)
{
    for (size_t i = 0; i < receiver->watch_count; i++)
        if (on)
            (void)event_add(receiver->watches[i].event, NULL);
        else
            (void)event_del(receiver->watches[i].event);
}

static void on_readable(evutil_socket_t socket, short what, void *context)
{
    struct ind_watch *watch = context;
    struct ind_receiver *receiver = watch->receiver;
    (void)socket;
    (void)what;
    if (ind_datagrams_read(&receiver->datagrams, watch->listener, watch->traps, socket_of(watch)) !=
        IND_DATAGRAMS_NO_ROOM)
        return;
    receiver->no_room = true;
    set_watching(receiver, false);
    call_soon(receiver->on_room, ROOM_MILLISECONDS);
}

void ind_watch_on_room(evutil_socket_t socket, short what, void *context)
{
    struct ind_receiver *receiver = context;
    (void)socket;
    (void)what;
    if (receiver->no_room && ind_datagrams_room(&receiver->datagrams) > 0) {
        receiver->no_room = false;
        set_watching(receiver, true);
    }
    bool streams_wait = ind_streams_retry(&receiver->streams);
    if (receiver->no_room || streams_wait)
        call_soon(receiver->on_room, ROOM_MILLISECONDS);
}

void ind_watch_on_joined(evutil_socket_t socket, short what, void *context)
{
    struct ind_receiver *receiver = context;
    (void)socket;
    (void)what;
    if (ind_streams_end_waits(&receiver->streams))
        call_soon(receiver->on_joined, IND_STREAMS_JOIN_LOOK);
}

/* What the kernel dropped: reported at once, then once a minute while it goes on, and at the end. */
static void look_for_drops(struct ind_watch *watch, bool last)
{
    struct ind_receiver *receiver = watch->receiver;
    struct ind_listener *listener = watch->listener;
    const struct ind_steady now = ind_clock_read(receiver->all->clock).steady;
    if (listener->transport != IND_TRANSPORT_UDP && listener->transport != IND_TRANSPORT_TRAP)
        return;
    uint64_t dropped = receiver->sockets.dropped(receiver->sockets.context, socket_of(watch));
    atomic_store(&listener->kernel_dropped[watch->index], dropped);
    if (dropped == watch->reported_dropped ||
        (!last && ind_steady_lately(watch->reported, now, REPORT_AGAIN * IND_SECOND)))
        return;
    ind_report(receiver->all->reporter, IND_OWN_KERNEL_DROPPED,
               IND_WITH({"listener", ind_slice_of(listener->text)}),
               "%s: the kernel has dropped %llu datagrams since the start, because they came faster "
               "than they were read; a larger net.core.rmem_max gives room for bursts",
               listener->text, (unsigned long long)dropped);
    watch->reported_dropped = dropped;
    watch->reported = now;
}

static void watch_listener(struct ind_receiver *receiver, struct ind_listener *listener,
                           const struct ind_trap_rules *traps)
{
    unsigned only = listener->number % receiver->all->count;
    if (ind_listener_connects(listener) || (!listener->shared && only != receiver->number) ||
        receiver->watch_count == IND_MOST_LISTENERS_OPEN)
        return;
    struct ind_watch *watch = &receiver->watches[receiver->watch_count];
    *watch = (struct ind_watch){.receiver = receiver,
                                .listener = listener,
                                .index = listener->shared ? receiver->number : 0,
                                .traps = traps,
                                .reported = IND_STEADY_NEVER};
    watch->event = event_new(receiver->base, socket_of(watch), EV_READ | EV_PERSIST, on_readable, watch);
    if (watch->event && event_priority_set(watch->event, IND_PRIORITY_DATAGRAMS) == 0 &&
        event_add(watch->event, NULL) == 0)
        receiver->watch_count++;
    else
        ind_report(receiver->all->reporter, IND_OWN_OUT_OF_MEMORY,
                   IND_WITH({"listener", ind_slice_of(listener->text)}),
                   "out of memory: %s is not listened on", listener->text);
}

void ind_watches_free(struct ind_receiver *receiver)
{
    for (size_t i = 0; i < receiver->watch_count; i++)
        event_free(receiver->watches[i].event);
    receiver->watch_count = 0;
}

/* What stands in a socket is read before it goes; and it is closed at once: as long as it is open the kernel
 * can choose it for what is meant for its successor. */
static void leave_listeners(struct ind_receiver *receiver, const struct ind_listener_set *set)
{
    for (size_t i = 0; i < receiver->watch_count; i++) {
        struct ind_watch *watch = &receiver->watches[i];
        if (ind_listener_set_has(set, watch->listener))
            continue;
        (void)ind_datagrams_read(&receiver->datagrams, watch->listener, watch->traps, socket_of(watch));
        look_for_drops(watch, true);
    }
    for (size_t i = 0; i < receiver->watch_count; i++) {
        struct ind_watch *watch = &receiver->watches[i];
        if (ind_listener_set_has(set, watch->listener))
            continue;
        (void)event_del(watch->event);
        ind_listener_close_socket(watch->listener, watch->index);
    }
}

/* Events know their watch by its place: all are made anew. */
void ind_watch_listeners(struct ind_receiver *receiver, const struct ind_listener_set *set)
{
    leave_listeners(receiver, set);
    ind_watches_free(receiver);
    receiver->no_room = false;
    for (size_t i = 0; i < set->count; i++)
        watch_listener(receiver, set->list[i], set->traps[i]);
    receiver->datagrams.limit = (size_t)set->config->limits.message;
    ind_streams_adopt(&receiver->streams, set);
}

void ind_watch_drops(struct ind_receiver *receiver, bool last)
{
    for (size_t i = 0; i < receiver->watch_count; i++)
        look_for_drops(&receiver->watches[i], last);
}
