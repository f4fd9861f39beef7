/* collect/receiver.c: an intake thread. First it empties the sockets into the burst buffer, then it takes a
 * bounded slice of what waits there and turns it into lines; and again. It touches no file, and waits for
 * nothing but its sockets and its wake: where the writer has no room, messages wait in the burst buffer.
 *
 * Datagrams are read for as long as there is any room, streams only while half of the burst buffer is free:
 * they can wait at the sender. */
#define _GNU_SOURCE
#include "collect/receiver.h"

#include "collect/tap.h"
#include "core/message/names.h"
#include "net/socket.h"
#include "net/udp.h"
#include <errno.h>
#include <stdlib.h>
#include <unistd.h>
#include <utlist.h>

enum { DRAIN_SECONDS = 2, RETRY_MILLISECONDS = 10 };

/* ---- Orders ---- */

static void take_arriving(struct ind_receiver *receiver)
{
    pthread_mutex_lock(&receiver->mailbox);
    struct ind_connection *guest = receiver->arriving;
    receiver->arriving = NULL;
    pthread_mutex_unlock(&receiver->mailbox);
    while (guest) {
        struct ind_connection *next = guest->next;
        ind_welcome(receiver, guest);
        guest = next;
    }
}

/* A connection that was handed over knows a port of the rules under which it was let in. So the first
 * receiver turns first, and the others take what it had handed them before they turn: nothing then knows a
 * port that goes. At the end, when nobody waits for anybody, ports stay (finish_reload). */
static bool may_turn(const struct ind_receiver *receiver, const struct ind_marker *mark)
{
    const struct ind_collector *collector = receiver->collector;
    return receiver->number == 0 || atomic_load(&collector->door_rules) == mark->rules ||
           atomic_load(&collector->stop);
}

static void open_door(struct ind_receiver *receiver, const struct ind_rules *rules)
{
    struct ind_collector *collector = receiver->collector;
    atomic_store(&collector->door_rules, rules);
    for (unsigned i = 1; i < collector->intakes; i++)
        ind_receiver_wake(collector->receivers[i]);
}

static void take_rules(struct ind_receiver *receiver, struct ind_marker *mark)
{
    take_arriving(receiver);
    ind_pass_on(receiver);
    if (receiver->batch) /* empty, but it may know groups of the old rules */
        ind_batch_clear(receiver->batch);
    /* Nothing of the new rules before the mark. */
    ind_ring_put_marker(receiver->collector->rings, receiver->number, mark);
    receiver->rules = mark->rules;
    receiver->intake = mark->rules->intakes[receiver->number];
    ind_watch_ports(receiver, mark->rules);
    if (receiver->number == 0)
        open_door(receiver, mark->rules);
    if (atomic_fetch_sub(&receiver->collector->receivers_behind, 1) == 1)
        ind_control_wake(receiver->collector->control);
}

static void give_sheet(struct ind_receiver *receiver, struct ind_marker *mark)
{
    const char *bytes;
    ind_pass_on(receiver);
    ind_receiver_fill_snapshot(receiver, mark->sheet);
    /* The message at the head is in the account already where some of its lines have gone on. */
    if (receiver->tallied)
        mark->sheet->waiting[ind_burst_first(receiver->burst, &bytes)->listener]--;
    mark->sheet->count = ind_accounts_count(receiver->collector->accounts[receiver->number]);
    ind_ring_put_marker(receiver->collector->rings, receiver->number, mark);
}

void ind_receiver_fill_snapshot(const struct ind_receiver *receiver, struct ind_ledger_snapshot *sheet)
{
    memcpy(sheet->received, receiver->counts.received, sizeof sheet->received);
    memcpy(sheet->bytes, receiver->counts.bytes, sizeof sheet->bytes);
    memcpy(sheet->lost_buffer, receiver->counts.lost_buffer, sizeof sheet->lost_buffer);
    memcpy(sheet->waiting, receiver->counts.waiting, sizeof sheet->waiting);
}

