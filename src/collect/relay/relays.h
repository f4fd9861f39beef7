/* collect/relay/relays.h: all relays of a collector, by the numbers of the routes that name them.
 *
 * Adopting and adding are of the thread that files lines; counts may be read by any. */
#ifndef IND_COLLECT_RELAY_RELAYS_H
#define IND_COLLECT_RELAY_RELAYS_H

#include "collect/relay/relay.h"
#include "config/config.h"

struct ind_relays;

struct ind_relays_settings {
    struct ind_reporter *reporter; /* borrowed */
    bool hold; /* messages from files: where there is no room they wait, as long as something is taken */
    /* The end of a line of an owner: the relay has it, or it is lost. */
    void (*settle)(void *context, uint32_t owner, bool taken);
    void *context;
};

/* New, without relays. NULL where memory is out. */
struct ind_relays *ind_relays_new(const struct ind_relays_settings *settings);
/* Waits for all relays to end. Accepts NULL. */
void ind_relays_free(struct ind_relays *relays);

/* The relays that routes of this configuration name, from now on. Those that are as they were go on; of those
 * that have changed another takes over what waits. False where one cannot be made: its messages are lost. */
bool ind_relays_adopt(struct ind_relays *relays, const struct ind_config *config);

/* Whether the route's lines are for a relay. */
bool ind_relays_have(const struct ind_relays *relays, uint32_t route);
/* Adds a message, and settles it. False: there is no room, and it is to be tried again. */
bool ind_relays_add(struct ind_relays *relays, uint32_t route, struct ind_slice message, ind_time time,
                    uint32_t owner, struct ind_steady now);
/* A message that will never come. */
void ind_relays_lose(struct ind_relays *relays, uint32_t owner);
/* What was added is looked at; those that are wanted no more, and have ended, go. */
void ind_relays_run(struct ind_relays *relays);

/* Nothing more will be added: all end. `patient`: they go on as long as something is taken. */
void ind_relays_end(struct ind_relays *relays, bool patient);

bool ind_relays_have_ended(struct ind_relays *relays);

/* Any thread: the counts of each, in the order of the configuration. New, to be freed; NULL where there are
 * none or memory is out. */
struct ind_named_relay_count {
    char name[68];
    char targets[IND_RELAY_TARGETS][80]; /* as the configuration has them; what is longer is cut */
    bool share;
    uint64_t space;
    struct ind_relay_count count;
};
size_t ind_relays_count(struct ind_relays *relays, struct ind_named_relay_count **counts);

#endif
