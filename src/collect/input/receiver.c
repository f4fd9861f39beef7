#include "collect/input/receiver.h"

#include "collect/input/receiver_private.h"
#include "core/message/names.h"
#include <stdlib.h>
#include <string.h>
#include <time.h>

enum { DRAIN_SECONDS = 2 };

/* ---- Connections that are handed over ---- */

void ind_receiver_take(struct ind_receiver *receiver, struct ind_connection *connection)
{
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

/* Where the burst buffer is full they wait where they are, but at the end, when it only gets emptier. */
static void file_internal_messages(struct ind_receiver *receiver)
{
    enum { ROOM = 128 << 10 };
    char *messages[IND_INTERNAL_MESSAGES];
    size_t lost = 0;
    if (receiver->number != 0 ||
        (!receiver->dispatch.ending && !ind_burst_has_room(receiver->dispatch.burst, ROOM)))
        return;
    size_t count = ind_reporter_drain(receiver->all->reporter, messages, &lost);
    for (; lost > 0; lost--)
        ind_dispatch_lose(&receiver->dispatch, IND_NAME_INTERNAL, 0);
    for (size_t i = 0; i < count; i++) {
        const struct ind_clocks now = ind_clock_read(receiver->all->clock);
        struct ind_record record = {.length = (uint32_t)strlen(messages[i]),
                                    .listener = IND_NAME_INTERNAL,
                                    .transport = IND_TRANSPORT_INTERNAL,
                                    .waits = true,
                                    .received = now.wall,
                                    .moment = now.steady};
        struct ind_slice text = {messages[i], record.length};
        if (!ind_dispatch_keep(&receiver->dispatch, &record, NULL, text))
            ind_dispatch_lose(&receiver->dispatch, IND_NAME_INTERNAL, record.length);
        free(messages[i]);
    }
}

/* ---- Orders ---- */

/* See collect/input/door.h. At the end, when nobody waits for anybody, listeners stay open. */
static bool may_adopt(const struct ind_receiver *receiver, const struct ind_receiver_rules *rules)
{
    struct ind_receivers *all = receiver->all;
    return atomic_load(&all->admitting) == rules->listeners || ind_is_stopping(all->lifecycle);
}

static void adopt(struct ind_receiver *receiver, struct ind_receiver_rules *rules)
{
    welcome_arriving(receiver);
    ind_dispatch_adopt(&receiver->dispatch, rules->intake, &rules->marker);
    receiver->rules = rules;
    ind_watch_listeners(receiver, rules->listeners);
    ind_receivers_note_adopted(receiver->all);
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

void ind_receivers_note_adopted(struct ind_receivers *receivers)
{
    if (atomic_fetch_sub(&receivers->behind, 1) == 1)
        ind_waker_wake(receivers->control);
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

/* At once, then once a minute while it goes on. */
static void tell_lost(struct ind_receiver *receiver)
{
    struct ind_receivers *all = receiver->all;
    uint64_t lost = receiver->dispatch.lost - receiver->told_lost;
    if (lost == 0 ||
        ind_steady_reported_lately(&receiver->lost_told, ind_clock_read(all->clock).steady, 60 * IND_SECOND))
        return;
    receiver->told_lost = receiver->dispatch.lost;
    ind_report(all->reporter, IND_OWN_LOST, NULL,
               "%llu messages were lost, because they found no room in memory; a larger \"burst buffer\" "
               "gives room, "
               "and \"indagator status\" says where they came from",
               (unsigned long long)lost);
}

static void on_tick(evutil_socket_t socket, short what, void *context)
{
    struct ind_receiver *receiver = context;
    (void)socket;
    (void)what;
    ind_watch_drops(receiver, false);
    tell_lost(receiver);
    ind_streams_end_late(&receiver->streams);
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
    receiver->datagrams.any = false;
    ind_streams_begin_look(&receiver->streams);
    dispatch->tapped = ind_tap_is_open(receiver->all->tap);
    (void)event_base_loop(receiver->base, work || unsent || ending ? EVLOOP_NONBLOCK : EVLOOP_ONCE);
    receiver->looked = ind_clock_read(clock).steady;
    ind_pulse_beat(&receiver->pulse, receiver->looked);
    atomic_store_explicit(&receiver->received, dispatch->received, memory_order_relaxed);
    welcome_arriving(receiver);
    file_internal_messages(receiver);
    ind_dispatch_slice(dispatch);
    ind_dispatch_pass_on_in_time(dispatch, !brought_something(receiver));
    carry_out_orders(receiver);
}

/* What stands in the sockets when the end comes is taken too, for a bounded time. The last connection that
 * the door hands over is welcomed in one round, and read in the next. */
static void drain(struct ind_receiver *receiver)
{
    enum { ROUNDS = 2 };
    const struct ind_clock *clock = receiver->all->clock;
    const struct ind_steady began = ind_clock_read(clock).steady;
    int rounds = 0; /* since the door is closed */
    receiver->dispatch.ending = true;
    bool more;
    do {
        rounds += atomic_load(&receiver->all->door_closed);
        (void)ind_dispatch_have_batch(&receiver->dispatch, 5);
        look_and_work(receiver);
        more = brought_something(receiver) || receiver->no_room || ind_streams_any_held(&receiver->streams) ||
               rounds < ROUNDS;
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
    if (receiver->number != 0)
        return;
    ind_file_own(all->reporter, IND_OWN_STOPPED, NULL, "stopped: what was received is filed");
    file_internal_messages(receiver);
    finish_burst(receiver);
}

void *ind_receiver_run(void *argument)
{
    static const struct timeval second = {1, 0};
    struct ind_receiver *receiver = argument;
    ind_watch_listeners(receiver, receiver->rules->listeners);
    (void)event_add(receiver->on_wake, NULL);
    (void)event_add(receiver->on_tick, &second);
    while (!ind_is_stopping(receiver->all->lifecycle))
        look_and_work(receiver);
    drain(receiver);
    finish_burst(receiver);
    report_rest(receiver);
    ind_watch_drops(receiver, true);
    ind_watches_free(receiver);
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
    (void)event_config_set_max_dispatch_interval(settings, &millisecond, 16, IND_PRIORITY_STREAMS);
    struct event_base *base = event_base_new_with_config(settings);
    event_config_free(settings);
    if (base && event_base_priority_init(base, IND_PRIORITIES) != 0) {
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
    receiver->streams.priority = IND_PRIORITY_STREAMS;
}

static bool make_events(struct ind_receiver *receiver)
{
    receiver->base = new_base();
    if (!receiver->base || !ind_waker_open(&receiver->waker))
        return false;
    receiver->on_wake =
        event_new(receiver->base, receiver->waker.read_end, EV_READ | EV_PERSIST, on_wake, receiver);
    receiver->on_tick = event_new(receiver->base, -1, EV_PERSIST, on_tick, receiver);
    receiver->on_room = event_new(receiver->base, -1, 0, ind_watch_on_room, receiver);
    receiver->on_joined = event_new(receiver->base, -1, 0, ind_watch_on_joined, receiver);
    if (receiver->on_wake)
        (void)event_priority_set(receiver->on_wake, IND_PRIORITY_DATAGRAMS);
    receiver->streams.base = receiver->base;
    receiver->streams.retry = receiver->on_room;
    receiver->streams.joined = receiver->on_joined;
    return receiver->on_wake && receiver->on_tick && receiver->on_room && receiver->on_joined;
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
    bool good = ind_socket_table_begin_system(&receiver->sockets) && make_events(receiver) &&
                (receiver->datagrams.traps = ind_traps_new(receiver->all->engines)) != NULL;
    good &= ind_dispatch_begin(&receiver->dispatch, all->slabs) && ind_streams_begin(&receiver->streams);
    return good ? receiver : NULL;
}

IND_NOT_SHARED static void free_receiver(struct ind_receiver *receiver)
{
    struct event *events[] = {receiver->on_wake, receiver->on_tick, receiver->on_room, receiver->on_joined};
    for (size_t i = 0; i < sizeof events / sizeof *events; i++)
        if (events[i])
            event_free(events[i]);
    while (receiver->arriving) {
        struct ind_connection *next = receiver->arriving->next;
        ind_connection_free(receiver->arriving);
        receiver->arriving = next;
    }
    ind_watches_free(receiver);
    ind_streams_end(&receiver->streams);
    ind_dispatch_end(&receiver->dispatch);
    ind_socket_table_end_system(&receiver->sockets);
    ind_traps_free(receiver->datagrams.traps);
    if (receiver->base)
        event_base_free(receiver->base);
    ind_waker_close(&receiver->waker);
    ind_mutex_end(&receiver->mutex);
    free(receiver);
}

bool ind_receivers_begin(struct ind_receivers *receivers, struct ind_receiver_rules *rules)
{
    receivers->admission = ind_admission_new();
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

const struct ind_pulse *ind_receiver_pulse(const struct ind_receiver *receiver)
{
    return &receiver->pulse;
}

uint64_t ind_receiver_received(const struct ind_receiver *receiver)
{
    return atomic_load(&receiver->received);
}

void ind_receiver_facts(const struct ind_receiver *receiver, struct ind_receiver_facts *facts)
{
    facts->longest_pause = atomic_load(&receiver->longest_pause);
    facts->streams = ind_streams_numbers(&receiver->streams);
}

const struct ind_intake_counts *ind_receiver_counts(const struct ind_receiver *receiver)
{
    return &receiver->dispatch.counts;
}
