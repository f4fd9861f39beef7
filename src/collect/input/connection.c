#include "collect/input/connection.h"

#include "net/tls_session.h"
#include <stdlib.h>
#include <unistd.h>

enum { CARRY_KEPT = 2048 };

struct ind_connection *ind_connection_new(struct ind_admission *admission, struct ind_listener *listener,
                                          int socket, const struct ind_address *sender)
{
    struct ind_connection *connection = calloc(1, sizeof *connection);
    if (!connection)
        return NULL;
    connection->listener = listener;
    connection->socket = socket;
    connection->sender = *sender;
    connection->admission = admission;
    return connection;
}

static void count_held(const struct ind_connection *connection, size_t before, size_t after)
{
    ind_admission_count_held(connection->admission, before, after);
}

void ind_connection_free(struct ind_connection *connection)
{
    if (!connection)
        return;
    ind_tls_session_free(connection->tls);
    close(connection->socket);
    count_held(connection, connection->holds_part ? IND_TLS_RECORD : 0, 0);
    count_held(connection, connection->carry_room + (connection->left ? connection->left_length : 0), 0);
    free(connection->carry);
    free(connection->left);
    free(connection);
}

void ind_connection_note_part(struct ind_connection *connection)
{
    bool holds = connection->tls && ind_tls_holds_part(connection->tls);
    count_held(connection, connection->holds_part ? IND_TLS_RECORD : 0, holds ? IND_TLS_RECORD : 0);
    connection->holds_part = holds;
}

/* False where memory is out: the message loses this part, and is marked as cut. */
static bool carry(struct ind_connection *connection, struct ind_slice bytes)
{
    if (connection->carry_room - connection->carried < bytes.length) {
        size_t room = connection->carry_room ? connection->carry_room : 512;
        while (room - connection->carried < bytes.length)
            room *= 2;
        char *grown = realloc(connection->carry, room);
        if (!grown)
            return false;
        count_held(connection, connection->carry_room, room);
        connection->carry = grown;
        connection->carry_room = room;
    }
    if (bytes.length)
        memcpy(connection->carry + connection->carried, bytes.at, bytes.length);
    connection->carried += bytes.length;
    return true;
}

static void drop_carry(struct ind_connection *connection)
{
    connection->carried = 0;
    connection->since = IND_STEADY_NEVER;
    if (connection->carry_room <= CARRY_KEPT)
        return;
    count_held(connection, connection->carry_room, 0);
    free(connection->carry);
    connection->carry = NULL;
    connection->carry_room = 0;
}

/* Passes on what is carried, and `bytes` behind it, as one message. False where there is no room for it: then
 * nothing has changed. */
static bool pass_on(struct ind_connection *connection, struct ind_slice bytes, bool cut,
                    ind_connection_deliver deliver, void *context)
{
    const size_t carried = connection->carried;
    struct ind_slice message = bytes;
    if (carried) {
        cut |= !carry(connection, bytes);
        message = (struct ind_slice){connection->carry, connection->carried};
    }
    if (!deliver(context, connection, message, cut)) {
        connection->carried = carried;
        return false;
    }
    if (carried)
        drop_carry(connection);
    return true;
}

/* Bytes are parsed only where there is room for a message: so it is asked before, by the message that
 * would be next, and the framing is put back where there is none. */
static enum ind_connection_fed feed(struct ind_connection *connection, struct ind_slice *input,
                                    ind_connection_deliver deliver, void *context)
{
    struct ind_slice bytes;
    bool cut = false;
    for (;;) {
        struct ind_framing before = connection->framing;
        struct ind_slice at = *input;
        switch (ind_framing_next(&connection->framing, input, &bytes, &cut)) {
        case IND_FRAME_MORE:
            return IND_CONNECTION_FED;
        case IND_FRAME_BAD:
            return IND_CONNECTION_BAD;
        case IND_FRAME_PART:
            if (!carry(connection, bytes))
                connection->framing.cut = true;
            break;
        case IND_FRAME_END:
            if (!pass_on(connection, bytes, cut, deliver, context)) {
                connection->framing = before;
                *input = at;
                return IND_CONNECTION_FULL;
            }
        }
    }
}

/* What is left is kept whole; without memory for it there is nothing to be done but to end the connection. */
static enum ind_connection_fed keep(struct ind_connection *connection, struct ind_slice rest)
{
    char *copy = malloc(rest.length ? rest.length : 1);
    if (!copy)
        return IND_CONNECTION_BAD;
    memcpy(copy, rest.at, rest.length);
    count_held(connection, connection->left ? connection->left_length : 0, rest.length);
    free(connection->left);
    connection->left = copy;
    connection->left_length = rest.length;
    return IND_CONNECTION_FULL;
}

enum ind_connection_fed ind_connection_feed(struct ind_connection *connection, struct ind_slice bytes,
                                            ind_connection_deliver deliver, void *context)
{
    if (connection->left) {
        struct ind_slice left = {connection->left, connection->left_length};
        enum ind_connection_fed fed = feed(connection, &left, deliver, context);
        if (fed ==
            IND_CONNECTION_FULL) { /* bytes are only read once nothing is left: `bytes` is empty here */
            memmove(connection->left, left.at, left.length);
            count_held(connection, connection->left_length, left.length);
            connection->left_length = left.length;
        }
        if (fed != IND_CONNECTION_FED)
            return fed;
        count_held(connection, connection->left_length, 0);
        free(connection->left);
        connection->left = NULL;
    }
    enum ind_connection_fed fed = feed(connection, &bytes, deliver, context);
    return fed == IND_CONNECTION_FULL ? keep(connection, bytes) : fed;
}

/* The message that an end has made whole; where there is no room for it, the framing is as it was `before`,
 * and the end comes again. */
static bool deliver_last(struct ind_connection *connection, const struct ind_framing *before,
                         struct ind_slice bytes, bool cut, ind_connection_deliver deliver, void *context)
{
    if (!pass_on(connection, bytes, cut, deliver, context)) {
        connection->framing = *before;
        return false;
    }
    drop_carry(connection);
    return true;
}

bool ind_connection_end_wait(struct ind_connection *connection, ind_connection_deliver deliver, void *context)
{
    struct ind_framing before = connection->framing;
    struct ind_slice bytes;
    bool cut;
    return !ind_framing_end_wait(&connection->framing, &bytes, &cut) ||
           deliver_last(connection, &before, bytes, cut, deliver, context);
}

bool ind_connection_finish(struct ind_connection *connection, bool broken_off, ind_connection_deliver deliver,
                           void *context)
{
    struct ind_framing before = connection->framing;
    struct ind_slice bytes;
    bool cut;
    return !ind_framing_end(&connection->framing, broken_off, &bytes, &cut) ||
           deliver_last(connection, &before, bytes, cut, deliver, context);
}
