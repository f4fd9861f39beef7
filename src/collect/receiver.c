/* collect/receiver.c: an intake thread. First it empties the sockets into the burst buffer, then it takes a
 * bounded slice of what waits there and turns it into lines; and again. It touches no file, and waits for
 * nothing but its sockets and its wake: where the writer has no room, messages wait in the burst buffer.
 *
 * Datagrams are read for as long as there is any room, streams only while half of the burst buffer is free:
 * they can wait at the sender. */
#define _GNU_SOURCE
#include "collect/clock.h"
#include "collect/guests.h"
#include "collect/inside.h"
#include "collect/tap.h"
#include "core/names.h"
#include "net/socket.h"
#include "net/udp.h"

#include <errno.h>
#include <event2/event.h>
#include <stdlib.h>
#include <sys/resource.h>
#include <unistd.h>
#include <utlist.h>

enum {
    SCRATCH = 256 << 10,
    SLICE = 1024, /* records between two looks at the sockets */
    ROUNDS = 128, /* calls for datagrams in a row on one socket: it is to be emptied */
    ACCEPTS = 64,
    BATCH_MILLISECONDS = 50, /* a batch that fills slowly goes on after this */
    RETRY_MILLISECONDS = 10, /* while there is no room */
    DRAIN_SECONDS = 2,
    OWN_MESSAGES = 64,
    WORST_RECORDS = 15, /* of 64 KiB in a slab */
    TELL_AGAIN = 60,
    PRIORITY_DATAGRAMS = 0,
    PRIORITY_STREAMS = 1,
    PRIORITIES = 2
};

struct watched {
    struct ind_receiver *receiver;
    struct ind_port *port;
    struct event *event;
    unsigned index; /* of the socket in the port */
    uint64_t told_dropped;
    ind_time told_at; /* monotonic; 0: never */
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
    ind_time batch_began; /* monotonic */
    struct ind_udp_batch *datagrams;
    char *scratch;
    struct watched watched[IND_MOST_LISTENERS];
    size_t watched_count;
    bool paused;  /* no room for datagrams either */
    bool tallied; /* the record at the head of the burst buffer is in a tally already */
    bool any;     /* the last look at the sockets brought something */
    struct ind_guest *guests;
    struct ind_door *door; /* the first receiver's; shared */
    unsigned next_receiver;
    ind_time now;    /* of the last bytes of a stream */
    ind_time looked; /* monotonic: when the sockets were last looked at; 0: it waited for them since */
    ind_time told_guests;
    struct ind_sheet counts; /* received, lost_buffer, waiting */
    uint64_t in_burst;       /* messages */
    bool tapped;             /* somebody follows */

    /* From other threads. */
    _Atomic(struct ind_mark *) sheet_order, rules_order;
    pthread_mutex_t mailbox;
    struct ind_guest *arriving;
    char *own[OWN_MESSAGES];
    size_t own_count, own_lost;

    atomic_uint_fast64_t longest_pause, connections, accepted, turned_away, not_allowed, bad_counts,
        burst_count;
};

static ind_time steady_now(void)
{
    struct timespec now;
    clock_gettime(CLOCK_MONOTONIC, &now);
    return (ind_time)now.tv_sec * IND_SECOND + now.tv_nsec;
}

/* ---- Into batches ---- */

static void pass_on(struct ind_receiver *receiver)
{
    if (!receiver->batch || ind_batch_is_empty(receiver->batch))
        return;
    ind_ring_put(receiver->collector->rings, receiver->number, receiver->batch);
    receiver->batch = NULL;
}

static bool have_batch(struct ind_receiver *receiver)
{
    if (!receiver->batch) {
        receiver->batch = ind_ring_empty(receiver->collector->rings, receiver->number, 0);
        receiver->batch_began = 0;
    }
    return receiver->batch != NULL;
}

