/* collect/relay/relay.h: one relay: what it is given waits, in memory first, and on disk where its targets
 * lag, and is passed on by a thread of its own.
 *
 * Whoever files lines adds messages and waits for nothing: neither for a network nor for a disk. A message is
 * the relay's from then on, and its counts say what becomes of it: sent (the other side's system has
 * acknowledged it), given up, or waiting. */
#ifndef IND_COLLECT_RELAY_RELAY_H
#define IND_COLLECT_RELAY_RELAY_H

#include "collect/runtime/reporter.h"
#include "config/relay.h"
#include "core/time/steady.h"

struct ind_relay;

struct ind_relay_settings {
    const struct ind_relay_rule *rule; /* copied */
    const char *state;                 /* the folder below which there is one for each queue; copied */
    struct ind_reporter *reporter;     /* borrowed */
    bool hold; /* who adds waits where there is no room: then nothing that waits is given up for it */
    struct ind_relay *before; /* who had the queue until now, and has been told to end; taken over; or NULL */
};

struct ind_target_count {
    bool up, tried;
    int64_t since; /* seconds that it has been so; 0 where it was not tried */
    uint64_t sent, bytes, again,
        failures;     /* messages, their bytes, those sent once more; how often it failed */
    char reason[200]; /* why it is down; "" where it is up */
};

/* All counts are of messages, since the start, unless they say otherwise. taken + found = sent + given_up +
 * damaged + waiting. */
struct ind_relay_count {
    uint64_t taken;                  /* from the rules */
    uint64_t found;                  /* waited on disk when we started */
    uint64_t sent;                   /* acknowledged by the other side's system */
    uint64_t given_up;               /* there was no more room for them */
    uint64_t damaged;                /* could not be read from disk again */
    uint64_t waiting, waiting_bytes; /* waiting_bytes: of the messages, as they stand in memory and on disk */
    uint64_t disk_bytes;             /* of segments */
    uint64_t again;   /* sent once more after a link broke, or after a start: may have come twice */
    uint64_t looped;  /* had been passed on too often, and were not taken */
    uint64_t refused; /* had no room in memory, and were not taken */
    int64_t oldest;   /* seconds that the oldest waits; 0 where none does */
    int disk_error;   /* errno of the queue's disk; 0: all is well */
    char origin[40];  /* who its queue is among all queues; "": not known */
    unsigned target_count;
    struct ind_target_count targets[IND_RELAY_TARGETS];
};

/* New, with its thread. NULL where that cannot be made. */
struct ind_relay *ind_relay_new(const struct ind_relay_settings *settings);
const struct ind_relay_rule *ind_relay_rule(const struct ind_relay *relay);

enum ind_relay_took { IND_RELAY_TOOK, IND_RELAY_HAS_NO_ROOM, IND_RELAY_LOOPED };
/* Adds a message; an empty one stands for one that was passed on too often. `hold`: where there is no room
 * somebody waits and comes again, and nothing is counted. One thread. */
enum ind_relay_took ind_relay_add(struct ind_relay *relay, struct ind_slice message, ind_time time,
                                  struct ind_steady now, bool hold);
/* What was added since is looked at. The same thread. */
void ind_relay_wake(struct ind_relay *relay);

/* Any thread. */
void ind_relay_read_counts(struct ind_relay *relay, struct ind_relay_count *count);

/* Nothing more will be added. It goes on as long as something is taken, or some seconds, whichever is
 * `patient`; what waits then is on disk. */
void ind_relay_end(struct ind_relay *relay, bool patient);
bool ind_relay_is_ending(const struct ind_relay *relay);
bool ind_relay_has_ended(const struct ind_relay *relay);
/* Waits until it has. Accepts NULL. */
void ind_relay_free(struct ind_relay *relay);

#endif