static void take_own_messages(struct ind_receiver *receiver)
{
    char *own[IND_INTERNAL_MESSAGES];
    pthread_mutex_lock(&receiver->mailbox);
    size_t count = receiver->own_count, lost = receiver->own_lost;
    memcpy(own, receiver->own, sizeof own);
    receiver->own_count = receiver->own_lost = 0;
    pthread_mutex_unlock(&receiver->mailbox);
    for (; lost > 0; lost--)
        ind_lose_record(receiver, IND_NAME_INTERNAL, 0);
    for (size_t i = 0; i < count; i++) {
        struct ind_record record = {.length = (uint32_t)strlen(own[i]),
                                    .listener = IND_NAME_INTERNAL,
                                    .transport = IND_TRANSPORT_INTERNAL,
                                    .received = ind_now(),
                                    .moment = ind_steady_now()};
        struct ind_slice text = {own[i], record.length};
        if (!ind_keep_record(receiver, &record, text, IND_NOTHING))
            ind_lose_record(receiver, IND_NAME_INTERNAL, record.length);
        free(own[i]);
    }
}

/* Between two messages only; new rules also not within one that waits for room. */
static void take_orders(struct ind_receiver *receiver)
{
    struct ind_marker *mark = atomic_exchange(&receiver->sheet_order, NULL);
    if (mark)
        give_sheet(receiver, mark);
    mark = atomic_load(&receiver->rules_order);
    if (!mark || receiver->tallied || !may_turn(receiver, mark))
        return;
    atomic_store(&receiver->rules_order, NULL);
    take_rules(receiver, mark);
}

static void on_wake(evutil_socket_t socket, short what, void *context)
{
    char bytes[64];
    (void)what;
    (void)context;
    while (read(socket, bytes, sizeof bytes) == (ssize_t)sizeof bytes)
        ;
}

static void on_tick(evutil_socket_t socket, short what, void *context)
{
    struct ind_receiver *receiver = context;
    (void)socket;
    (void)what;
    for (size_t i = 0; i < receiver->watched_count; i++)
        ind_look_for_drops(receiver, &receiver->watched[i], false);
    if (receiver->number == 0)
        ind_slabs_trim(receiver->collector->slabs);
}

void ind_retry_soon(struct ind_receiver *receiver)
{
    static const struct timeval soon = {0, RETRY_MILLISECONDS * 1000};
    (void)event_add(receiver->on_retry, &soon);
}

static void on_retry(evutil_socket_t socket, short what, void *context)
{
    struct ind_receiver *receiver = context;
    (void)socket;
    (void)what;
    if (receiver->paused && ind_datagram_room(receiver) > 0) {
        receiver->paused = false;
        for (size_t i = 0; i < receiver->watched_count; i++)
            (void)event_add(receiver->watched[i].event, NULL);
    }
    bool waits = ind_streams_retry(receiver);
    if (receiver->paused || waits)
        ind_retry_soon(receiver);
}

void ind_receiver_wake(struct ind_receiver *receiver)
{
    /* A full pipe wakes as well. */
    while (write(receiver->wake[1], "", 1) < 0 && errno == EINTR)
        ;
}

void ind_receiver_order_snapshot(struct ind_receiver *receiver, struct ind_marker *mark)
{
    atomic_store(&receiver->sheet_order, mark);
    ind_receiver_wake(receiver);
}

void ind_receiver_order_rules(struct ind_receiver *receiver, struct ind_marker *mark)
{
    atomic_store(&receiver->rules_order, mark);
    ind_receiver_wake(receiver);
}

void ind_receiver_say(struct ind_receiver *receiver, struct ind_slice text)
{
    char *copy = malloc(text.length + 1);
    pthread_mutex_lock(&receiver->mailbox);
    if (copy && receiver->own_count < IND_INTERNAL_MESSAGES) {
        memcpy(copy, text.at, text.length);
        copy[text.length] = '\0';
        receiver->own[receiver->own_count++] = copy;
        copy = NULL;
    } else {
        receiver->own_lost++;
    }
    pthread_mutex_unlock(&receiver->mailbox);
    free(copy);
    ind_receiver_wake(receiver);
}