/* False where the batch has no room for all of it. */
static bool take_record(struct ind_receiver *receiver, const struct ind_record *record, const char *bytes)
{
    const struct ind_sender *sender = ind_intake_sender(receiver->intake, &record->sender);
    struct ind_origin origin = {.transport = (enum ind_transport)record->transport,
                                .number = record->listener,
                                .cut = record->cut,
                                .listener = ind_slice_of(receiver->collector->names[record->listener]),
                                .sender = sender,
                                .received = record->received,
                                .now = record->received};
    struct ind_slice text = {bytes, record->length};
    if (receiver->tapped && !receiver->tallied)
        ind_tap_offer(receiver->collector->tap, record, bytes);
    if (!sender->allowed)
        return ind_intake_refuse(receiver->intake, text, &origin, receiver->batch);
    return ind_intake_message(receiver->intake, IND_LINES_RAW, text, &origin, receiver->batch,
                              &receiver->tallied);
}

/* Without the burst buffer: where nothing waits there, and the writer has room. False where it must wait
 * after all; some of its lines may have gone on then, which `tallied` tells. */
static bool take_at_once(struct ind_receiver *receiver, const struct ind_record *record, const char *bytes)
{
    if (!ind_burst_idle(receiver->burst) || !have_batch(receiver))
        return false;
    while (!take_record(receiver, record, bytes)) {
        pass_on(receiver);
        if (!have_batch(receiver))
            return false;
    }
    receiver->tallied = false;
    receiver->counts.received[record->listener]++;
    receiver->counts.bytes[record->listener] += record->length;
    return true;
}

/* ---- Into the burst buffer ---- */

static bool keep_record(struct ind_receiver *receiver, const struct ind_record *record,
                        struct ind_slice first, struct ind_slice rest)
{
    char *at = ind_burst_add(receiver->burst, record);
    if (!at)
        return false;
    if (first.length)
        memcpy(at, first.at, first.length);
    if (rest.length)
        memcpy(at + first.length, rest.at, rest.length);
    receiver->counts.received[record->listener]++;
    receiver->counts.bytes[record->listener] += record->length;
    receiver->counts.waiting[record->listener]++;
    receiver->in_burst++;
    return true;
}

static void lose_record(struct ind_receiver *receiver, uint16_t listener, size_t length)
{
    receiver->counts.received[listener]++;
    receiver->counts.bytes[listener] += length;
    receiver->counts.lost_buffer[listener]++;
}

/* How many of the largest datagrams there is room for. */
static int datagram_room(const struct ind_receiver *receiver)
{
    size_t left = ind_slabs_left(receiver->collector->slabs);
    return left > 4 ? 64 : (int)(left * WORST_RECORDS);
}

static void pause_datagrams(struct ind_receiver *receiver)
{
    static const struct timeval soon = {0, RETRY_MILLISECONDS * 1000};
    receiver->paused = true;
    for (size_t i = 0; i < receiver->watched_count; i++)
        if (receiver->watched[i].port->kind == IND_LISTEN_UDP)
            (void)event_del(receiver->watched[i].event);
    (void)event_add(receiver->on_retry, &soon);
}

/* Where the socket is empty now there is time for them. */
static void take_datagrams(struct ind_receiver *receiver, const struct watched *watched, int count,
                           bool at_once)
{
    bool local = watched->port->kind == IND_LISTEN_UNIX;
    ind_time now = ind_now();
    for (int i = 0; i < count; i++) {
        struct ind_datagram datagram = ind_udp_datagram(receiver->datagrams, i);
        struct ind_record record = {.length = (uint32_t)datagram.length,
                                    .listener = watched->port->number,
                                    .transport = local ? IND_TRANSPORT_UNIX : IND_TRANSPORT_UDP,
                                    .received = datagram.received != IND_TIME_NONE ? datagram.received : now,
                                    .sender = datagram.sender};
        struct ind_slice bytes = {datagram.bytes, datagram.length};
        if (at_once && take_at_once(receiver, &record, datagram.bytes))
            continue;
        if (!keep_record(receiver, &record, bytes, IND_NOTHING))
            lose_record(receiver, record.listener, record.length);
    }
    receiver->any |= count > 0;
}

