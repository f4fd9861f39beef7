#include "collect/input/receiver.h"

#include "core/message/names.h"
#include "net/waker.h"
#include "thread/mutex.h"
#include <event2/event.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

enum {
    DRAIN_SECONDS = 2,
    ROOM_MILLISECONDS = 10,        /* between two looks for room */
    DESCRIPTOR_MILLISECONDS = 100, /* between two looks for descriptors */
    PRIORITY_DATAGRAMS = 0,
    PRIORITY_STREAMS = 1,
    PRIORITIES = 2,
    REPORT_AGAIN = 60
};

/* A socket of a listener that this receiver reads. */
struct watch {
    struct ind_receiver *receiver;
    struct ind_listener *listener;
    struct event *event;
    unsigned index; /* of the socket */
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
    struct ind_acceptor acceptor; /* of the first receiver */

    struct ind_socket_table sockets;
    struct watch watches[IND_MOST_LISTENERS_OPEN];
    size_t watch_count;
    bool no_room;       /* for datagrams: their sockets are not looked at until on_room */
    bool no_descriptor; /* for connections: likewise, until on_descriptor */

    struct event_base *base;
    struct event *on_wake, *on_tick, *on_room, *on_descriptor;
    struct ind_waker waker;
    struct ind_steady looked; /* when the sockets were last looked at; not set: it waited for them since */
    atomic_uint_fast64_t longest_pause; /* written by itself, read by control */

    /* Orders: set by control, taken by itself. */
    _Atomic(struct ind_marker *) snapshot_order;
    _Atomic(struct ind_receiver_rules *) rules_order;

    struct ind_mutex mutex;
    struct ind_connection *arriving IND_GUARDED_BY(mutex); /* handed over by the first receiver */
};

/* ---- Sockets ----
 *
 * What a kind of listener is to a receiver: a new transport is a row here, and one in listener_open.c. */

static void read_datagrams(struct watch *watch);
static void let_in(struct watch *watch);

static const struct source {
    void (*readable)(struct watch *watch);
    int priority;
    bool connects; /* the first receiver lets connections in, and hands them out */
} sources[] = {[IND_LISTEN_UDP] = {read_datagrams, PRIORITY_DATAGRAMS, false},
               [IND_LISTEN_TCP] = {let_in, PRIORITY_STREAMS, true},
               [IND_LISTEN_UNIX] = {read_datagrams, PRIORITY_DATAGRAMS, false}};

static void call_soon(struct event *timer, int milliseconds)
{
    const struct timeval soon = {milliseconds / 1000, milliseconds % 1000 * 1000};
    (void)event_add(timer, &soon);
}

static int socket_of(const struct watch *watch)
{
    return watch->listener->sockets[watch->index];
}

/* Takes watches of one kind out of the loop, or puts them back. */
static void set_watching(struct ind_receiver *receiver, bool connects, bool on)
{
    for (size_t i = 0; i < receiver->watch_count; i++) {
        struct watch *watch = &receiver->watches[i];
        if (sources[watch->listener->kind].connects != connects)
            continue;
        if (on)
            (void)event_add(watch->event, NULL);
        else
            (void)event_del(watch->event);
    }
}

static void read_datagrams(struct watch *watch)
{
    struct ind_receiver *receiver = watch->receiver;
    if (ind_datagrams_read(&receiver->datagrams, watch->listener, socket_of(watch)) != IND_DATAGRAMS_NO_ROOM)
        return;
    receiver->no_room = true;
    set_watching(receiver, false, false);
    call_soon(receiver->on_room, ROOM_MILLISECONDS);
}

static void let_in(struct watch *watch)
{
    struct ind_receiver *receiver = watch->receiver;
    if (ind_accept(&receiver->acceptor, watch->listener, socket_of(watch)) != IND_ACCEPT_NO_DESCRIPTOR)
        return;
    receiver->no_descriptor = true;
    set_watching(receiver, true, false);
    call_soon(receiver->on_descriptor, DESCRIPTOR_MILLISECONDS);
}

