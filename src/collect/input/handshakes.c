#include "collect/input/handshakes.h"

#include "collect/input/streams.h"
#include "core/base/escape.h"
#include "core/message/names.h"
#include <event2/event.h>
#include <stdlib.h>
#include <sys/socket.h>
#include <utlist.h>

enum { REPORT_AGAIN = 60 };

struct ind_guest {
    struct ind_guest *next, *prev;
    struct ind_handshakes *handshakes;
    struct ind_connection *connection;
    struct ind_tls *tls;
    struct event *event;
    short waits_for; /* EV_READ or EV_WRITE */
    struct ind_steady since;
};

/* ---- Who goes ---- */

/* The guest is gone; the connection is the caller's. */
static struct ind_connection *take_out(struct ind_guest *guest)
{
    struct ind_connection *connection = guest->connection;
    struct ind_handshakes *handshakes = guest->handshakes;
    if (guest->event)
        event_free(guest->event);
    DL_DELETE(handshakes->list, guest); /* NOLINT: it is in the list */
    handshakes->count--;
    ind_tls_release(guest->tls);
    free(guest);
    return connection;
}

/* What it has sent meanwhile is taken out first: a socket that is closed with something in it takes back what
 * we have said last, and that was the reason. */
static void send_away(struct ind_guest *guest)
{
    char rest[4096];
    struct ind_connection *connection = take_out(guest);
    (void)!recv(connection->socket, rest, sizeof rest, MSG_DONTWAIT);
    ind_admission_leave(connection->admission, &connection->sender);
    ind_connection_free(connection);
}

/* Text of a stranger, for a report. */
static void write_peer(struct ind_buffer *out, const struct ind_tls_session *session)
{
    struct ind_slice peer = session ? ind_tls_peer(session) : IND_NOTHING;
    if (peer.length == 0)
        return;
    ind_buffer_text(out, " (");
    ind_escape_column(out, peer);
    ind_buffer_byte(out, ')');
}

/* Each reason of each listener once a minute. */
static void fail(struct ind_guest *guest, enum ind_tls_failure failure)
{
    const struct ind_connection *connection = guest->connection;
    struct ind_listener *listener = connection->listener;
    const struct ind_handshakes *handshakes = guest->handshakes;
    const struct ind_tls_session *session = connection->tls;
    const char *detail = session ? ind_tls_failure_detail(session) : "";
    char address[IND_ADDRESS_WIDTH], text[4 * IND_TLS_PEER_WIDTH + 8];
    struct ind_buffer peer = ind_buffer_on(text, sizeof text);
    atomic_fetch_add(&listener->failed[failure], 1);
    write_peer(&peer, session);
    if (!ind_steady_reported_lately(&listener->failure_reported[failure],
                                    ind_clock_read(handshakes->clock).steady, REPORT_AGAIN * IND_SECOND))
        ind_report(handshakes->reporter, IND_OWN_TLS_FAILED,
                   IND_WITH({"listener", ind_slice_of(listener->text)},
                            {"sender", ind_slice_of(ind_address_text(&connection->sender, address))},
                            {"reason", ind_slice_of(ind_tls_failure_key(failure))},
                            {"certificate", session ? ind_tls_peer(session) : IND_NOTHING}),
                   "%s: no TLS with %s%.*s: %s%s%s%s", listener->text,
                   ind_address_text(&connection->sender, address), (int)peer.length, text,
                   ind_tls_failure_text(failure), *detail ? " (" : "", detail, *detail ? ")" : "");
    send_away(guest);
}

/* ---- One step ---- */

static void on_ready(evutil_socket_t socket, short what, void *context);

static bool wait_for(struct ind_guest *guest, short what)
{
    if (guest->event && guest->waits_for == what)
        return true;
    if (guest->event)
        event_free(guest->event);
    guest->waits_for = what;
    guest->event = event_new(guest->handshakes->base, guest->connection->socket, (short)(what | EV_PERSIST),
                             on_ready, guest);
    return guest->event && event_add(guest->event, NULL) == 0;
}

static void finish(struct ind_guest *guest)
{
    struct ind_handshakes *handshakes = guest->handshakes;
    struct ind_connection *connection = take_out(guest);
    atomic_fetch_add(&connection->listener->shaken, 1);
    handshakes->done(handshakes->context, connection);
}

/* What the library needs for a connection is made once something comes: who only connects costs little. */
static void on_ready(evutil_socket_t socket, short what, void *context)
{
    struct ind_guest *guest = context;
    struct ind_connection *connection = guest->connection;
    (void)what;
    if (!connection->tls && !(connection->tls = ind_tls_session_new(guest->tls, socket))) {
        fail(guest, IND_TLS_OTHERWISE);
        return;
    }
    enum ind_tls_step step = ind_tls_handshake(connection->tls);
    if (step == IND_TLS_DONE)
        finish(guest);
    else if (step == IND_TLS_FAILED)
        fail(guest, ind_tls_failure(connection->tls));
    else if (!wait_for(guest, step == IND_TLS_WANTS_TO_WRITE ? EV_WRITE : EV_READ))
        fail(guest, IND_TLS_OTHERWISE);
}

/* ---- All of them ---- */

void ind_handshakes_add(struct ind_handshakes *handshakes, struct ind_connection *connection,
                        struct ind_tls *tls)
{
    struct ind_guest *guest = calloc(1, sizeof *guest);
    if (!guest) {
        ind_admission_leave(connection->admission, &connection->sender);
        ind_connection_free(connection);
        return;
    }
    if (handshakes->count >= handshakes->limits.handshakes)
        fail(handshakes->list, IND_TLS_CROWDED_OUT);
    *guest = (struct ind_guest){.handshakes = handshakes,
                                .connection = connection,
                                .tls = ind_tls_hold(tls),
                                .since = ind_clock_read(handshakes->clock).steady};
    DL_APPEND(handshakes->list, guest);
    handshakes->count++;
    if (!wait_for(guest, EV_READ))
        fail(guest, IND_TLS_OTHERWISE);
}

void ind_handshakes_end_late(struct ind_handshakes *handshakes)
{
    const struct ind_steady now = ind_clock_read(handshakes->clock).steady;
    while (handshakes->list && ind_steady_from(handshakes->list->since, now) >= handshakes->limits.handshake)
        fail(handshakes->list, IND_TLS_TOO_SLOW);
}

void ind_handshakes_adopt(struct ind_handshakes *handshakes, const struct ind_listener_set *set)
{
    struct ind_guest *guest, *next;
    handshakes->limits = set->config->limits;
    DL_FOREACH_SAFE(handshakes->list, guest, next)
    {
        struct ind_listener *listener = ind_listener_set_successor(set, guest->connection->listener);
        if (!listener || !ind_config_allows(set->config, &guest->connection->sender))
            send_away(guest);
        else
            guest->connection->listener = listener;
    }
}

void ind_handshakes_end(struct ind_handshakes *handshakes)
{
    while (handshakes->list)
        send_away(handshakes->list);
}
