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

/* ---- Taking ---- */

/* Takes messages of SUBJECT and below it from a stream, as one of a group: each goes to one of them. What is
 * not settled within `again_after` ms goes to somebody once more. False with the reason. */
bool ind_broker_join(struct ind_broker *broker, const char *stream, const char *subject, const char *group,
                     int64_t again_after, char reason[IND_BROKER_REASON]);

/* One that came; good until ind_broker_let_go. */
struct ind_broker_taken {
    const char *id, *origin; /* "": it has none */
    uint64_t messages;       /* as its sender says */
    uint64_t delivered;      /* how often by now */
    bool packed;             /* by zstd */
    const void *bytes;
    size_t length;
};

/* Some that come within so long, behind those that are there already: IND_BROKER_MOST of them at most, with
 * about IND_BROKER_BYTES. Returns how many there are. */
enum { IND_BROKER_MOST = 16384, IND_BROKER_BYTES = 32 << 20 };
unsigned ind_broker_take(struct ind_broker *broker, int milliseconds);
bool ind_broker_has_enough(const struct ind_broker *broker);
struct ind_broker_taken ind_broker_at(const struct ind_broker *broker, unsigned number);
/* That number is still at work: it is not to go to somebody else yet. */
void ind_broker_go_on(struct ind_broker *broker, unsigned number);
enum ind_broker_settling {
    IND_BROKER_DONE,  /* it need not be kept any more */
    IND_BROKER_AGAIN, /* somebody is to have it once more */
    IND_BROKER_NEVER  /* nobody can do anything with it */
};
void ind_broker_settle(struct ind_broker *broker, unsigned number, enum ind_broker_settling settling);
/* Lets go of those that were taken: whoever was not settled goes to somebody once more, later. */
void ind_broker_let_go(struct ind_broker *broker);

/* Whether it goes on; why not: good until it is closed. */
bool ind_broker_lives(struct ind_broker *broker);
const char *ind_broker_reason(const struct ind_broker *broker);

#endif