static void on_readable(evutil_socket_t socket, short what, void *context)
{
    struct watch *watch = context;
    (void)socket;
    (void)what;
    sources[watch->listener->kind].readable(watch);
}

static void on_room(evutil_socket_t socket, short what, void *context)
{
    struct ind_receiver *receiver = context;
    (void)socket;
    (void)what;
    if (receiver->no_room && ind_datagrams_room(&receiver->datagrams) > 0) {
        receiver->no_room = false;
        set_watching(receiver, false, true);
    }
    bool streams_wait = ind_streams_retry(&receiver->streams);
    if (receiver->no_room || streams_wait)
        call_soon(receiver->on_room, ROOM_MILLISECONDS);
}

static void on_descriptor(evutil_socket_t socket, short what, void *context)
{
    struct ind_receiver *receiver = context;
    (void)socket;
    (void)what;
    if (!receiver->no_descriptor)
        return;
    receiver->no_descriptor = false;
    set_watching(receiver, true, true);
}

/* What the kernel dropped: reported at once, then once a minute while it goes on, and at the end. */
static void look_for_drops(struct watch *watch, bool last)
{
    struct ind_receiver *receiver = watch->receiver;
    struct ind_listener *listener = watch->listener;
    const struct ind_steady now = ind_clock_read(receiver->all->clock).steady;
    if (listener->kind != IND_LISTEN_UDP)
        return;
    uint64_t dropped = receiver->sockets.dropped(receiver->sockets.context, socket_of(watch));
    atomic_store(&listener->kernel_dropped[watch->index], dropped);
    if (dropped == watch->reported_dropped ||
        (!last && ind_steady_lately(watch->reported, now, REPORT_AGAIN * IND_SECOND)))
        return;
    ind_report(receiver->all->reporter, IND_SEVERITY_WARNING,
               "%s: the kernel has dropped %llu datagrams since the start, because they came faster "
               "than they were read; a larger net.core.rmem_max gives room for bursts",
               listener->text, (unsigned long long)dropped);
    watch->reported_dropped = dropped;
    watch->reported = now;
}

static void watch_listener(struct ind_receiver *receiver, struct ind_listener *listener)
{
    const struct source *source = &sources[listener->kind];
    unsigned only = source->connects ? 0 : listener->number % receiver->all->count;
    if ((!listener->shared && only != receiver->number) || receiver->watch_count == IND_MOST_LISTENERS_OPEN)
        return;
    struct watch *watch = &receiver->watches[receiver->watch_count];
    *watch = (struct watch){receiver, listener,        NULL, listener->shared ? receiver->number : 0,
                            0,        IND_STEADY_NEVER};
    watch->event = event_new(receiver->base, socket_of(watch), EV_READ | EV_PERSIST, on_readable, watch);
    if (watch->event && event_priority_set(watch->event, source->priority) == 0 &&
        event_add(watch->event, NULL) == 0)
        receiver->watch_count++;
    else
        ind_report(receiver->all->reporter, IND_SEVERITY_CRITICAL, "out of memory: %s is not listened on",
                   listener->text);
}

static void free_watches(struct ind_receiver *receiver)
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
        struct watch *watch = &receiver->watches[i];
        if (ind_listener_set_has(set, watch->listener))
            continue;
        if (!sources[watch->listener->kind].connects)
            (void)ind_datagrams_read(&receiver->datagrams, watch->listener, socket_of(watch));
        look_for_drops(watch, true);
    }
    for (size_t i = 0; i < receiver->watch_count; i++) {
        struct watch *watch = &receiver->watches[i];
        if (ind_listener_set_has(set, watch->listener))
            continue;
        (void)event_del(watch->event);
        close(socket_of(watch));
        watch->listener->sockets[watch->index] = -1;
    }
}

/* Events know their watch by its place: all are made anew. */
static void watch_listeners(struct ind_receiver *receiver, const struct ind_listener_set *set)
{
    leave_listeners(receiver, set);
    free_watches(receiver);
    receiver->no_room = receiver->no_descriptor = false;
    for (size_t i = 0; i < set->count; i++)
        watch_listener(receiver, set->list[i]);
    ind_streams_adopt(&receiver->streams, set);
}