/* Local programs are not made to wait: what they send when all is full is lost, and counted. */
static void on_datagrams(evutil_socket_t socket, short what, void *context)
{
    const struct watched *watched = context;
    struct ind_receiver *receiver = watched->receiver;
    (void)what;
    for (int round = 0; round < ROUNDS; round++) {
        int most = datagram_room(receiver);
        if (most == 0 && watched->port->kind == IND_LISTEN_UDP) {
            pause_datagrams(receiver);
            return;
        }
        most = most ? most : 64;
        int count = ind_udp_receive(socket, receiver->datagrams, most);
        if (count <= 0)
            return;
        take_datagrams(receiver, watched, count, count < most);
        if (count < most)
            return;
    }
}

static bool take_from_guest(void *context, const struct ind_guest *guest, struct ind_slice first,
                            struct ind_slice rest, bool cut)
{
    struct ind_receiver *receiver = context;
    struct ind_record record = {.length = (uint32_t)(first.length + rest.length),
                                .listener = guest->port->number,
                                .transport = IND_TRANSPORT_TCP,
                                .cut = cut,
                                .received = receiver->now,
                                .sender = guest->sender};
    if (first.length == 0 && take_at_once(receiver, &record, rest.at))
        return true;
    if (keep_record(receiver, &record, first, rest))
        return true;
    if (!atomic_load(&guest->port->drop))
        return false;
    lose_record(receiver, record.listener, record.length);
    return true;
}

/* ---- Connections ---- */

static bool told_lately(ind_time *told)
{
    ind_time now = steady_now();
    bool lately = *told && now - *told < TELL_AGAIN * IND_SECOND;
    if (!lately)
        *told = now;
    return lately;
}

static void address_text(const struct ind_address *address, char text[IND_ADDRESS_WIDTH])
{
    struct ind_buffer buffer = ind_buffer_on(text, IND_ADDRESS_WIDTH - 1);
    ind_address_write(&buffer, address);
    text[buffer.length] = '\0';
}

static void dismiss(struct ind_receiver *receiver, struct ind_guest *guest)
{
    if (guest->event)
        event_free(guest->event);
    DL_DELETE(receiver->guests, guest); /* NOLINT: it is in the list */
    atomic_fetch_sub(&receiver->connections, 1);
    ind_door_leave(receiver->collector->receivers[0]->door, &guest->sender);
    ind_guest_free(guest);
}

static bool streams_must_wait(const struct ind_receiver *receiver, const struct ind_guest *guest)
{
    /* Each receiver has one slab in its hand also when nothing waits. */
    size_t spare = ind_slabs_count(receiver->collector->slabs) - receiver->collector->intakes;
    return !atomic_load(&guest->port->drop) && ind_slabs_left(receiver->collector->slabs) * 2 < spare;
}

static void hold(struct ind_receiver *receiver, struct ind_guest *guest)
{
    static const struct timeval soon = {0, RETRY_MILLISECONDS * 1000};
    guest->held = true;
    (void)event_del(guest->event);
    (void)event_add(receiver->on_retry, &soon);
}

static void tell_bad_count(struct ind_receiver *receiver, const struct ind_guest *guest)
{
    char text[IND_ADDRESS_WIDTH];
    atomic_fetch_add(&receiver->bad_counts, 1);
    if (told_lately(&receiver->told_guests))
        return;
    address_text(&guest->sender, text);
    ind_collect_tell(receiver->collector, IND_SEVERITY_WARNING,
                     "%s: where an octet count must stand %s sent something else: the connection is ended. "
                     "Does it count bytes, not characters?",
                     guest->port->text, text);
}

/* False where the guest is gone. */
static bool feed_guest(struct ind_receiver *receiver, struct ind_guest *guest, struct ind_slice bytes)
{
    switch (ind_guest_feed(guest, bytes, take_from_guest, receiver)) {
    case IND_GUEST_FED:
        return true;
    case IND_GUEST_FULL:
        hold(receiver, guest);
        return true;
    case IND_GUEST_BAD:
        tell_bad_count(receiver, guest);
    }
    dismiss(receiver, guest);
    return false;
}