/* ---- The thread ---- */

/* The time between two looks at the sockets, but for the time spent waiting for them. */
static void note_pause(struct ind_receiver *receiver, struct ind_steady until)
{
    uint64_t pause =
        ind_steady_is_set(receiver->looked) ? (uint64_t)ind_steady_from(receiver->looked, until) : 0;
    if (pause > atomic_load_explicit(&receiver->longest_pause, memory_order_relaxed))
        atomic_store_explicit(&receiver->longest_pause, pause, memory_order_relaxed);
}

static void turn(struct ind_receiver *receiver)
{
    const char *bytes;
    bool work = ind_burst_first(receiver->burst, &bytes) && ind_have_batch(receiver);
    bool unsent = receiver->batch && !ind_batch_is_empty(receiver->batch);
    bool ending = atomic_load(&receiver->collector->stop);
    note_pause(receiver, ind_steady_now());
    receiver->any = false;
    receiver->tapped = ind_tap_is_open(receiver->collector->tap);
    (void)event_base_loop(receiver->base, work || unsent || ending ? EVLOOP_NONBLOCK : EVLOOP_ONCE);
    receiver->looked = ind_steady_now();
    take_arriving(receiver);
    take_own_messages(receiver);
    ind_take_slice(receiver);
    ind_pass_on_in_time(receiver);
    take_orders(receiver);
}

/* What stands in the sockets when the end comes is taken too, for a bounded time. */
static void drain(struct ind_receiver *receiver)
{
    const struct ind_steady began = ind_steady_now();
    bool more;
    for (size_t i = 0; i < receiver->watched_count; i++)
        if (receiver->watched[i].port->kind == IND_LISTEN_TCP)
            (void)event_del(receiver->watched[i].event);
    do {
        if (!receiver->batch)
            receiver->batch = ind_ring_empty(receiver->collector->rings, receiver->number, 5);
        turn(receiver);
        more = receiver->any || receiver->paused || ind_any_held(receiver);
    } while (more && ind_steady_lately(began, ind_steady_now(), DRAIN_SECONDS * IND_SECOND));
    struct ind_connection *guest, *next;
    DL_FOREACH_SAFE(receiver->guests, guest, next)
    ind_see_off_now(receiver, guest);
}

/* The writer takes all of it, or has given up and takes it as lost: either way it ends. */
static void finish_burst(struct ind_receiver *receiver)
{
    const char *bytes;
    while (ind_burst_first(receiver->burst, &bytes) || receiver->tallied) {
        if (!receiver->batch)
            receiver->batch = ind_ring_empty(receiver->collector->rings, receiver->number, 100);
        ind_take_slice(receiver);
        take_orders(receiver);
    }
    take_orders(receiver);
    ind_pass_on(receiver);
}

void ind_receiver_begin(struct ind_receiver *receiver, struct ind_rules *rules)
{
    receiver->rules = rules;
    receiver->intake = rules->intakes[receiver->number];
}

/* The first receiver, which has our own messages, waits for the others: what edits dropped to the very end is
 * to be told. */
static void tell_rest(struct ind_receiver *receiver)
{
    struct ind_collector *collector = receiver->collector;
    const struct timespec pause = {0, 1000000};
    size_t told = 0;
    atomic_fetch_add(&collector->drained, 1);
    while (receiver->number == 0 && atomic_load(&collector->drained) < collector->intakes) {
        take_orders(receiver); /* others may wait for new rules to be everywhere */
        nanosleep(&pause, NULL);
    }
    do {
        if (receiver->number == 0 && collector->recalls)
            told =
                ind_edit_states_report(collector->recalls, ind_steady_now(), true, IND_INTERNAL_MESSAGES / 2);
        if (told > 0) {
            take_own_messages(receiver);
            finish_burst(receiver);
        }
    } while (told == IND_INTERNAL_MESSAGES / 2);
}