/* ---- Connections that are handed over ---- */

static void hand_over(void *context, unsigned number, struct ind_connection *connection)
{
    struct ind_receiver *first = context, *receiver = first->all->list[number];
    if (receiver == first) {
        ind_streams_add(&receiver->streams, connection);
        return;
    }
    ind_mutex_lock(&receiver->mutex);
    connection->next = receiver->arriving;
    receiver->arriving = connection;
    ind_mutex_unlock(&receiver->mutex);
    ind_waker_wake(&receiver->waker);
}

static void welcome_arriving(struct ind_receiver *receiver)
{
    ind_mutex_lock(&receiver->mutex);
    struct ind_connection *connection = receiver->arriving;
    receiver->arriving = NULL;
    ind_mutex_unlock(&receiver->mutex);
    while (connection) {
        struct ind_connection *next = connection->next;
        ind_streams_add(&receiver->streams, connection);
        connection = next;
    }
}

/* ---- Internal messages: the first receiver files them ---- */

static void file_internal_messages(struct ind_receiver *receiver)
{
    char *messages[IND_INTERNAL_MESSAGES];
    size_t lost = 0;
    if (receiver->number != 0)
        return;
    size_t count = ind_reporter_take(receiver->all->reporter, messages, &lost);
    for (; lost > 0; lost--)
        ind_dispatch_lose(&receiver->dispatch, IND_NAME_INTERNAL, 0);
    for (size_t i = 0; i < count; i++) {
        const struct ind_clocks now = ind_clock_read(receiver->all->clock);
        struct ind_record record = {.length = (uint32_t)strlen(messages[i]),
                                    .listener = IND_NAME_INTERNAL,
                                    .transport = IND_TRANSPORT_INTERNAL,
                                    .received = now.wall,
                                    .moment = now.steady};
        struct ind_slice text = {messages[i], record.length};
        if (!ind_dispatch_keep(&receiver->dispatch, &record, text, IND_NOTHING))
            ind_dispatch_lose(&receiver->dispatch, IND_NAME_INTERNAL, record.length);
        free(messages[i]);
    }
}

/* ---- Orders ---- */

/* A connection that was handed over knows a listener of the rules under which it was let in. So the first
 * receiver turns to new rules first, and the others welcome what it had handed them before they turn: nothing
 * then knows a listener that goes. At the end, when nobody waits for anybody, listeners stay open. */
static bool may_adopt(const struct ind_receiver *receiver, const struct ind_receiver_rules *rules)
{
    struct ind_receivers *all = receiver->all;
    return receiver->number == 0 || atomic_load(&all->admitting) == rules->listeners ||
           ind_is_stopping(all->lifecycle);
}

static void let_others_adopt(struct ind_receiver *receiver, const struct ind_listener_set *set)
{
    receiver->acceptor.config = set->config;
    atomic_store(&receiver->all->admitting, set);
    ind_receivers_wake(receiver->all);
}

static void adopt(struct ind_receiver *receiver, struct ind_receiver_rules *rules)
{
    welcome_arriving(receiver);
    ind_dispatch_adopt(&receiver->dispatch, rules->intake, &rules->marker);
    receiver->rules = rules;
    watch_listeners(receiver, rules->listeners);
    if (receiver->number == 0)
        let_others_adopt(receiver, rules->listeners);
    if (atomic_fetch_sub(&receiver->all->behind, 1) == 1)
        ind_waker_wake(receiver->all->control);
}

/* Between two messages only; new rules also not within one that waits for room. */
static void carry_out_orders(struct ind_receiver *receiver)
{
    struct ind_marker *marker = atomic_exchange(&receiver->snapshot_order, NULL);
    if (marker)
        ind_dispatch_snapshot(&receiver->dispatch, ind_intake_account_count(receiver->dispatch.intake),
                              marker);
    struct ind_receiver_rules *rules = atomic_load(&receiver->rules_order);
    if (!rules || !ind_dispatch_may_adopt(&receiver->dispatch) || !may_adopt(receiver, rules))
        return;
    atomic_store(&receiver->rules_order, NULL);
    adopt(receiver, rules);
}

