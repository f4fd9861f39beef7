/* collect/input/door.h: the thread that lets connections in, and hands them to receivers, in turn.
 *
 * It stands apart from the receivers, and steps back behind them: however many strangers knock, no datagram
 * waits for it. A connection that it hands over knows a listener of the rules under which it was let in. So
 * at a reload the door turns to the new rules first, and each receiver welcomes what was handed to it before
 * it turns itself: nothing then knows a listener that goes. */
#ifndef IND_COLLECT_INPUT_DOOR_H
#define IND_COLLECT_INPUT_DOOR_H

#include "collect/input/peers.h"
#include "collect/input/receiver.h"

struct ind_door;

/* For receivers that are made, with their first listeners. Borrows both. NULL where memory is out. */
struct ind_door *ind_door_new(struct ind_receivers *receivers, const struct ind_listener_set *set);
void ind_door_free(struct ind_door *door);

/* The thread. `door` as argument; returns NULL. Ends when the collector is asked to stop. */
void *ind_door_run(void *door);

/* An order, from the control thread: other listeners, which must live until they are replaced. */
void ind_door_order_listeners(struct ind_door *door, const struct ind_listener_set *set);
/* Any thread. */
void ind_door_wake(const struct ind_door *door);

const struct ind_pulse *ind_door_pulse(const struct ind_door *door);
/* Who has shown a certificate. */
struct ind_peers *ind_door_peers(const struct ind_door *door);

struct ind_door_facts {
    uint64_t accepted, turned_away, not_allowed; /* connections, since the start */
};
/* Any thread. */
void ind_door_facts(const struct ind_door *door, struct ind_door_facts *facts);

#endif
