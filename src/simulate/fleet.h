/* simulate/fleet.h: a made-up fleet of devices: what each says, when, and how it writes it (docs/formats.md).
 *
 * Stand-ins for real devices, for demonstrations and tests. Plays on a clock of its own that begins at 0; the
 * caller waits and sends. The same seed gives the same messages but for their times. */
#ifndef IND_SIMULATE_FLEET_H
#define IND_SIMULATE_FLEET_H

#include "core/time/civil.h"
#include "core/time/zone.h"

enum ind_fleet_transport { IND_FLEET_UDP, IND_FLEET_TCP };
enum ind_fleet_clock { IND_CLOCK_RIGHT, IND_CLOCK_OFF, IND_CLOCK_NEVER_SET };

struct ind_saying {
    ind_time every, from, until; /* ns since the start; `every` 0: once, at `from` */
    unsigned facility, severity;
    struct ind_slice app, procid, msgid, text; /* text with {1-254}, {a|b|c} and {n} */
    ind_time next;                             /* when it is due */
    uint64_t said;
};

struct ind_actor {
    struct ind_slice name;
    struct ind_slice from; /* the address it sends from */
    struct ind_slice host; /* as it calls itself; empty: it does not */
    bool old_form;         /* RFC 3164 */
    bool traps;            /* no messages: texts of traps */
    enum ind_fleet_transport transport;
    bool lines; /* framing of a stream: lines rather than octet counting */
    const struct ind_zone *zone;
    enum ind_fleet_clock clock;
    ind_time clock_off; /* to add to the right time */
    struct ind_saying *says;
    size_t says_count;
};

struct ind_fleet {
    ind_time lasts;
    struct ind_actor *actors;
    size_t actor_count;
    uint64_t seed;
};

/* Sets every saying to its first time. */
void ind_fleet_begin(struct ind_fleet *fleet, uint64_t seed);

/* The saying that is due first, and its actor; false where all is said. */
bool ind_fleet_next(struct ind_fleet *fleet, struct ind_actor **actor, struct ind_saying **saying);

/* Writes the message that is due, at the right time `now`, and sets the saying to its next time. `at` is the
 * fleet's own clock. 8 KiB always suffice for what a fleet file may say. */
void ind_fleet_say(struct ind_fleet *fleet, const struct ind_actor *actor, struct ind_saying *saying,
                   ind_time now, ind_time at, struct ind_buffer *message);

/* "Nov 23 04:45:00" (RFC 3164 section 4.1.2), on the clock of the zone. */
void ind_time_write_3164(struct ind_buffer *buffer, const struct ind_zone *zone, ind_time time);

#endif
