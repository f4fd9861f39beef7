#include "collect/input/door.h"

#include "collect/input/accept.h"
#include "collect/input/handshakes.h"
#include "collect/runtime/priority.h"
#include "core/message/names.h"
#include "net/waker.h"
#include <event2/event.h>
#include <stdlib.h>

enum { DESCRIPTOR_MILLISECONDS = 100 /* between two looks for descriptors */ };

/* A socket at which connections wait. */
struct entrance {
    struct ind_door *door;
    struct ind_listener *listener;
    struct event *event;
};

struct ind_door {
    struct ind_receivers *all;
    const struct ind_listener_set *set; /* the present one */
    struct ind_socket_table sockets;
    struct ind_acceptor acceptor;
    struct ind_handshakes handshakes;
    struct ind_peers *peers;
    unsigned next; /* the receiver that gets the next connection */
    struct entrance entrances[IND_MOST_LISTENERS_OPEN];
    size_t entrance_count;
    bool no_descriptor; /* entrances are not looked at until on_descriptor */

    struct event_base *base;
    struct event *on_wake, *on_descriptor, *on_tick;
    struct ind_waker waker;
    struct ind_pulse pulse;
    _Atomic(const struct ind_listener_set *) order; /* set by control, taken by itself */
};

/* ---- Entrances ---- */

static void set_watching(struct ind_door *door, bool on)
{
    for (size_t i = 0; i < door->entrance_count; i++) {
        struct event *event = door->entrances[i].event;
        if (on)
            (void)event_add(event, NULL);
        else
            (void)event_del(event);
    }
}

static void on_knock(evutil_socket_t socket, short what, void *context)
{
    static const struct timeval soon = {0, DESCRIPTOR_MILLISECONDS * 1000};
    struct entrance *entrance = context;
    struct ind_door *door = entrance->door;
    (void)what;
    if (ind_accept(&door->acceptor, entrance->listener, socket) != IND_ACCEPT_NO_DESCRIPTOR)
        return;
    door->no_descriptor = true;
    set_watching(door, false);
    (void)event_add(door->on_descriptor, &soon);
}

static void on_descriptor(evutil_socket_t socket, short what, void *context)
{
    struct ind_door *door = context;
    (void)socket;
    (void)what;
    if (door->no_descriptor)
        set_watching(door, true);
    door->no_descriptor = false;
}

static void open_entrance(struct ind_door *door, struct ind_listener *listener)
{
    struct entrance *entrance = &door->entrances[door->entrance_count];
    *entrance = (struct entrance){.door = door, .listener = listener};
    entrance->event = event_new(door->base, listener->sockets[0], EV_READ | EV_PERSIST, on_knock, entrance);
    if (entrance->event && event_add(entrance->event, NULL) == 0) {
        door->entrance_count++;
        return;
    }
    if (entrance->event)
        event_free(entrance->event);
    ind_report(door->all->reporter, IND_OWN_OUT_OF_MEMORY,
               IND_WITH({"listener", ind_slice_of(listener->text)}), "out of memory: %s is not listened on",
               listener->text);
}

static void close_entrances(struct ind_door *door)
{
    for (size_t i = 0; i < door->entrance_count; i++)
        event_free(door->entrances[i].event);
    door->entrance_count = 0;
}

/* Closed at once: as long as it is open the kernel can choose it for who comes to its successor. Whoever has
 * come already is let in. */
static void leave(struct ind_door *door, const struct ind_listener_set *set)
{
    for (size_t i = 0; i < door->entrance_count; i++) {
        struct ind_listener *listener = door->entrances[i].listener;
        if (ind_listener_set_has(set, listener))
            continue;
        (void)ind_accept(&door->acceptor, listener, listener->sockets[0]);
        (void)event_del(door->entrances[i].event);
        ind_listener_close_socket(listener, 0);
    }
}

/* Events know their entrance by its place: all are made anew. */
static void adopt(struct ind_door *door, const struct ind_listener_set *set)
{
    leave(door, set);
    close_entrances(door);
    door->no_descriptor = false;
    ind_handshakes_adopt(&door->handshakes, set);
    door->set = set;
    door->acceptor.config = set->config;
    ind_admission_set_limits(door->all->admission, &set->config->limits, door->all->connections);
    for (size_t i = 0; i < set->count; i++)
        if (ind_listener_connects(set->list[i]))
            open_entrance(door, set->list[i]);
}

static void take_order(struct ind_door *door)
{
    const struct ind_listener_set *set = atomic_exchange(&door->order, NULL);
    if (!set)
        return;
    adopt(door, set);
    atomic_store(&door->all->admitting, set);
    ind_receivers_wake(door->all);
    ind_receivers_note_adopted(door->all);
}

/* ---- The thread ---- */

static void hand_over(void *context, struct ind_connection *connection)
{
    struct ind_door *door = context;
    ind_receiver_take(door->all->list[door->next++ % door->all->count], connection);
}

