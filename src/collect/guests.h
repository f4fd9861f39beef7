/* collect/guests.h: stream connections: who may come in, and their bytes taken apart into messages.
 *
 * A connection that holds no part of a message costs a few hundred bytes; what it has begun to say is kept
 * for it, up to the size limit. No address may have more than half of all connections, so that one host
 * cannot keep all others out. */
#ifndef IND_COLLECT_GUESTS_H
#define IND_COLLECT_GUESTS_H

#include "collect/burst.h"
#include "core/message/framing.h"
#include "core/time/steady.h"

#include <stdatomic.h>

struct ind_port;
struct ind_admission;

struct ind_connection {
    struct ind_connection *next, *prev;
    struct ind_port *port;
    struct ind_address sender;
    int socket;
    bool held;   /* not read from, because there is no room */
    void *event; /* the receiver's */
    void *receiver;
    struct ind_framing framing;
    atomic_size_t *held_by_all; /* bytes of all connections together, for what is below */
    struct ind_steady since;    /* when the message under way began; not set: there is none */
    char *carry;                /* of a message under way: what came before */
    size_t carried, carry_room;
    char *left; /* bytes read for which there was no room; they come first */
    size_t left_length;
};

struct ind_connection *ind_connection_new(struct ind_admission *door, struct ind_port *port, int socket,
                                          const struct ind_address *sender);
/* Closes the connection. */
void ind_connection_free(struct ind_connection *guest);

/* Where messages go. False: there is no room for it now. */
typedef bool (*ind_connection_take)(void *context, const struct ind_connection *guest, struct ind_slice first,
                                    struct ind_slice rest, bool cut);

enum ind_connection_fed {
    IND_CONNECTION_FED,
    IND_CONNECTION_FULL, /* no room: what is left is kept, and comes first next time */
    IND_CONNECTION_BAD   /* an octet count is bad or missing */
};

/* Takes bytes apart, those left over from before first. */
enum ind_connection_fed ind_connection_feed(struct ind_connection *guest, struct ind_slice bytes,
                                            ind_connection_take take, void *context);

/* The connection is over: what is unfinished is a message too. False where there is no room for it. */
bool ind_connection_finish(struct ind_connection *guest, bool broken_off, ind_connection_take take,
                           void *context);

/* ---- At the door ---- */

struct ind_admission *ind_admission_new(size_t most);
void ind_admission_free(struct ind_admission *door);
/* Any thread. False where no more may come in, or none from this address. */
bool ind_admission_enter(struct ind_admission *door, const struct ind_address *address);
void ind_admission_leave(struct ind_admission *door, const struct ind_address *address);
/* Bytes that all connections hold of messages that are not whole, or not taken yet. */
size_t ind_admission_held(struct ind_admission *door);

#endif