void ind_receiver_order_snapshot(struct ind_receiver *receiver, struct ind_marker *marker)
{
    atomic_store(&receiver->snapshot_order, marker);
    ind_waker_wake(&receiver->waker);
}

void ind_receiver_order_rules(struct ind_receiver *receiver, struct ind_receiver_rules *rules)
{
    atomic_store(&receiver->rules_order, rules);
    ind_waker_wake(&receiver->waker);
}

void ind_receiver_wake(const struct ind_receiver *receiver)
{
    ind_waker_wake(&receiver->waker);
}

void ind_receivers_wake(const struct ind_receivers *receivers)
{
    for (unsigned i = 0; i < receivers->count; i++)
        if (receivers->list[i])
            ind_waker_wake(&receivers->list[i]->waker);
}

/* ---- The thread ---- */

static void on_wake(evutil_socket_t socket, short what, void *context)
{
    const struct ind_receiver *receiver = context;
    (void)socket;
    (void)what;
    ind_waker_drain(&receiver->waker);
}

static void on_tick(evutil_socket_t socket, short what, void *context)
{
    struct ind_receiver *receiver = context;
    (void)socket;
    (void)what;
    for (size_t i = 0; i < receiver->watch_count; i++)
        look_for_drops(&receiver->watches[i], false);
    if (receiver->number == 0)
        ind_slabs_trim(receiver->all->slabs);
}

/* The time between two looks at the sockets, but for the time spent waiting for them. */
static void note_pause(struct ind_receiver *receiver, struct ind_steady until)
{
    uint64_t pause =
        ind_steady_is_set(receiver->looked) ? (uint64_t)ind_steady_from(receiver->looked, until) : 0;
    if (pause > atomic_load_explicit(&receiver->longest_pause, memory_order_relaxed))
        atomic_store_explicit(&receiver->longest_pause, pause, memory_order_relaxed);
}

static bool brought_something(const struct ind_receiver *receiver)
{
    return receiver->datagrams.any || receiver->streams.any;
}

static void look_and_work(struct ind_receiver *receiver)
{
    struct ind_dispatch *dispatch = &receiver->dispatch;
    const struct ind_clock *clock = receiver->all->clock;
    bool work = ind_dispatch_waiting(dispatch) && ind_dispatch_have_batch(dispatch, 0);
    bool unsent = dispatch->batch && !ind_batch_is_empty(dispatch->batch);
    bool ending = ind_is_stopping(receiver->all->lifecycle);
    note_pause(receiver, ind_clock_read(clock).steady);
    receiver->datagrams.any = receiver->streams.any = false;
    dispatch->tapped = ind_tap_is_open(receiver->all->tap);
    (void)event_base_loop(receiver->base, work || unsent || ending ? EVLOOP_NONBLOCK : EVLOOP_ONCE);
    receiver->looked = ind_clock_read(clock).steady;
    welcome_arriving(receiver);
    file_internal_messages(receiver);
    ind_dispatch_slice(dispatch);
    ind_dispatch_pass_on_in_time(dispatch, !brought_something(receiver));
    carry_out_orders(receiver);
}

/* What stands in the sockets when the end comes is taken too, for a bounded time. */
static void drain(struct ind_receiver *receiver)
{
    const struct ind_clock *clock = receiver->all->clock;
    const struct ind_steady began = ind_clock_read(clock).steady;
    bool more;
    set_watching(receiver, true, false);
    receiver->no_descriptor = false;
    do {
        (void)ind_dispatch_have_batch(&receiver->dispatch, 5);
        look_and_work(receiver);
        more = brought_something(receiver) || receiver->no_room || ind_streams_any_held(&receiver->streams);
    } while (more && ind_steady_lately(began, ind_clock_read(clock).steady, DRAIN_SECONDS * IND_SECOND));
    ind_streams_end_all(&receiver->streams);
}

