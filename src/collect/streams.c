/* collect/streams.c: the connections of a receiver: who comes in, what they say, and how they leave. */
#include "collect/receiver.h"
#include "core/message/names.h"
#include "net/socket.h"

#include <errno.h>
#include <unistd.h>
#include <utlist.h>

enum { ACCEPTS = 64 };

static bool take_from_guest(void *context, const struct ind_connection *guest, struct ind_slice first,
                            struct ind_slice rest, bool cut)
{
    struct ind_receiver *receiver = context;
    struct ind_record record = {.length = (uint32_t)(first.length + rest.length),
                                .listener = guest->port->number,
                                .transport = IND_TRANSPORT_TCP,
                                .cut = cut,
                                .received = receiver->now.wall,
                                .moment = receiver->now.steady,
                                .sender = guest->sender};
    if (first.length == 0 && ind_take_at_once(receiver, &record, rest.at))
        return true;
    if (ind_keep_record(receiver, &record, first, rest))
        return true;
    if (!atomic_load(&guest->port->drop))
        return false;
    ind_lose_record(receiver, record.listener, record.length);
    return true;
}

/* ---- Connections ---- */

static bool told_lately(struct ind_steady *told)
{
    return ind_steady_told_lately(told, ind_steady_now(), IND_TELL_AGAIN * IND_SECOND);
}

static void address_text(const struct ind_address *address, char text[IND_ADDRESS_WIDTH])
{
    struct ind_buffer buffer = ind_buffer_on(text, IND_ADDRESS_WIDTH - 1);
    ind_address_write(&buffer, address);
    text[buffer.length] = '\0';
}

static void dismiss(struct ind_receiver *receiver, struct ind_connection *guest)
{
    if (guest->event)
        event_free(guest->event);
    DL_DELETE(receiver->guests, guest); /* NOLINT: it is in the list */
    atomic_fetch_sub(&receiver->connections, 1);
    ind_admission_leave(receiver->collector->receivers[0]->door, &guest->sender);
    ind_connection_free(guest);
}

static bool streams_must_wait(const struct ind_receiver *receiver, const struct ind_connection *guest)
{
    /* Each receiver has one slab in its hand also when nothing waits. */
    size_t spare = ind_slabs_count(receiver->collector->slabs) - receiver->collector->intakes;
    return !atomic_load(&guest->port->drop) && ind_slabs_left(receiver->collector->slabs) * 2 < spare;
}

static void hold(struct ind_receiver *receiver, struct ind_connection *guest)
{
    guest->held = true;
    (void)event_del(guest->event);
    ind_retry_soon(receiver);
}

static void tell_bad_count(struct ind_receiver *receiver, const struct ind_connection *guest)
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

/* The one whose message has been under way for the longest time: whoever sends a byte now and then is it. */
static struct ind_connection *slowest(const struct ind_receiver *receiver)
{
    struct ind_connection *guest, *found = NULL;
    DL_FOREACH(receiver->guests, guest)
    if (ind_steady_is_set(guest->since) && (!found || ind_steady_from(guest->since, found->since) > 0))
        found = guest;
    return found;
}

/* What half messages take is bounded for all connections together; what has come of one that is ended is a
 * message all the same. Each round ends one connection of this receiver's, so that the rounds end. */
static void make_room_for_halves(struct ind_receiver *receiver)
{
    const struct ind_collector *collector = receiver->collector;
    struct ind_connection *guest;
    while (ind_admission_held(collector->receivers[0]->door) > collector->halves_limit &&
           (guest = slowest(receiver))) {
        char text[IND_ADDRESS_WIDTH];
        atomic_fetch_add(&receiver->too_slow, 1);
        address_text(&guest->sender, text);
        if (!told_lately(&receiver->told_halves))
            ind_collect_tell(
                receiver->collector, IND_SEVERITY_WARNING,
                "%s: half messages of all connections fill the %zu KiB that there are for them: the "
                "one from %s, whose message has been under way for the longest time, is ended",
                guest->port->text, collector->halves_limit >> 10, text);
        ind_see_off_now(receiver, guest);
    }
}

/* False where the guest is gone. */
static bool feed_guest(struct ind_receiver *receiver, struct ind_connection *guest, struct ind_slice bytes)
{
    switch (ind_connection_feed(guest, bytes, take_from_guest, receiver)) {
    case IND_CONNECTION_FED:
        guest->since = guest->carried == 0               ? IND_STEADY_NEVER
                       : ind_steady_is_set(guest->since) ? guest->since
                                                         : ind_steady_now();
        return true;
    case IND_CONNECTION_FULL:
        hold(receiver, guest);
        return true;
    case IND_CONNECTION_BAD:
        tell_bad_count(receiver, guest);
    }
    dismiss(receiver, guest);
    return false;
}

