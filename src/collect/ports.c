/* collect/ports.c: the listeners of a receiver, and what comes in by datagrams. */
#include "collect/receiver.h"
#include "core/message/names.h"
#include "net/udp.h"

#include <unistd.h>
#include <utlist.h>

enum {
    ROUNDS = 128,      /* calls for datagrams in a row on one socket: it is to be emptied */
    WORST_RECORDS = 15 /* of 64 KiB in a slab */
};

/* How many of the largest datagrams there is room for. */
int ind_datagram_room(const struct ind_receiver *receiver)
{
    size_t left = ind_slabs_left(receiver->collector->slabs);
    size_t most = left * WORST_RECORDS;
    return most < IND_UDP_BATCH ? (int)most : IND_UDP_BATCH;
}

static void pause_datagrams(struct ind_receiver *receiver)
{
    receiver->paused = true;
    for (size_t i = 0; i < receiver->watched_count; i++)
        if (receiver->watched[i].port->kind == IND_LISTEN_UDP)
            (void)event_del(receiver->watched[i].event);
    ind_retry_soon(receiver);
}

/* Where the socket is empty now there is time for them. */
static void take_datagrams(struct ind_receiver *receiver, const struct ind_watched *watched, int count,
                           bool at_once)
{
    bool local = watched->port->kind == IND_LISTEN_UNIX;
    const struct ind_clocks now = ind_clocks_now();
    for (int i = 0; i < count; i++) {
        struct ind_datagram datagram = ind_udp_datagram(receiver->datagrams, i);
        struct ind_record record = {.length = (uint32_t)datagram.length,
                                    .listener = watched->port->number,
                                    .cut = datagram.cut,
                                    .transport = local ? IND_TRANSPORT_UNIX : IND_TRANSPORT_UDP,
                                    .received =
                                        datagram.received != IND_TIME_NONE ? datagram.received : now.wall,
                                    .moment = now.steady,
                                    .sender = datagram.sender};
        struct ind_slice bytes = {datagram.bytes, datagram.length};
        if (at_once && ind_take_at_once(receiver, &record, datagram.bytes))
            continue;
        if (!ind_keep_record(receiver, &record, bytes, IND_NOTHING))
            ind_lose_record(receiver, record.listener, record.length);
    }
    receiver->any |= count > 0;
}

/* Local programs are not made to wait: what they send when all is full is lost, and counted. */
static void on_datagrams(evutil_socket_t socket, short what, void *context)
{
    const struct ind_watched *watched = context;
    struct ind_receiver *receiver = watched->receiver;
    (void)what;
    for (int round = 0; round < ROUNDS; round++) {
        int most = ind_datagram_room(receiver);
        if (most == 0 && watched->port->kind == IND_LISTEN_UDP) {
            pause_datagrams(receiver);
            return;
        }
        most = most ? most : IND_UDP_BATCH;
        int count =
            ind_udp_receive(socket, watched->port->kind == IND_LISTEN_UNIX, receiver->datagrams, most);
        if (count <= 0)
            return;
        take_datagrams(receiver, watched, count, count < most);
        if (count < most)
            return;
    }
}

/* ---- Listeners ---- */

static void watch(struct ind_receiver *receiver, struct ind_port *port)
{
    /* The first receiver takes connections and hands them out. */
    unsigned only = port->kind == IND_LISTEN_TCP ? 0 : port->number % receiver->collector->intakes;
    bool mine = port->shared || only == receiver->number;
    if (!mine || receiver->watched_count == IND_MOST_PORTS)
        return;
    struct ind_watched *watched = &receiver->watched[receiver->watched_count];
    *watched =
        (struct ind_watched){receiver, port, NULL, port->shared ? receiver->number : 0, 0, IND_STEADY_NEVER};
    watched->event = event_new(receiver->base, port->sockets[watched->index], EV_READ | EV_PERSIST,
                               port->kind == IND_LISTEN_TCP ? ind_on_connection : on_datagrams, watched);
    if (watched->event &&
        event_priority_set(watched->event, port->kind == IND_LISTEN_TCP ? IND_PRIORITY_STREAMS
                                                                        : IND_PRIORITY_DATAGRAMS) == 0 &&
        event_add(watched->event, NULL) == 0)
        receiver->watched_count++;
    else
        ind_collect_tell(receiver->collector, IND_SEVERITY_CRITICAL, "out of memory: %s is not listened on",
                         port->text);
}

/* Told at once, then once a minute while it goes on, and at the end. */
void ind_look_for_drops(struct ind_receiver *receiver, struct ind_watched *watched, bool last)
{
    if (watched->port->kind != IND_LISTEN_UDP)
        return;
    uint64_t dropped = ind_udp_dropped(watched->port->sockets[watched->index]);
    atomic_store(&watched->port->kernel_dropped[watched->index], dropped);
    if (dropped == watched->told_dropped ||
        (!last && ind_steady_lately(watched->told_at, ind_steady_now(), IND_TELL_AGAIN * IND_SECOND)))
        return;
    ind_collect_tell(receiver->collector, IND_SEVERITY_WARNING,
                     "%s: the kernel has dropped %llu datagrams since the start, because they came faster "
                     "than they were read; a larger net.core.rmem_max gives room for bursts",
                     watched->port->text, (unsigned long long)dropped);
    watched->told_dropped = dropped;
    watched->told_at = ind_steady_now();
}

/* What stands in a socket is read before it goes. Events know their element of `watched` by its place: all
 * are made anew. */
void ind_watch_ports(struct ind_receiver *receiver, const struct ind_rules *rules)
{
    bool gone[IND_MOST_PORTS] = {false};
    for (size_t i = 0; i < receiver->watched_count; i++) {
        struct ind_watched *watched = &receiver->watched[i];
        if (ind_rules_have_port(rules, watched->port))
            continue;
        if (watched->port->kind != IND_LISTEN_TCP)
            on_datagrams(watched->port->sockets[watched->index], 0, watched);
        ind_look_for_drops(receiver, watched, true);
        gone[i] = true;
    }
    for (size_t i = 0; i < receiver->watched_count; i++) {
        struct ind_port *port = receiver->watched[i].port;
        event_free(receiver->watched[i].event);
        /* At once: as long as it is open the kernel can choose it for what is meant for its successor. */
        if (gone[i]) {
            close(port->sockets[receiver->watched[i].index]);
            port->sockets[receiver->watched[i].index] = -1;
        }
    }
    receiver->watched_count = 0;
    receiver->paused = false;
    for (size_t i = 0; i < rules->port_count; i++)
        watch(receiver, rules->ports[i]);
    struct ind_connection *guest, *next;
    DL_FOREACH_SAFE(receiver->guests, guest, next)
    {
        struct ind_port *port = ind_rules_successor(rules, guest->port);
        if (!port || !ind_config_allows(rules->config, &guest->sender))
            ind_see_off_now(receiver, guest);
        else
            guest->port = port;
    }
}
