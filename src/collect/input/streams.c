#include "collect/input/streams.h"

#include "collect/runtime/reporter.h"
#include "core/message/names.h"
#include "net/tls_session.h"
#include <errno.h>
#include <event2/event.h>
#include <stdlib.h>
#include <utlist.h>

enum {
    SCRATCH = 256 << 10,
    RETRY_MILLISECONDS = 10,
    REPORT_AGAIN = 60,
    ONE_LOOK = 1 << 20,      /* bytes that are read before the receiver goes on with its other work */
    MOST_PUT_OFF = 8,        /* reads: whatever waits, and however much others send */
    JOIN_MILLISECONDS = 700, /* with the time between two looks and some to spare, less than a second */
};

bool ind_streams_begin(struct ind_streams *streams)
{
    streams->scratch = malloc(SCRATCH);
    return streams->scratch != NULL;
}

void ind_streams_end(struct ind_streams *streams)
{
    while (streams->list) {
        struct ind_connection *connection = streams->list;
        DL_DELETE(streams->list, connection);
        if (connection->event)
            event_free(connection->event);
        ind_connection_free(connection);
    }
    free(streams->scratch);
}

const char *ind_address_text(const struct ind_address *address, char text[IND_ADDRESS_WIDTH])
{
    struct ind_buffer buffer = ind_buffer_on(text, IND_ADDRESS_WIDTH - 1);
    ind_address_write(&buffer, address);
    text[buffer.length] = '\0';
    return text;
}

static bool reported_lately(const struct ind_streams *streams, struct ind_steady *reported)
{
    return ind_steady_reported_lately(reported, ind_clock_read(streams->dispatch->clock).steady,
                                      REPORT_AGAIN * IND_SECOND);
}

/* ---- Their ends ---- */

static bool keep_message(void *context, const struct ind_connection *connection, struct ind_slice message,
                         bool cut)
{
    struct ind_streams *streams = context;
    const bool drop = atomic_load(&connection->listener->drop);
    if (!drop && ind_dispatch_holds(streams->dispatch, &connection->sender))
        return false;
    struct ind_record record = {.length = (uint32_t)message.length,
                                .listener = connection->listener->number,
                                .transport = (uint8_t)connection->listener->transport,
                                .cut = cut,
                                .waits = !drop,
                                .received = streams->now.wall,
                                .moment = streams->now.steady,
                                .sender = connection->sender};
    struct ind_slice certificate = connection->tls ? ind_tls_peer(connection->tls) : IND_NOTHING;
    record.certificate = (uint8_t)certificate.length;
    if (ind_dispatch_at_once(streams->dispatch, &record, certificate.at, message.at) ||
        ind_dispatch_keep(streams->dispatch, &record, certificate.at, message))
        return true;
    if (!drop)
        return false;
    ind_dispatch_lose(streams->dispatch, record.listener, record.length);
    return true;
}

static void dismiss(struct ind_streams *streams, struct ind_connection *connection)
{
    if (connection->event)
        event_free(connection->event);
    DL_DELETE(streams->list, connection); /* NOLINT: it is in the list */
    atomic_fetch_sub(&streams->facts.connections, 1);
    ind_admission_leave(streams->admission, &connection->sender);
    ind_connection_free(connection);
}

static void hold(struct ind_streams *streams, struct ind_connection *connection)
{
    static const struct timeval soon = {0, RETRY_MILLISECONDS * 1000};
    connection->held = true;
    if (connection->event)
        (void)event_del(connection->event);
    if (streams->retry)
        (void)event_add(streams->retry, &soon);
}

/* We end it, room or not. */
static void end_now(struct ind_streams *streams, struct ind_connection *connection)
{
    if (connection->left)
        (void)ind_connection_feed(connection, IND_NOTHING, keep_message, streams);
    if (!ind_connection_finish(connection, true, keep_message, streams))
        ind_dispatch_lose(streams->dispatch, connection->listener->number, connection->carried);
    dismiss(streams, connection);
}

/* The other side has ended it; it stays a little where there is no room for its last words. */
static void end(struct ind_streams *streams, struct ind_connection *connection, bool broken_off)
{
    if (ind_connection_finish(connection, broken_off, keep_message, streams))
        dismiss(streams, connection);
    else
        hold(streams, connection);
}

void ind_streams_end_all(struct ind_streams *streams)
{
    struct ind_connection *connection, *next;
    DL_FOREACH_SAFE(streams->list, connection, next)
    end_now(streams, connection);
}