/* The end of a connection; it stays a little where there is no room for its last words. */
static void see_off(struct ind_receiver *receiver, struct ind_connection *guest, bool broken_off)
{
    if (ind_connection_finish(guest, broken_off, take_from_guest, receiver))
        dismiss(receiver, guest);
    else
        hold(receiver, guest);
}

/* We end it, room or not. */
void ind_see_off_now(struct ind_receiver *receiver, struct ind_connection *guest)
{
    if (guest->left)
        (void)ind_connection_feed(guest, IND_NOTHING, take_from_guest, receiver);
    if (!ind_connection_finish(guest, true, take_from_guest, receiver))
        ind_lose_record(receiver, guest->port->number, guest->carried);
    dismiss(receiver, guest);
}

static void on_stream(evutil_socket_t socket, short what, void *context)
{
    struct ind_connection *guest = context;
    struct ind_receiver *receiver = guest->receiver;
    (void)what;
    if (streams_must_wait(receiver, guest)) {
        hold(receiver, guest);
        return;
    }
    ssize_t got = read(socket, receiver->scratch, IND_SCRATCH);
    if (got > 0) {
        receiver->any = true;
        receiver->now = ind_clocks_now();
        (void)feed_guest(receiver, guest, (struct ind_slice){receiver->scratch, (size_t)got});
        make_room_for_halves(receiver);
    } else if (got == 0 || (errno != EAGAIN && errno != EWOULDBLOCK && errno != EINTR)) {
        see_off(receiver, guest, got < 0);
    }
}

void ind_welcome(struct ind_receiver *receiver, struct ind_connection *guest)
{
    guest->receiver = receiver;
    guest->event = event_new(receiver->base, guest->socket, EV_READ | EV_PERSIST, on_stream, guest);
    DL_APPEND(receiver->guests, guest);
    atomic_fetch_add(&receiver->connections, 1);
    if (!guest->event || event_priority_set(guest->event, IND_PRIORITY_STREAMS) != 0 ||
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
    struct ind_connection *guest = NULL;
    if (!allowed || !ind_admission_enter(receiver->door, address)) {
        turn_away(receiver, port, address, allowed);
    } else if (!(guest = ind_connection_new(receiver->door, port, socket, address))) {
        ind_admission_leave(receiver->door, address);
        turn_away(receiver, port, address, true);
    }
    if (!guest) {
        close(socket);
        return;
    }
    atomic_fetch_add(&receiver->accepted, 1);
    unsigned number = receiver->next_receiver++ % collector->intakes;
    if (number == receiver->number)
        ind_welcome(receiver, guest);
    else
        ind_receiver_hand(collector->receivers[number], guest);
}

/* Without a descriptor to spare it would be called again at once, and for ever. */
static void pause_listening(const struct ind_watched *watched)
{
    if (!told_lately(&watched->receiver->told_descriptors))
        ind_collect_tell(
            watched->receiver->collector, IND_SEVERITY_WARNING,
            "%s: no descriptor or memory is left for another connection: new ones wait until there "
            "is; a higher limit of open files (LimitNOFILE, ulimit -n) gives room",
            watched->port->text);
    watched->receiver->paused = true;
    (void)event_del(watched->event);
    ind_retry_soon(watched->receiver);
}

void ind_on_connection(evutil_socket_t socket, short what, void *context)
{
    const struct ind_watched *watched = context;
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

void ind_receiver_hand(struct ind_receiver *receiver, struct ind_connection *guest)
{
    pthread_mutex_lock(&receiver->mailbox);
    guest->next = receiver->arriving;
    receiver->arriving = guest;
    pthread_mutex_unlock(&receiver->mailbox);
    ind_receiver_wake(receiver);
}

bool ind_streams_retry(struct ind_receiver *receiver)
{
    struct ind_connection *guest, *next;
    DL_FOREACH_SAFE(receiver->guests, guest, next)
    {
        if (!guest->held)
            continue;
        if (streams_must_wait(receiver, guest))
            return true;
        guest->held = false;
        (void)event_add(guest->event, NULL);
        if (guest->left)
            (void)feed_guest(receiver, guest, IND_NOTHING);
    }
    return false;
}

bool ind_any_held(const struct ind_receiver *receiver)
{
    const struct ind_connection *guest;
    DL_FOREACH(receiver->guests, guest)
    if (guest->held)
        return true;
    return false;
}
