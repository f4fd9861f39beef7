/* config/relay.h: relays: other collectors to whom messages are passed on (docs/relays.md). */
#ifndef IND_CONFIG_RELAY_H
#define IND_CONFIG_RELAY_H

#include "core/base/slice.h"
#include "core/line/pass_on.h"

#include <stdint.h>

enum { IND_RELAY_TARGETS = 8, IND_MOST_RELAYS = 64 };

/* The first in the order of enum ind_transport_kind (net/socket.h). */
enum ind_target_kind {
    IND_TARGET_UDP,
    IND_TARGET_TCP,
    IND_TARGET_TLS,
    IND_TARGET_UNIX,
    IND_TARGET_NATS /* a message system: "nats://broker.skerry.example:4222" */
};

/* "tls:collector.skerry.example:6514", "udp:[2001:db8::1]:514", "unix:/run/log". */
struct ind_target_address {
    enum ind_target_kind kind;
    char *text, *host, *port; /* of a local socket: its path, and "" */
};

/* Takes one apart; texts are those of `text`. False where it is none. */
bool ind_target_read(struct ind_slice text, enum ind_target_kind *kind, struct ind_slice *host,
                     struct ind_slice *port);

struct ind_relay_rule {
    const char *name;
    struct ind_target_address targets[IND_RELAY_TARGETS];
    unsigned target_count;
    bool share;        /* all targets in turn; otherwise the first that answers */
    const char *trust; /* the path of authorities, or a fingerprint; NULL: those that the system trusts */
    const char *certificate, *key; /* paths; NULL: we show none */
    /* Of a message system: before facility and severity; the stream; a file with what we show, or NULL. */
    const char *subject, *stream, *login;
    const char *probe; /* an HTTP address that must answer 200; or NULL */
    enum ind_pass_on form;
    uint64_t space;      /* bytes that may wait on disk */
    bool give_up_newest; /* rather than the oldest, when they are used up */
    uint64_t at_most;    /* bytes a second; 0: as many as it takes */
    int64_t answer;      /* ns that bytes may stay without an acknowledgement */
};

struct ind_config;

/* The one of that name; -1: there is none. */
int ind_config_relay(const struct ind_config *config, struct ind_slice name);

/* A copy that outlives the configuration. New; NULL where memory is out. ind_relay_rule_free accepts NULL. */
struct ind_relay_rule *ind_relay_rule_copy(const struct ind_relay_rule *rule);
void ind_relay_rule_free(struct ind_relay_rule *rule);

/* Whether nothing of two differs. */
bool ind_relay_rules_equal(const struct ind_relay_rule *a, const struct ind_relay_rule *b);

#endif