/* The end of a connection; it stays a little where there is no room for its last words. */
static void see_off(struct ind_receiver *receiver, struct ind_guest *guest, bool broken_off)
{
    if (ind_guest_finish(guest, broken_off, take_from_guest, receiver))
        dismiss(receiver, guest);
    else
        hold(receiver, guest);
}

/* We end it, room or not. */
static void see_off_now(struct ind_receiver *receiver, struct ind_guest *guest)
{
    if (!ind_guest_finish(guest, true, take_from_guest, receiver))
        lose_record(receiver, guest->port->number, guest->carried);
    dismiss(receiver, guest);
}

static void on_stream(evutil_socket_t socket, short what, void *context)
{
    struct ind_guest *guest = context;
    struct ind_receiver *receiver = guest->receiver;
    (void)what;
    if (streams_must_wait(receiver, guest)) {
        hold(receiver, guest);
        return;
    }
    ssize_t got = read(socket, receiver->scratch, SCRATCH);
    if (got > 0) {
        receiver->any = true;
        receiver->now = ind_now();
        (void)feed_guest(receiver, guest, (struct ind_slice){receiver->scratch, (size_t)got});
    } else if (got == 0 || (errno != EAGAIN && errno != EWOULDBLOCK && errno != EINTR)) {
        see_off(receiver, guest, got < 0);
    }
}

static void welcome(struct ind_receiver *receiver, struct ind_guest *guest)
{
    guest->receiver = receiver;
    guest->event = event_new(receiver->base, guest->socket, EV_READ | EV_PERSIST, on_stream, guest);
    DL_APPEND(receiver->guests, guest);
    atomic_fetch_add(&receiver->connections, 1);
    if (!guest->event || event_priority_set(guest->event, PRIORITY_STREAMS) != 0 ||
        event_add(guest->event, NULL) != 0)
        dismiss(receiver, guest);
}

static void turn_away(struct ind_receiver *receiver, const struct ind_port *port,
                      const struct ind_address *address, bool allowed)
{
    char text[IND_ADDRESS_WIDTH];
    atomic_fetch_add(allowed ? &receiver->turned_away : &receiver->not_allowed, 1);
    if (told_lately(&receiver->told_guests))
        return;
    address_text(address, text);
    ind_collect_tell(receiver->collector, IND_SEVERITY_WARNING,
                     allowed ? "%s: too many connections: one from %s was turned away"
                             : "%s: a connection from %s was turned away: it is not under allow:",
                     port->text, text);
}

static void admit(struct ind_receiver *receiver, struct ind_port *port, int socket,
                  const struct ind_address *address)
{
    struct ind_collector *collector = receiver->collector;
    bool allowed = ind_intake_sender(receiver->intake, address)->allowed;
    struct ind_guest *guest = NULL;
    if (!allowed || !ind_door_enter(receiver->door, address)) {
        turn_away(receiver, port, address, allowed);
    } else if (!(guest = ind_guest_new(port, socket, address))) {
        ind_door_leave(receiver->door, address);
        turn_away(receiver, port, address, true);
    }
    if (!guest) {
        close(socket);
        return;
    }
    atomic_fetch_add(&receiver->accepted, 1);
    unsigned number = receiver->next_receiver++ % collector->intakes;
    if (number == receiver->number)
        welcome(receiver, guest);
    else
        ind_receiver_hand(collector->receivers[number], guest);
}

/* Without files to spare it would be called again at once, and for ever. */
static void pause_listening(const struct watched *watched)
{
    static const struct timeval soon = {0, RETRY_MILLISECONDS * 1000};
    watched->receiver->paused = true;
    (void)event_del(watched->event);
    (void)event_add(watched->receiver->on_retry, &soon);
}

static void on_connection(evutil_socket_t socket, short what, void *context)
{
    const struct watched *watched = context;
    (void)what;
    for (int i = 0; i < ACCEPTS; i++) {
        struct ind_address address;
        int fd = ind_tcp_accept(socket, &address);
        if (fd < 0) {
            if (errno == EMFILE || errno == ENFILE || errno == ENOBUFS || errno == ENOMEM)
                pause_listening(watched);
            return;
        }
        admit(watched->receiver, watched->port, fd, &address);
    }
}