/* The writer takes all of it, or has given up and takes it as lost: either way it ends. */
static void finish_burst(struct ind_receiver *receiver)
{
    while (ind_dispatch_waiting(&receiver->dispatch)) {
        (void)ind_dispatch_have_batch(&receiver->dispatch, 100);
        ind_dispatch_slice(&receiver->dispatch);
        carry_out_orders(receiver);
    }
    carry_out_orders(receiver);
    ind_dispatch_pass_on(&receiver->dispatch);
}

/* The first receiver, which files internal messages, waits for the others: what edits dropped to the very end
 * is to be reported. */
static void report_rest(struct ind_receiver *receiver)
{
    enum { AT_ONCE = IND_INTERNAL_MESSAGES / 2 };
    struct ind_receivers *all = receiver->all;
    const struct timespec pause = {0, 1000000};
    size_t reported = 0;
    atomic_fetch_add(&all->lifecycle->drained, 1);
    while (receiver->number == 0 && atomic_load(&all->lifecycle->drained) < all->count) {
        carry_out_orders(receiver); /* others may wait for new rules to be everywhere */
        nanosleep(&pause, NULL);
    }
    do {
        if (receiver->number == 0 && *all->states)
            reported = ind_edit_states_report(*all->states, ind_clock_read(all->clock).steady, true, AT_ONCE);
        if (reported > 0) {
            file_internal_messages(receiver);
            finish_burst(receiver);
        }
    } while (reported == AT_ONCE);
}

void *ind_receiver_run(void *argument)
{
    static const struct timeval second = {1, 0};
    struct ind_receiver *receiver = argument;
    watch_listeners(receiver, receiver->rules->listeners);
    (void)event_add(receiver->on_wake, NULL);
    (void)event_add(receiver->on_tick, &second);
    while (!ind_is_stopping(receiver->all->lifecycle))
        look_and_work(receiver);
    drain(receiver);
    finish_burst(receiver);
    report_rest(receiver);
    for (size_t i = 0; i < receiver->watch_count; i++)
        look_for_drops(&receiver->watches[i], true);
    free_watches(receiver);
    ind_ring_end(receiver->all->rings, receiver->number);
    return NULL;
}

/* ---- Made and ended ---- */

/* However many streams have something to say: after a millisecond of them datagrams are looked after again.
 */
static struct event_base *new_base(void)
{
    static const struct timeval millisecond = {0, 1000};
    struct event_config *settings = event_config_new();
    if (!settings)
        return NULL;
    (void)event_config_set_max_dispatch_interval(settings, &millisecond, 16, PRIORITY_STREAMS);
    struct event_base *base = event_base_new_with_config(settings);
    event_config_free(settings);
    if (base && event_base_priority_init(base, PRIORITIES) != 0) {
        event_base_free(base);
        base = NULL;
    }
    return base;
}

static void connect_parts(struct ind_receiver *receiver)
{
    struct ind_receivers *all = receiver->all;
    receiver->dispatch.rings = all->rings;
    receiver->dispatch.ring = receiver->number;
    receiver->dispatch.tap = all->tap;
    receiver->dispatch.reporter = all->reporter;
    receiver->dispatch.clock = all->clock;
    receiver->dispatch.names = all->names;
    receiver->dispatch.intake = receiver->rules->intake;
    receiver->datagrams = (struct ind_datagrams){
        .dispatch = &receiver->dispatch, .sockets = &receiver->sockets, .slabs = all->slabs};
    receiver->streams.dispatch = &receiver->dispatch;
    receiver->streams.sockets = &receiver->sockets;
    receiver->streams.slabs = all->slabs;
    receiver->streams.receivers = all->count;
    receiver->streams.admission = all->admission;
    receiver->streams.halves_limit = all->halves_limit;
    receiver->streams.priority = PRIORITY_STREAMS;
    receiver->acceptor.admission = all->admission;
    receiver->acceptor.sockets = &receiver->sockets;
    receiver->acceptor.clock = all->clock;
    receiver->acceptor.reporter = all->reporter;
    receiver->acceptor.receivers = all->count;
    receiver->acceptor.hand = hand_over;
    receiver->acceptor.context = receiver;
    receiver->acceptor.config = receiver->rules->listeners->config;
}

