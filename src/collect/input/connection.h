/* collect/input/connection.h: one stream connection: its bytes parsed into messages.
 *
 * One that holds no part of a message costs a few hundred bytes; what it has begun to say is kept for it, up
 * to the size limit. It belongs to one receiver's thread. */
#ifndef IND_COLLECT_INPUT_CONNECTION_H
#define IND_COLLECT_INPUT_CONNECTION_H

#include "collect/input/admission.h"
#include "core/message/framing.h"
#include "core/time/steady.h"

struct event;
struct ind_listener;
struct ind_tls_session;
struct ind_streams;

struct ind_connection {
    struct ind_connection *next, *prev;
    struct ind_listener *listener;
    struct ind_address sender;
    int socket;
    struct ind_tls_session *tls; /* NULL: bytes are read as they come */
    bool holds_part;             /* TLS: of a record, counted in what all connections hold */
    bool held;                   /* not read from, because there is no room */
    struct event *event;         /* NULL: none */
    struct ind_streams *streams; /* NULL while it is handed over */
    struct ind_framing framing;
    struct ind_admission *admission; /* counts what is below for all connections together */
    struct ind_steady since;         /* when the message under way began; not set: there is none */
    struct ind_steady whole;         /* with framing.waits: when its last line came */
    struct ind_steady heard;         /* when its last bytes came, or it was let in */
    char *carry;                     /* of a message under way: what came before */
    size_t carried, carry_room;
    char *left; /* bytes read for which there was no room; they come first */
    size_t left_length;
};

/* New; takes the socket. NULL where memory is out. */
struct ind_connection *ind_connection_new(struct ind_admission *admission, struct ind_listener *listener,
                                          int socket, const struct ind_address *sender);
/* Closes the connection. */
void ind_connection_free(struct ind_connection *connection);

/* Where messages go, each in one piece, which is good for the call. False: there is no room for it now. */
typedef bool (*ind_connection_deliver)(void *context, const struct ind_connection *connection,
                                       struct ind_slice message, bool cut);

/* Notes whether TLS holds a part of a record. */
void ind_connection_note_part(struct ind_connection *connection);

enum ind_connection_fed {
    IND_CONNECTION_FED,
    IND_CONNECTION_FULL, /* no room: what is left is kept, and comes first next time */
    IND_CONNECTION_BAD   /* an octet count is bad or missing */
};

/* Takes bytes apart, those left over from before first. */
enum ind_connection_fed ind_connection_feed(struct ind_connection *connection, struct ind_slice bytes,
                                            ind_connection_deliver deliver, void *context);

/* The message that waits for a line that goes on with it (framing.waits) is whole without one. False where
 * there is no room for it: it waits on. */
bool ind_connection_end_wait(struct ind_connection *connection, ind_connection_deliver deliver,
                             void *context);

/* The connection is over: what is unfinished is a message too. False where there is no room for it. */
bool ind_connection_finish(struct ind_connection *connection, bool broken_off, ind_connection_deliver deliver,
                           void *context);

#endif