void ind_receiver_hand(struct ind_receiver *receiver, struct ind_guest *guest)
{
    pthread_mutex_lock(&receiver->mailbox);
    guest->next = receiver->arriving;
    receiver->arriving = guest;
    pthread_mutex_unlock(&receiver->mailbox);
    ind_receiver_wake(receiver);
}

/* ---- Out of the burst buffer ---- */

static void take_slice(struct ind_receiver *receiver)
{
    const struct ind_record *record;
    const char *bytes;
    uint64_t taken = 0;
    while (taken < SLICE && (record = ind_burst_first(receiver->burst, &bytes)) && have_batch(receiver)) {
        if (!take_record(receiver, record, bytes)) {
            pass_on(receiver);
            continue;
        }
        receiver->tallied = false;
        receiver->counts.waiting[record->listener]--;
        ind_burst_drop(receiver->burst);
        taken++;
    }
    receiver->in_burst -= taken;
}

/* A batch goes on when the sockets have nothing more, or when it has filled slowly for some time. */
static void pass_on_in_time(struct ind_receiver *receiver)
{
    const char *bytes;
    if (!receiver->batch || ind_batch_is_empty(receiver->batch))
        return;
    ind_time now = steady_now();
    if (receiver->batch_began == 0)
        receiver->batch_began = now;
    if ((!receiver->any && !ind_burst_first(receiver->burst, &bytes)) ||
        now - receiver->batch_began > BATCH_MILLISECONDS * (IND_SECOND / 1000))
        pass_on(receiver);
}

/* ---- Orders ---- */

static void watch(struct ind_receiver *receiver, struct ind_port *port)
{
    /* The first receiver takes connections and hands them out. */
    unsigned only = port->kind == IND_LISTEN_TCP ? 0 : port->number % receiver->collector->intakes;
    bool mine = port->shared || only == receiver->number;
    if (!mine || receiver->watched_count == IND_MOST_LISTENERS)
        return;
    struct watched *watched = &receiver->watched[receiver->watched_count];
    *watched = (struct watched){receiver, port, NULL, port->shared ? receiver->number : 0, 0, 0};
    watched->event = event_new(receiver->base, port->sockets[watched->index], EV_READ | EV_PERSIST,
                               port->kind == IND_LISTEN_TCP ? on_connection : on_datagrams, watched);
    if (watched->event &&
        event_priority_set(watched->event,
                           port->kind == IND_LISTEN_TCP ? PRIORITY_STREAMS : PRIORITY_DATAGRAMS) == 0 &&
        event_add(watched->event, NULL) == 0)
        receiver->watched_count++;
    else
        ind_collect_tell(receiver->collector, IND_SEVERITY_CRITICAL, "out of memory: %s is not listened on",
                         port->text);
}

/* Told at once, then once a minute while it goes on, and at the end. */
static void look_for_drops(struct ind_receiver *receiver, struct watched *watched, bool last)
{
    if (watched->port->kind != IND_LISTEN_UDP)
        return;
    uint64_t dropped = ind_udp_dropped(watched->port->sockets[watched->index]);
    atomic_store(&watched->port->kernel_dropped[watched->index], dropped);
    if (dropped == watched->told_dropped ||
        (!last && watched->told_at && steady_now() - watched->told_at < TELL_AGAIN * IND_SECOND))
        return;
    ind_collect_tell(receiver->collector, IND_SEVERITY_WARNING,
                     "%s: the kernel has dropped %llu datagrams since the start, because they came faster "
                     "than they were read; a larger net.core.rmem_max gives room for bursts",
                     watched->port->text, (unsigned long long)dropped);
    watched->told_dropped = dropped;
    watched->told_at = steady_now();
}

/* What stands in the socket is read before it goes. */
static void unwatch(struct ind_receiver *receiver, struct watched *watched)
{
    if (watched->port->kind != IND_LISTEN_TCP)
        on_datagrams(watched->port->sockets[watched->index], 0, watched);
    look_for_drops(receiver, watched, true);
    event_free(watched->event);
}