static void note_peer(void *context, struct ind_connection *connection)
{
    struct ind_door *door = context;
    ind_peers_note(door->peers, ind_tls_peer(connection->tls), connection->listener->number,
                   &connection->sender, ind_clock_read(door->all->clock).wall);
    hand_over(door, connection);
}

/* Who has to show who he is first does so here. */
static void welcome(void *context, struct ind_connection *connection)
{
    struct ind_door *door = context;
    struct ind_tls *tls = door->set->tls[ind_listener_set_index(door->set, connection->listener)];
    if (tls)
        ind_handshakes_add(&door->handshakes, connection, tls);
    else
        hand_over(door, connection);
}

static void on_tick(evutil_socket_t socket, short what, void *context)
{
    struct ind_door *door = context;
    (void)socket;
    (void)what;
    ind_handshakes_end_late(&door->handshakes);
}

static void on_wake(evutil_socket_t socket, short what, void *context)
{
    const struct ind_door *door = context;
    (void)socket;
    (void)what;
    ind_waker_drain(&door->waker);
}

void *ind_door_run(void *argument)
{
    static const struct timeval second = {1, 0};
    struct ind_door *door = argument;
    ind_priority_yield_processor();
    (void)event_add(door->on_wake, NULL);
    (void)event_add(door->on_tick, &second);
    adopt(door, door->set);
    while (!ind_is_stopping(door->all->lifecycle)) {
        ind_pulse_beat(&door->pulse, ind_clock_read(door->all->clock).steady);
        (void)event_base_loop(door->base, EVLOOP_ONCE);
        take_order(door);
    }
    if (atomic_exchange(&door->order, NULL)) /* nobody is to wait for it */
        ind_receivers_note_adopted(door->all);
    /* Whoever stands there has spoken, maybe; but nobody can finish a handshake any more. */
    for (size_t i = 0; i < door->entrance_count; i++)
        (void)ind_accept(&door->acceptor, door->entrances[i].listener,
                         door->entrances[i].listener->sockets[0]);
    close_entrances(door);
    ind_handshakes_end(&door->handshakes);
    atomic_store(&door->all->door_closed, true);
    ind_receivers_wake(door->all);
    return NULL;
}

void ind_door_order_listeners(struct ind_door *door, const struct ind_listener_set *set)
{
    atomic_store(&door->order, set);
    ind_waker_wake(&door->waker);
}

void ind_door_wake(const struct ind_door *door)
{
    ind_waker_wake(&door->waker);
}

const struct ind_pulse *ind_door_pulse(const struct ind_door *door)
{
    return &door->pulse;
}

struct ind_peers *ind_door_peers(const struct ind_door *door)
{
    return door->peers;
}

void ind_door_facts(const struct ind_door *door, struct ind_door_facts *facts)
{
    const struct ind_accept_facts *own = &door->acceptor.facts;
    *facts = (struct ind_door_facts){atomic_load(&own->accepted), atomic_load(&own->turned_away),
                                     atomic_load(&own->not_allowed)};
}

/* ---- Made and ended ---- */

struct ind_door *ind_door_new(struct ind_receivers *receivers, const struct ind_listener_set *set)
{
    struct ind_door *door = calloc(1, sizeof *door);
    if (!door)
        return NULL;
    door->all = receivers;
    door->set = set;
    door->waker = IND_WAKER_CLOSED;
    door->acceptor.admission = receivers->admission;
    door->acceptor.sockets = &door->sockets;
    door->acceptor.clock = receivers->clock;
    door->acceptor.reporter = receivers->reporter;
    door->acceptor.admitted = welcome;
    door->acceptor.context = door;
    bool good = ind_socket_table_begin_system(&door->sockets) && (door->peers = ind_peers_new()) &&
                (door->base = event_base_new()) && ind_waker_open(&door->waker);
    if (good) {
        door->on_wake = event_new(door->base, door->waker.read_end, EV_READ | EV_PERSIST, on_wake, door);
        door->on_descriptor = event_new(door->base, -1, 0, on_descriptor, door);
        door->on_tick = event_new(door->base, -1, EV_PERSIST, on_tick, door);
        door->handshakes = (struct ind_handshakes){.base = door->base,
                                                   .clock = receivers->clock,
                                                   .reporter = receivers->reporter,
                                                   .done = note_peer,
                                                   .context = door};
    }
    if (good && door->on_wake && door->on_descriptor && door->on_tick)
        return door;
    ind_door_free(door);
    return NULL;
}

void ind_door_free(struct ind_door *door)
{
    if (!door)
        return;
    close_entrances(door);
    ind_handshakes_end(&door->handshakes);
    if (door->on_wake)
        event_free(door->on_wake);
    if (door->on_descriptor)
        event_free(door->on_descriptor);
    if (door->on_tick)
        event_free(door->on_tick);
    if (door->base)
        event_base_free(door->base);
    ind_peers_free(door->peers);
    ind_waker_close(&door->waker);
    ind_socket_table_end_system(&door->sockets);
    free(door);
}
