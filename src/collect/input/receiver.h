/* collect/input/receiver.h: an intake thread. First it empties the sockets into the burst buffer, then it
 * takes a bounded slice of what waits there and turns it into lines; and again. It touches no file, and waits
 * for nothing but its sockets, its timers and its waker; only at the end it waits for batches, and the first
 * for the others.
 *
 * It is put together from what reads datagrams, what reads streams, what lets connections in (the first
 * receiver only), and what passes messages on (dispatch). */
#ifndef IND_COLLECT_INPUT_RECEIVER_H
#define IND_COLLECT_INPUT_RECEIVER_H

#include "collect/input/accept.h"
#include "collect/input/datagrams.h"
#include "collect/input/streams.h"
#include "collect/runtime/lifecycle.h"

struct ind_receiver;

/* What the receivers of a collector share. Filled in before they are made; borrowed. */
struct ind_receivers {
    unsigned count;
    struct ind_lifecycle *lifecycle;
    struct ind_reporter *reporter;
    struct ind_rings *rings;
    struct ind_tap *tap;
    struct ind_slabs *slabs;
    const struct ind_clock *clock;
    const char *const *names;              /* of listeners, by their number */
    size_t connections;                    /* at most */
    size_t halves_limit;                   /* see struct ind_streams */
    const struct ind_waker *control;       /* woken when all have taken over other rules */
    struct ind_edit_states *const *states; /* what edits remember, by now; *states may be NULL */

    struct ind_receiver *list[IND_MOST_INTAKES];
    struct ind_admission *admission;
    /* The listeners under which the first receiver lets connections in: set by it, read by the others. */
    _Atomic(const struct ind_listener_set *) admitting;
    atomic_uint behind; /* set by control when it hands out other rules; each receiver takes itself off */
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
/* Any thread. */
void ind_receiver_wake(const struct ind_receiver *receiver);

struct ind_receiver_facts {
    uint64_t longest_pause; /* ns in which no socket was looked at though messages may have come */
    uint64_t connections, accepted, turned_away, not_allowed, bad_counts, too_slow;
};
/* Any thread. */
void ind_receiver_facts(const struct ind_receiver *receiver, struct ind_receiver_facts *facts);

/* What it has received and lost by itself, by listener; once its thread has ended. */
const struct ind_intake_counts *ind_receiver_counts(const struct ind_receiver *receiver);

#endif
