/* collect/relay/connector.h: a thread that makes connections for a relay: names are looked up, handshakes
 * made and probes sent where nobody waits for them. */
#ifndef IND_COLLECT_RELAY_CONNECTOR_H
#define IND_COLLECT_RELAY_CONNECTOR_H

#include "config/relay.h"
#include "net/broker.h"
#include "net/uplink.h"
#include "net/waker.h"

struct ind_connector;

/* New, with its thread; `rule` and `done` (woken when an answer is there) are borrowed. NULL where that
 * cannot be made. */
struct ind_connector *ind_connector_new(const struct ind_relay_rule *rule, const struct ind_waker *done);
/* Breaks off what is under way: that takes no longer than the system's look at a name, and where it is a
 * broker than its calls, 5 s each. Accepts NULL. */
void ind_connector_free(struct ind_connector *connector);

/* Asks for a connection to a target; with `probe_only` for its probe alone. Nothing may be under way. */
void ind_connector_ask(struct ind_connector *connector, unsigned target, bool probe_only);
bool ind_connector_is_busy(const struct ind_connector *connector);

struct ind_connected {
    unsigned target;
    bool probe_only, good;
    struct ind_uplink *link;   /* the caller's; NULL where there is none, */
    struct ind_broker *broker; /* likewise: of a message system */
    char reason[IND_UPLINK_REASON];
};
/* The answer, once; false: there is none yet. */
bool ind_connector_answer(struct ind_connector *connector, struct ind_connected *answer);

#endif