void ind_streams_adopt(struct ind_streams *streams, const struct ind_listener_set *set)
{
    struct ind_connection *connection, *next;
    streams->limits = set->config->limits;
    streams->halves_limit = (size_t)ind_limits_memory(set->config);
    DL_FOREACH_SAFE(streams->list, connection, next)
    {
        struct ind_listener *listener = ind_listener_set_successor(set, connection->listener);
        if (!listener || !ind_config_allows(set->config, &connection->sender))
            end_now(streams, connection);
        else
            connection->listener = listener;
    }
}

/* ---- What they say ---- */

static bool is_short_of_room(const struct ind_streams *streams)
{
    size_t spare = ind_slabs_count(streams->slabs) - streams->receivers;
    return ind_slabs_left(streams->slabs) * 2 < spare;
}

static bool must_wait(const struct ind_streams *streams, const struct ind_connection *connection)
{
    return !atomic_load(&connection->listener->drop) &&
           (is_short_of_room(streams) || ind_dispatch_holds(streams->dispatch, &connection->sender));
}

static void report_bad_count(struct ind_streams *streams, const struct ind_connection *connection)
{
    char text[IND_ADDRESS_WIDTH];
    atomic_fetch_add(&streams->facts.bad_counts, 1);
    if (reported_lately(streams, &streams->reported))
        return;
    ind_report(streams->dispatch->reporter, IND_OWN_CONNECTION_ENDED,
               IND_WITH({"listener", ind_slice_of(connection->listener->text)},
                        {"sender", ind_slice_of(ind_address_text(&connection->sender, text))}),
               "%s: where an octet count must stand %s sent something else: the connection is ended. "
               "Does it count bytes, not characters?",
               connection->listener->text, ind_address_text(&connection->sender, text));
}

/* The one whose message has been under way for the longest time: whoever sends a byte now and then is it. */
static struct ind_connection *slowest(const struct ind_streams *streams)
{
    struct ind_connection *connection, *found = NULL;
    DL_FOREACH(streams->list, connection)
    if (ind_steady_is_set(connection->since) &&
        (!found || ind_steady_from(connection->since, found->since) > 0))
        found = connection;
    return found;
}

/* What half messages take is bounded for all connections together; what has come of one that is ended is a
 * message all the same. Each round ends one connection of this receiver's, so that the rounds end. */
static void make_room_for_halves(struct ind_streams *streams)
{
    struct ind_connection *connection;
    while (ind_admission_held(streams->admission) > streams->halves_limit &&
           (connection = slowest(streams))) {
        char text[IND_ADDRESS_WIDTH];
        atomic_fetch_add(&streams->facts.too_slow, 1);
        if (!reported_lately(streams, &streams->halves_reported))
            ind_report(streams->dispatch->reporter, IND_OWN_CONNECTION_ENDED,
                       IND_WITH({"listener", ind_slice_of(connection->listener->text)},
                                {"sender", ind_slice_of(ind_address_text(&connection->sender, text))}),
                       "%s: half messages of all connections fill the %zu KiB that there are for them: the "
                       "one from %s, whose message has been under way for the longest time, is ended",
                       connection->listener->text, streams->halves_limit >> 10,
                       ind_address_text(&connection->sender, text));
        end_now(streams, connection);
    }
}

static bool is_late(struct ind_steady then, struct ind_steady now, int64_t limit)
{
    return limit && ind_steady_is_set(then) && ind_steady_from(then, now) >= limit;
}

/* What is held back waits for us, not for its sender. */
void ind_streams_end_late(struct ind_streams *streams)
{
    struct ind_connection *connection, *next;
    const struct ind_steady now = ind_clock_read(streams->dispatch->clock).steady;
    DL_FOREACH_SAFE(streams->list, connection, next)
    {
        bool unfinished = is_late(connection->since, now, streams->limits.unfinished);
        char text[IND_ADDRESS_WIDTH];
        if (connection->held || (!unfinished && !is_late(connection->heard, now, streams->limits.idle)))
            continue;
        atomic_fetch_add(unfinished ? &streams->facts.unfinished : &streams->facts.idle, 1);
        if (!reported_lately(streams, unfinished ? &streams->unfinished_reported : &streams->idle_reported))
            ind_report(
                streams->dispatch->reporter, IND_OWN_CONNECTION_ENDED,
                IND_WITH({"listener", ind_slice_of(connection->listener->text)},
                         {"sender", ind_slice_of(ind_address_text(&connection->sender, text))}),
                unfinished ? "%s: a message from %s has not ended within the %lld s of \"unfinished\" "
                             "under limits: it is filed as cut, and the connection is ended"
                           : "%s: nothing has come from %s for the %lld s of \"idle\" under limits: the "
                             "connection is ended",
                connection->listener->text, ind_address_text(&connection->sender, text),
                (long long)((unfinished ? streams->limits.unfinished : streams->limits.idle) / IND_SECOND));
        streams->now = ind_clock_read(streams->dispatch->clock);
        end_now(streams, connection);
    }
}