void *ind_receive(void *argument)
{
    static const struct timeval second = {1, 0};
    struct ind_receiver *receiver = argument;
    ind_watch_ports(receiver, receiver->rules);
    (void)event_add(receiver->on_wake, NULL);
    (void)event_add(receiver->on_tick, &second);
    while (!atomic_load(&receiver->collector->stop))
        turn(receiver);
    drain(receiver);
    finish_burst(receiver);
    tell_rest(receiver);
    for (size_t i = 0; i < receiver->watched_count; i++) {
        ind_look_for_drops(receiver, &receiver->watched[i], true);
        event_free(receiver->watched[i].event);
    }
    receiver->watched_count = 0;
    ind_ring_end(receiver->collector->rings, receiver->number);
    return NULL;
}

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

static bool make(struct ind_receiver *receiver)
{
    if (pipe(receiver->wake) != 0)
        return false;
    ind_socket_set_flags(receiver->wake[0]);
    ind_socket_set_flags(receiver->wake[1]);
    receiver->base = new_base();
    receiver->burst = ind_burst_new(receiver->collector->slabs);
    receiver->datagrams = ind_udp_batch_new();
    receiver->scratch = malloc(IND_SCRATCH);
    if (receiver->number == 0 &&
        !(receiver->door = ind_admission_new(receiver->collector->budget.connections)))
        return false;
    if (!receiver->base || !receiver->burst || !receiver->datagrams || !receiver->scratch)
        return false;
    receiver->on_wake = event_new(receiver->base, receiver->wake[0], EV_READ | EV_PERSIST, on_wake, receiver);
    receiver->on_tick = event_new(receiver->base, -1, EV_PERSIST, on_tick, receiver);
    receiver->on_retry = event_new(receiver->base, -1, 0, on_retry, receiver);
    if (receiver->on_wake)
        (void)event_priority_set(receiver->on_wake, IND_PRIORITY_DATAGRAMS);
    return receiver->on_wake && receiver->on_tick && receiver->on_retry;
}

struct ind_receiver *ind_receiver_new(struct ind_collector *collector, unsigned number)
{
    struct ind_receiver *receiver = calloc(1, sizeof *receiver);
    if (!receiver)
        return NULL;
    receiver->collector = collector;
    receiver->number = number;
    receiver->wake[0] = receiver->wake[1] = -1;
    pthread_mutex_init(&receiver->mailbox, NULL);
    if (make(receiver))
        return receiver;
    ind_receiver_free(receiver);
    return NULL;
}

void ind_receiver_free(struct ind_receiver *receiver)
{
    if (!receiver)
        return;
    struct event *events[] = {receiver->on_wake, receiver->on_tick, receiver->on_retry};
    for (size_t i = 0; i < 3; i++)
        if (events[i])
            event_free(events[i]);
    while (receiver->arriving) {
        struct ind_connection *next = receiver->arriving->next;
        ind_connection_free(receiver->arriving);
        receiver->arriving = next;
    }
    for (size_t i = 0; i < receiver->own_count; i++)
        free(receiver->own[i]);
    if (receiver->base)
        event_base_free(receiver->base);
    for (int i = 0; i < 2; i++)
        if (receiver->wake[i] >= 0)
            close(receiver->wake[i]);
    ind_batch_free(receiver->batch);
    ind_burst_free(receiver->burst);
    ind_udp_batch_free(receiver->datagrams);
    ind_admission_free(receiver->door);
    pthread_mutex_destroy(&receiver->mailbox);
    free(receiver->scratch);
    free(receiver);
}

void ind_receiver_facts(const struct ind_receiver *receiver, struct ind_receiver_facts *facts)
{
    *facts = (struct ind_receiver_facts){
        atomic_load(&receiver->longest_pause), atomic_load(&receiver->connections),
        atomic_load(&receiver->accepted),      atomic_load(&receiver->turned_away),
        atomic_load(&receiver->not_allowed),   atomic_load(&receiver->bad_counts),
        atomic_load(&receiver->too_slow)};
}