static bool make_events(struct ind_receiver *receiver)
{
    receiver->base = new_base();
    if (!receiver->base || !ind_waker_open(&receiver->waker))
        return false;
    receiver->on_wake =
        event_new(receiver->base, receiver->waker.read_end, EV_READ | EV_PERSIST, on_wake, receiver);
    receiver->on_tick = event_new(receiver->base, -1, EV_PERSIST, on_tick, receiver);
    receiver->on_room = event_new(receiver->base, -1, 0, on_room, receiver);
    receiver->on_descriptor = event_new(receiver->base, -1, 0, on_descriptor, receiver);
    if (receiver->on_wake)
        (void)event_priority_set(receiver->on_wake, PRIORITY_DATAGRAMS);
    receiver->streams.base = receiver->base;
    receiver->streams.retry = receiver->on_room;
    return receiver->on_wake && receiver->on_tick && receiver->on_room && receiver->on_descriptor;
}

static struct ind_receiver *new_receiver(struct ind_receivers *all, unsigned number,
                                         const struct ind_receiver_rules *rules)
{
    struct ind_receiver *receiver = calloc(1, sizeof *receiver);
    if (!receiver)
        return NULL;
    receiver->all = all;
    receiver->number = number;
    receiver->rules = rules;
    receiver->waker = IND_WAKER_CLOSED;
    ind_mutex_begin(&receiver->mutex);
    connect_parts(receiver);
    all->list[number] = receiver;
    bool good = ind_socket_table_begin_system(&receiver->sockets) && make_events(receiver);
    good &= ind_dispatch_begin(&receiver->dispatch, all->slabs) && ind_streams_begin(&receiver->streams);
    return good ? receiver : NULL;
}

IND_NOT_SHARED static void free_receiver(struct ind_receiver *receiver)
{
    struct event *events[] = {receiver->on_wake, receiver->on_tick, receiver->on_room,
                              receiver->on_descriptor};
    for (size_t i = 0; i < sizeof events / sizeof *events; i++)
        if (events[i])
            event_free(events[i]);
    while (receiver->arriving) {
        struct ind_connection *next = receiver->arriving->next;
        ind_connection_free(receiver->arriving);
        receiver->arriving = next;
    }
    free_watches(receiver);
    ind_streams_end(&receiver->streams);
    ind_dispatch_end(&receiver->dispatch);
    ind_socket_table_end_system(&receiver->sockets);
    if (receiver->base)
        event_base_free(receiver->base);
    ind_waker_close(&receiver->waker);
    ind_mutex_end(&receiver->mutex);
    free(receiver);
}

bool ind_receivers_begin(struct ind_receivers *receivers, struct ind_receiver_rules *rules)
{
    receivers->admission = ind_admission_new(receivers->connections);
    bool good = receivers->admission != NULL;
    for (unsigned i = 0; good && i < receivers->count; i++)
        good = new_receiver(receivers, i, &rules[i]) != NULL;
    if (good)
        receivers->reporter->filer = &receivers->list[0]->waker;
    return good;
}

void ind_receivers_end(struct ind_receivers *receivers)
{
    for (unsigned i = 0; i < receivers->count; i++)
        if (receivers->list[i])
            free_receiver(receivers->list[i]);
    ind_admission_free(receivers->admission);
}

void ind_receiver_facts(const struct ind_receiver *receiver, struct ind_receiver_facts *facts)
{
    const struct ind_stream_facts *streams = &receiver->streams.facts;
    const struct ind_accept_facts *accepts = &receiver->acceptor.facts;
    *facts =
        (struct ind_receiver_facts){atomic_load(&receiver->longest_pause), atomic_load(&streams->connections),
                                    atomic_load(&accepts->accepted),       atomic_load(&accepts->turned_away),
                                    atomic_load(&accepts->not_allowed),    atomic_load(&streams->bad_counts),
                                    atomic_load(&streams->too_slow)};
}

const struct ind_intake_counts *ind_receiver_counts(const struct ind_receiver *receiver)
{
    return &receiver->dispatch.counts;
}