static bool has_port(const struct ind_rules *rules, const struct ind_port *port)
{
    for (size_t i = 0; i < rules->port_count; i++)
        if (rules->ports[i] == port)
            return true;
    return false;
}

/* `watched` elements are known to events by their place: they are all made anew. */
static void watch_ports(struct ind_receiver *receiver, const struct ind_rules *rules)
{
    for (size_t i = 0; i < receiver->watched_count; i++) {
        if (has_port(rules, receiver->watched[i].port))
            event_free(receiver->watched[i].event);
        else
            unwatch(receiver, &receiver->watched[i]);
    }
    receiver->watched_count = 0;
    receiver->paused = false;
    for (size_t i = 0; i < rules->port_count; i++)
        watch(receiver, rules->ports[i]);
    struct ind_guest *guest, *next;
    DL_FOREACH_SAFE(receiver->guests, guest, next)
    if (!has_port(rules, guest->port) || !ind_config_allows(rules->config, &guest->sender))
        see_off_now(receiver, guest);
}

static void take_rules(struct ind_receiver *receiver, struct ind_mark *mark)
{
    pass_on(receiver);
    if (receiver->batch) { /* empty, but it may know groups of the old rules */
        ind_batch_clear(receiver->batch);
    }
    receiver->rules = mark->rules;
    receiver->intake = mark->rules->intakes[receiver->number];
    watch_ports(receiver, mark->rules);
    ind_ring_mark(receiver->collector->rings, receiver->number, mark);
    if (atomic_fetch_sub(&receiver->collector->receivers_behind, 1) == 1)
        ind_control_knock(receiver->collector->control);
}

static void give_sheet(struct ind_receiver *receiver, struct ind_mark *mark)
{
    const char *bytes;
    pass_on(receiver);
    ind_receiver_sheet(receiver, mark->sheet);
    /* The message at the head is in the account already where some of its lines have gone on. */
    if (receiver->tallied)
        mark->sheet->waiting[ind_burst_first(receiver->burst, &bytes)->listener]--;
    mark->sheet->count = ind_accounts_count(receiver->collector->accounts[receiver->number]);
    ind_ring_mark(receiver->collector->rings, receiver->number, mark);
}

void ind_receiver_sheet(const struct ind_receiver *receiver, struct ind_sheet *sheet)
{
    memcpy(sheet->received, receiver->counts.received, sizeof sheet->received);
    memcpy(sheet->bytes, receiver->counts.bytes, sizeof sheet->bytes);
    memcpy(sheet->lost_buffer, receiver->counts.lost_buffer, sizeof sheet->lost_buffer);
    memcpy(sheet->waiting, receiver->counts.waiting, sizeof sheet->waiting);
}

static void take_own_messages(struct ind_receiver *receiver)
{
    char *own[OWN_MESSAGES];
    pthread_mutex_lock(&receiver->mailbox);
    size_t count = receiver->own_count, lost = receiver->own_lost;
    memcpy(own, receiver->own, sizeof own);
    receiver->own_count = receiver->own_lost = 0;
    pthread_mutex_unlock(&receiver->mailbox);
    for (; lost > 0; lost--)
        lose_record(receiver, IND_NAME_INTERNAL, 0);
    for (size_t i = 0; i < count; i++) {
        struct ind_record record = {.length = (uint32_t)strlen(own[i]),
                                    .listener = IND_NAME_INTERNAL,
                                    .transport = IND_TRANSPORT_INTERNAL,
                                    .received = ind_now()};
        struct ind_slice text = {own[i], record.length};
        if (!keep_record(receiver, &record, text, IND_NOTHING))
            lose_record(receiver, IND_NAME_INTERNAL, record.length);
        free(own[i]);
    }
}

static void take_arriving(struct ind_receiver *receiver)
{
    pthread_mutex_lock(&receiver->mailbox);
    struct ind_guest *guest = receiver->arriving;
    receiver->arriving = NULL;
    pthread_mutex_unlock(&receiver->mailbox);
    while (guest) {
        struct ind_guest *next = guest->next;
        welcome(receiver, guest);
        guest = next;
    }
}

