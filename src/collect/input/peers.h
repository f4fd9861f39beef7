/* collect/input/peers.h: who has shown which certificate: each name once, with how often and when last. The
 * door notes, control looks. */
#ifndef IND_COLLECT_INPUT_PEERS_H
#define IND_COLLECT_INPUT_PEERS_H

#include "core/base/address.h"
#include "core/time/civil.h"

struct ind_peers;

/* NULL where memory is out. */
struct ind_peers *ind_peers_new(void);
void ind_peers_free(struct ind_peers *peers);

/* Bytes of a stranger; of the listener with that number. What is beyond IND_MOST_PEERS is not noted. */
enum { IND_MOST_PEERS = 1000 };
void ind_peers_note(struct ind_peers *peers, struct ind_slice name, uint16_t listener,
                    const struct ind_address *address, ind_time now);

/* Everything is borrowed for the call. */
struct ind_peer {
    struct ind_slice name;
    uint16_t listener;
    struct ind_address address; /* the last one */
    uint64_t handshakes;
    ind_time last;
};
/* In the order of their first coming. Whoever notes waits meanwhile. */
void ind_peers_visit(struct ind_peers *peers, void (*visit)(void *context, const struct ind_peer *peer),
                     void *context);

#endif
