/* net/broker.h: a message system (NATS with JetStream) that keeps what it is given until somebody has taken
 * it: connections, and publishing. Where the program is built without its library (libnats) none can be made.
 *
 * A broker belongs to one thread; the library has threads of its own behind it. */
#ifndef IND_NET_BROKER_H
#define IND_NET_BROKER_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

enum { IND_BROKER_REASON = 200, IND_BROKER_UNDER_WAY = 4096 };

/* Everything is borrowed for the call, but for `woken` and `context`, which are good until it is closed. */
struct ind_broker_settings {
    const char *host, *port;
    const char *trust, *certificate, *key; /* files in PEM form; with any of them: TLS. NULL: none */
    const char *login;                     /* a file with what we show (docs/scale.md); NULL: nothing */
    int milliseconds;                      /* for the connection */
    void (*woken)(void *context);          /* something was acknowledged, or it has ended: any thread */
    void *context;
};

struct ind_broker;

bool ind_broker_is_built_in(void);

/* New; NULL with the reason. */
struct ind_broker *ind_broker_open(const struct ind_broker_settings *settings,
                                   char reason[IND_BROKER_REASON]);
/* Accepts NULL. */
void ind_broker_close(struct ind_broker *broker);

/* Sees to it that messages of SUBJECT and of all subjects below it are kept: by a stream that is there, or by
 * a new one of that name, on disk, which keeps a message until it is taken. False with the reason. */
bool ind_broker_keep(struct ind_broker *broker, const char *stream, const char *subject,
                     char reason[IND_BROKER_REASON]);

/* Hands out one message; IND_BROKER_UNDER_WAY may be under way. `id`: what comes twice with one id is kept
 * once. `headers`: names and values in turn, NULL behind the last. False: it has ended. */
bool ind_broker_publish(struct ind_broker *broker, const char *subject, const char *id,
                        const char *const *headers, const void *bytes, size_t length);
/* Messages handed out; those from the first on that are acknowledged: kept, on disk; and those of them that
 * it had already. */
uint64_t ind_broker_published(const struct ind_broker *broker);
uint64_t ind_broker_acknowledged(struct ind_broker *broker);
uint64_t ind_broker_repeated(struct ind_broker *broker);

/* Whether it goes on; why not: good until it is closed. */
bool ind_broker_lives(struct ind_broker *broker);
const char *ind_broker_reason(const struct ind_broker *broker);

#endif