/* Between two messages only; new rules also not within one that waits for room. */
static void take_orders(struct ind_receiver *receiver)
{
    struct ind_mark *mark = atomic_exchange(&receiver->sheet_order, NULL);
    if (mark)
        give_sheet(receiver, mark);
    if (!receiver->tallied && (mark = atomic_exchange(&receiver->rules_order, NULL)))
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
        look_for_drops(receiver, &receiver->watched[i], false);
    if (receiver->number == 0)
        ind_slabs_trim(receiver->collector->slabs);
}

static void on_retry(evutil_socket_t socket, short what, void *context)
{
    static const struct timeval soon = {0, RETRY_MILLISECONDS * 1000};
    struct ind_receiver *receiver = context;
    bool waits = false;
    (void)socket;
    (void)what;
    if (receiver->paused && datagram_room(receiver) > 0) {
        receiver->paused = false;
        for (size_t i = 0; i < receiver->watched_count; i++)
            (void)event_add(receiver->watched[i].event, NULL);
    }
    struct ind_guest *guest, *next;
    DL_FOREACH_SAFE(receiver->guests, guest, next)
    {
        if (!guest->held)
            continue;
        if (streams_must_wait(receiver, guest)) {
            waits = true;
            break;
        }
        guest->held = false;
        (void)event_add(guest->event, NULL);
        if (guest->left)
            (void)feed_guest(receiver, guest, IND_NOTHING);
    }
    if (receiver->paused || waits)
        (void)event_add(receiver->on_retry, &soon);
}

void ind_receiver_wake(struct ind_receiver *receiver)
{
    /* A full pipe wakes as well. */
    while (write(receiver->wake[1], "", 1) < 0 && errno == EINTR)
        ;
}

void ind_receiver_order_sheet(struct ind_receiver *receiver, struct ind_mark *mark)
{
    atomic_store(&receiver->sheet_order, mark);
    ind_receiver_wake(receiver);
}

void ind_receiver_order_rules(struct ind_receiver *receiver, struct ind_mark *mark)
{
    atomic_store(&receiver->rules_order, mark);
    ind_receiver_wake(receiver);
}