/* The last line may be gone on with, but not for long. */
static void note_wait(struct ind_streams *streams, struct ind_connection *connection)
{
    static const struct timeval soon = {0, IND_STREAMS_JOIN_LOOK * 1000};
    connection->whole = streams->now.steady;
    if (streams->joined && !event_pending(streams->joined, EV_TIMEOUT, NULL))
        (void)event_add(streams->joined, &soon);
}

bool ind_streams_end_waits(struct ind_streams *streams)
{
    struct ind_connection *connection;
    bool any = false;
    streams->now = ind_clock_read(streams->dispatch->clock);
    DL_FOREACH(streams->list, connection)
    {
        if (!connection->framing.waits)
            continue;
        bool long_enough = ind_steady_from(connection->whole, streams->now.steady) >=
                           JOIN_MILLISECONDS * (IND_SECOND / 1000);
        any |=
            !long_enough || connection->left || !ind_connection_end_wait(connection, keep_message, streams);
    }
    return any;
}

/* Whether a message is under way, or a record of TLS, and since when. */
static void note_under_way(struct ind_streams *streams, struct ind_connection *connection)
{
    ind_connection_note_part(connection);
    if (connection->carried == 0 && !connection->holds_part)
        connection->since = IND_STEADY_NEVER;
    else if (!ind_steady_is_set(connection->since))
        connection->since = streams->now.steady;
}

/* False where the connection is gone. */
static bool feed(struct ind_streams *streams, struct ind_connection *connection, struct ind_slice bytes)
{
    connection->framing.join = atomic_load(&connection->listener->join);
    connection->framing.limit =
        connection->listener->kind == IND_LISTEN_NATS ? IND_LINE_MOST : (uint32_t)streams->limits.message;
    switch (ind_connection_feed(connection, bytes, keep_message, streams)) {
    case IND_CONNECTION_FED:
        note_under_way(streams, connection);
        if (connection->framing.waits)
            note_wait(streams, connection);
        return true;
    case IND_CONNECTION_FULL:
        hold(streams, connection);
        return true;
    default:
        report_bad_count(streams, connection);
        dismiss(streams, connection);
        return false;
    }
}

static ssize_t read_some(const struct ind_streams *streams, struct ind_connection *connection)
{
    const struct ind_socket_table *sockets = streams->sockets;
    if (connection->tls)
        return ind_tls_read(connection->tls, streams->scratch, SCRATCH);
    return sockets->read(sockets->context, connection->socket, streams->scratch, SCRATCH);
}

/* TLS tells an end that the other side has said from one that anybody can make. Where nothing was under way
 * nothing is missing that could be seen, and many devices just go. */
static void note_break(struct ind_streams *streams, const struct ind_connection *connection, int error)
{
    char text[IND_ADDRESS_WIDTH];
    atomic_fetch_add(&streams->facts.broken_off, 1);
    if ((error != EPROTO && connection->carried == 0 && !connection->holds_part) ||
        reported_lately(streams, &streams->break_reported))
        return;
    ind_report(streams->dispatch->reporter, IND_OWN_CONNECTION_ENDED,
               IND_WITH({"listener", ind_slice_of(connection->listener->text)},
                        {"sender", ind_slice_of(ind_address_text(&connection->sender, text))}),
               error == EPROTO
                   ? "%s: what came from %s is no TLS, or was changed on its way: the connection is "
                     "ended"
                   : "%s: the connection from %s broke off within a message, which is filed as cut",
               connection->listener->text, ind_address_text(&connection->sender, text));
}

/* Bytes may stand in the library, of which the socket says nothing. */
static void read_on(struct ind_connection *connection)
{
    if (connection->tls && connection->event && !connection->held && ind_tls_has_more(connection->tls))
        event_active(connection->event, EV_READ, 0);
}

void ind_streams_begin_look(struct ind_streams *streams)
{
    streams->any = false;
    streams->read_bytes = 0;
}

