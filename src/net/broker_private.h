/* net/broker_private.h: a connection to NATS, as the files of net/ that make one up share it. */
#ifndef IND_NET_BROKER_PRIVATE_H
#define IND_NET_BROKER_PRIVATE_H

#include "net/broker.h"
#include "thread/mutex.h"

#include <nats/nats.h>

struct ind_broker {
    natsConnection *connection;
    jsCtx *stream;
    void (*woken)(void *context);
    void *context;

    /* Publishing; of the same thread. */
    natsSubscription *answers; /* NULL: nothing was published */

    /* Taking; of the thread that has the broker. */
    natsSubscription *taking; /* NULL: it publishes */
    natsInbox *inbox;         /* of it, or of `answers` */
    char next[200];           /* where it asks for more */
    int64_t again_after;      /* ms */
    natsMsg **taken;          /* NULL: none was yet */
    unsigned count;
    size_t bytes;    /* of them */
    unsigned wanted; /* that may still come of the last request; 0: none is under way */
    int64_t asked,
        looked; /* ms of the steady clock: when that was made, and when what came was last looked at */

    struct ind_mutex mutex; /* guards what follows: the library's threads write it */
    bool had[IND_BROKER_UNDER_WAY];
    uint64_t published; /* written by the thread that has the broker only */
    uint64_t acknowledged, repeated;
    bool ended, closed;
    bool listens, answered; /* there are `answers`; the last of them was read */
    char reason[IND_BROKER_REASON];
};

/* It has ended: the first reason counts. Any thread. */
void ind_broker_fail(struct ind_broker *broker, const char *reason);
void ind_broker_say_why(natsStatus status, char reason[IND_BROKER_REASON]);

/* Says to the server what becomes of a message that came: a word of JetStream's protocol. */
void ind_broker_answer(struct ind_broker *broker, natsMsg *message, const char *word);

#endif