void ind_receiver_say(struct ind_receiver *receiver, struct ind_slice text)
{
    char *copy = malloc(text.length + 1);
    pthread_mutex_lock(&receiver->mailbox);
    if (copy && receiver->own_count < OWN_MESSAGES) {
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
static void note_pause(struct ind_receiver *receiver, ind_time until)
{
    uint64_t pause = receiver->looked ? (uint64_t)(until - receiver->looked) : 0;
    if (pause > atomic_load_explicit(&receiver->longest_pause, memory_order_relaxed))
        atomic_store_explicit(&receiver->longest_pause, pause, memory_order_relaxed);
}

static void turn(struct ind_receiver *receiver)
{
    const char *bytes;
    bool work = ind_burst_first(receiver->burst, &bytes) && have_batch(receiver);
    bool unsent = receiver->batch && !ind_batch_is_empty(receiver->batch);
    bool ending = atomic_load(&receiver->collector->stop);
    note_pause(receiver, steady_now());
    receiver->any = false;
    receiver->tapped = ind_tap_is_open(receiver->collector->tap);
    (void)event_base_loop(receiver->base, work || unsent || ending ? EVLOOP_NONBLOCK : EVLOOP_ONCE);
    receiver->looked = steady_now();
    take_arriving(receiver);
    take_own_messages(receiver);
    take_slice(receiver);
    pass_on_in_time(receiver);
    take_orders(receiver);
    atomic_store_explicit(&receiver->burst_count, receiver->in_burst, memory_order_relaxed);
}

static bool any_held(const struct ind_receiver *receiver)
{
    const struct ind_guest *guest;
    DL_FOREACH(receiver->guests, guest)
    if (guest->held)
        return true;
    return false;
}

/* What stands in the sockets when the end comes is taken too, for a bounded time. */
static void drain(struct ind_receiver *receiver)
{
    ind_time until = steady_now() + DRAIN_SECONDS * IND_SECOND;
    bool more;
    for (size_t i = 0; i < receiver->watched_count; i++)
        if (receiver->watched[i].port->kind == IND_LISTEN_TCP)
            (void)event_del(receiver->watched[i].event);
    do {
        if (!receiver->batch)
            receiver->batch = ind_ring_empty(receiver->collector->rings, receiver->number, 5);
        turn(receiver);
        more = receiver->any || receiver->paused || any_held(receiver);
    } while (more && steady_now() < until);
    struct ind_guest *guest, *next;
    DL_FOREACH_SAFE(receiver->guests, guest, next)
    {
        if (guest->left)
            (void)ind_guest_feed(guest, IND_NOTHING, take_from_guest, receiver);
        see_off_now(receiver, guest);
    }
}

/* The writer takes all of it, or has given up and takes it as lost: either way it ends. */
static void finish_burst(struct ind_receiver *receiver)
{
    const char *bytes;
    while (ind_burst_first(receiver->burst, &bytes) || receiver->tallied) {
        if (!receiver->batch)
            receiver->batch = ind_ring_empty(receiver->collector->rings, receiver->number, 100);
        take_slice(receiver);
        take_orders(receiver);
    }
    take_orders(receiver);
    pass_on(receiver);
}

void ind_receiver_begin(struct ind_receiver *receiver, struct ind_rules *rules)
{
    receiver->rules = rules;
    receiver->intake = rules->intakes[receiver->number];
}

void *ind_receive(void *argument)
{
    static const struct timeval second = {1, 0};
    struct ind_receiver *receiver = argument;
    watch_ports(receiver, receiver->rules);
    (void)event_add(receiver->on_wake, NULL);
    (void)event_add(receiver->on_tick, &second);
    while (!atomic_load(&receiver->collector->stop))
        turn(receiver);
    drain(receiver);
    finish_burst(receiver);
    for (size_t i = 0; i < receiver->watched_count; i++) {
        look_for_drops(receiver, &receiver->watched[i], true);
        event_free(receiver->watched[i].event);
    }
    receiver->watched_count = 0;
    ind_ring_end(receiver->collector->rings, receiver->number);
    return NULL;
}

/* Connections that the process may have open, with some files left for all else. */
static size_t most_connections(void)
{
    enum { WANTED = 10000 };
    struct rlimit limit;
    if (getrlimit(RLIMIT_NOFILE, &limit) != 0 || limit.rlim_cur == RLIM_INFINITY ||
        limit.rlim_cur / 2 > WANTED)
        return WANTED;
    return (size_t)(limit.rlim_cur / 2);
}

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

static bool make(struct ind_receiver *receiver)
{
    if (pipe(receiver->wake) != 0)
        return false;
    ind_socket_set_flags(receiver->wake[0]);
    ind_socket_set_flags(receiver->wake[1]);
    receiver->base = new_base();
    receiver->burst = ind_burst_new(receiver->collector->slabs);
    receiver->datagrams = ind_udp_batch_new();
    receiver->scratch = malloc(SCRATCH);
    if (receiver->number == 0 && !(receiver->door = ind_door_new(most_connections())))
        return false;
    if (!receiver->base || !receiver->burst || !receiver->datagrams || !receiver->scratch)
        return false;
    receiver->on_wake = event_new(receiver->base, receiver->wake[0], EV_READ | EV_PERSIST, on_wake, receiver);
    receiver->on_tick = event_new(receiver->base, -1, EV_PERSIST, on_tick, receiver);
    receiver->on_retry = event_new(receiver->base, -1, 0, on_retry, receiver);
    if (receiver->on_wake)
        (void)event_priority_set(receiver->on_wake, PRIORITY_DATAGRAMS);
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
        struct ind_guest *next = receiver->arriving->next;
        ind_guest_free(receiver->arriving);
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
    ind_door_free(receiver->door);
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
        atomic_load(&receiver->burst_count)};
}
