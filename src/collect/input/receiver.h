/* collect/input/receiver.h: an intake thread. First it empties the sockets into the burst buffer, then it
 * takes a bounded slice of what waits there and turns it into lines; and again. It touches no file, and waits
 * for nothing but its sockets, its timers and its waker; only at the end it waits for batches, and the first
 * for the others.
 *
 * It is put together from what reads datagrams, what reads streams, and what passes messages on (dispatch).
 * Connections are let in by the door (collect/input/door.h), which hands them over. */
#ifndef IND_COLLECT_INPUT_RECEIVER_H
#define IND_COLLECT_INPUT_RECEIVER_H

#include "collect/input/datagrams.h"
#include "collect/input/streams.h"
#include "collect/runtime/lifecycle.h"
#include "collect/runtime/pulse.h"

struct ind_receiver;

/* What the receivers of a collector share. Filled in before they are made; borrowed. */
struct ind_receivers {
    unsigned count;
    struct ind_lifecycle *lifecycle;
    struct ind_reporter *reporter;
    struct ind_rings *rings;
    struct ind_tap *tap;
    struct ind_trap_engines *engines;
    struct ind_slabs *slabs;
    const struct ind_clock *clock;
    const char *const *names;              /* of listeners, by their number */
    size_t connections;                    /* for as many there are descriptors */
    const struct ind_waker *control;       /* woken when all have taken over other rules */
    struct ind_edit_states *const *states; /* what edits remember, by now; *states may be NULL */

    struct ind_receiver *list[IND_MOST_INTAKES];
    struct ind_admission *admission;
    /* The listeners under which the door lets connections in, once they are not the first: set by it. */
    _Atomic(const struct ind_listener_set *) admitting;
    atomic_bool door_closed; /* no connection comes any more: likewise */
    atomic_uint behind; /* see ind_receivers_note_adopted; set by control when it hands out other rules */
};

/* Rules for one receiver. The control thread keeps them until all have taken others over. */
struct ind_receiver_rules {
    struct ind_intake *intake;
    const struct ind_listener_set *listeners;
    struct ind_marker marker; /* to be put between the batches of the old and of the new */
};

/* Makes all of them, with their first rules (one each). False where memory is out; they are to be ended in
 * any case. */
bool ind_receivers_begin(struct ind_receivers *receivers, struct ind_receiver_rules *rules);
void ind_receivers_end(struct ind_receivers *receivers);

/* The thread. `receiver` as argument; returns NULL. */
void *ind_receiver_run(void *receiver);

/* Orders, from the control thread: what is borrowed must live until it is carried out. */
void ind_receiver_order_snapshot(struct ind_receiver *receiver, struct ind_marker *marker);
void ind_receiver_order_rules(struct ind_receiver *receiver, struct ind_receiver_rules *rules);
void ind_receivers_wake(const struct ind_receivers *receivers);
/* Each receiver and the door have taken over the rules they were given: the last one wakes control. */
void ind_receivers_note_adopted(struct ind_receivers *receivers);
/* The door: a connection that is the receiver's from now on. */
void ind_receiver_take(struct ind_receiver *receiver, struct ind_connection *connection);
/* Any thread. */
void ind_receiver_wake(const struct ind_receiver *receiver);

/* Any thread: its pulse, and how many messages it has received. */
const struct ind_pulse *ind_receiver_pulse(const struct ind_receiver *receiver);
uint64_t ind_receiver_received(const struct ind_receiver *receiver);

struct ind_receiver_facts {
    uint64_t longest_pause; /* ns in which no socket was looked at though messages may have come */
    struct ind_stream_numbers streams;
};
/* Any thread. */
void ind_receiver_facts(const struct ind_receiver *receiver, struct ind_receiver_facts *facts);

/* What it has received and lost by itself, by listener; once its thread has ended. */
const struct ind_intake_counts *ind_receiver_counts(const struct ind_receiver *receiver);

#endif