/* The loop goes on as long as a socket has something, and a quick sender's always has. */
static void end_look(struct ind_streams *streams)
{
    if (streams->base)
        (void)event_base_loopbreak(streams->base);
}

/* What was read before waits, although it need not: it is not pushed further back by what is read now, out of
 * the processor's caches, to be copied once more. */
static bool put_off(struct ind_streams *streams, struct ind_connection *connection)
{
    if (!ind_dispatch_waiting(streams->dispatch) || !ind_dispatch_have_batch(streams->dispatch, 0) ||
        streams->put_off == MOST_PUT_OFF)
        return false;
    streams->put_off++;
    streams->any = true;
    read_on(connection);
    end_look(streams);
    return true;
}

void ind_streams_read(struct ind_streams *streams, struct ind_connection *connection)
{
    if (must_wait(streams, connection)) {
        hold(streams, connection);
        return;
    }
    if (put_off(streams, connection))
        return;
    ssize_t got = read_some(streams, connection);
    streams->put_off = 0;
    if (got > 0) {
        streams->any = true;
        streams->read_bytes += (size_t)got;
        if (streams->read_bytes >= ONE_LOOK)
            end_look(streams);
        streams->now = ind_clock_read(streams->dispatch->clock);
        connection->heard = streams->now.steady;
        if (feed(streams, connection, (struct ind_slice){streams->scratch, (size_t)got}))
            read_on(connection);
        make_room_for_halves(streams);
    } else if (got == 0 || (errno != EAGAIN && errno != EWOULDBLOCK && errno != EINTR)) {
        if (got < 0 && connection->tls)
            note_break(streams, connection, errno);
        end(streams, connection, got < 0);
    } else if (connection->tls) {
        streams->now = ind_clock_read(streams->dispatch->clock);
        note_under_way(streams, connection);
        read_on(connection);
        make_room_for_halves(streams);
    }
}

static void on_readable(evutil_socket_t socket, short what, void *context)
{
    struct ind_connection *connection = context;
    (void)socket;
    (void)what;
    ind_streams_read(connection->streams, connection);
}

void ind_streams_add(struct ind_streams *streams, struct ind_connection *connection)
{
    connection->streams = streams;
    if (connection->listener->kind == IND_LISTEN_NATS) { /* it is one of our own threads that speaks */
        connection->framing.mode = IND_FRAMING_COUNT;
        connection->framing.counting = true;
    }
    connection->heard = ind_clock_read(streams->dispatch->clock).steady;
    DL_APPEND(streams->list, connection);
    atomic_fetch_add(&streams->facts.connections, 1);
    if (!streams->base) /* a test reads by itself */
        return;
    connection->event =
        event_new(streams->base, connection->socket, EV_READ | EV_PERSIST, on_readable, connection);
    if (!connection->event || event_priority_set(connection->event, streams->priority) != 0 ||
        event_add(connection->event, NULL) != 0)
        dismiss(streams, connection);
    else if (connection->tls) /* what came with the last of the handshake stands in the library */
        event_active(connection->event, EV_READ, 0);
}

bool ind_streams_retry(struct ind_streams *streams)
{
    struct ind_connection *connection, *next;
    bool waits = false;
    DL_FOREACH_SAFE(streams->list, connection, next)
    {
        if (!connection->held)
            continue;
        if (must_wait(streams, connection)) {
            if (is_short_of_room(streams)) /* of which no other will find more */
                return true;
            waits = true;
            continue;
        }
        connection->held = false;
        if (connection->event)
            (void)event_add(connection->event, NULL);
        if (!connection->left || feed(streams, connection, IND_NOTHING))
            read_on(connection);
    }
    return waits;
}

bool ind_streams_any_held(const struct ind_streams *streams)
{
    const struct ind_connection *connection;
    DL_FOREACH(streams->list, connection)
    if (connection->held)
        return true;
    return false;
}

struct ind_stream_numbers ind_streams_numbers(const struct ind_streams *streams)
{
    const struct ind_stream_facts *facts = &streams->facts;
    return (struct ind_stream_numbers){
        .connections = atomic_load(&facts->connections),
        .bad_counts = atomic_load(&facts->bad_counts),
        .too_slow = atomic_load(&facts->too_slow),
        .unfinished = atomic_load(&facts->unfinished),
        .idle = atomic_load(&facts->idle),
        .broken_off = atomic_load(&facts->broken_off),
    };
}
