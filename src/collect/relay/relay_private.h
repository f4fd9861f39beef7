/* collect/relay/relay_private.h: what a relay is made of.
 *
 *     writer ─► open block ─► blocks ─► bursts ─► link ─► the other side
 *                               └─► queue on disk ──┘
 *
 * Records are numbered in the order in which they came. Those before `done` are settled; those before `next`
 * are in blocks, in the queue, or in both. */
#ifndef IND_COLLECT_RELAY_RELAY_PRIVATE_H
#define IND_COLLECT_RELAY_RELAY_PRIVATE_H

#include "collect/relay/connector.h"
#include "collect/relay/relay.h"
#include "core/queue/targets.h"
#include "core/queue/window.h"
#include "store/queue/queue.h"
#include "thread/mutex.h"

#include <stdatomic.h>

enum {
    IND_BLOCK_BYTES = 1 << 20,
    IND_BLOCKS = 64, /* of a relay, at most */
    IND_BURST_BYTES = 64 << 10,
    IND_BURST_ROOM = IND_BURST_BYTES + IND_QUEUED_MOST + 32,
    IND_READ_BYTES = 1 << 20
};

/* Records as they stand in a segment, but for their checks. */
struct ind_block {
    struct ind_block *next;
    uint64_t first, count;
    size_t used;
    size_t written;          /* bytes of them that need not go to the queue any more, */
    uint64_t written_count;  /* and records */
    struct ind_steady since; /* when the first of the rest came */
    char bytes[];
};

struct ind_publisher;

/* A link to a target, and what of a burst it has not taken yet. */
struct ind_outgoing {
    struct ind_uplink *link;   /* NULL: none */
    struct ind_broker *broker; /* likewise; there is one of them at most */
    struct ind_publisher *publisher;
    bool leaving; /* nothing new goes there: a better one is back */
    struct ind_steady leaves_at;
    bool blocked;
    char *burst; /* IND_BURST_ROOM */
    size_t burst_at, burst_length;
    uint64_t acknowledged;
    struct ind_steady progress; /* when that grew, or nothing was under way */
    struct ind_steady told;     /* when it was last said that it is down */
    bool told_down;             /* and not yet that it is up again */
};

static inline bool ind_outgoing_is_open(const struct ind_outgoing *out)
{
    return out->link || out->broker;
}

struct ind_relay {
    /* Set before the thread is started. */
    struct ind_relay_rule *rule;
    char *folder;
    struct ind_reporter *reporter;
    bool hold;
    struct ind_relay *before;
    struct ind_waker waker;
    pthread_t thread;
    bool running;

    /* Of whoever adds. */
    bool unwoken;

    struct ind_mutex mutex;
    struct ind_block *in_head IND_GUARDED_BY(mutex); /* not taken by the thread yet, oldest first */
    struct ind_block *in_tail IND_GUARDED_BY(mutex);
    unsigned blocks IND_GUARDED_BY(mutex); /* all of them */
    uint64_t refused IND_GUARDED_BY(mutex), looped IND_GUARDED_BY(mutex);
    bool full IND_GUARDED_BY(mutex); /* the space is used up, and the newest are given up */
    struct ind_relay_count published IND_GUARDED_BY(mutex);

    atomic_bool ending, patient, ended;

    /* Of the thread. */
    struct ind_connector *connector;
    struct ind_block *head, *tail;
    uint64_t next, to_send, done; /* to_send: the first that was never sent */
    struct ind_window window;
    struct ind_targets targets;
    struct ind_outgoing out[IND_RELAY_TARGETS];
    unsigned turn;
    struct ind_steady gathering; /* since when records wait for a batch that is large enough */
    struct ind_queue *queue;     /* NULL: it cannot be opened */
    struct ind_steady queue_tried, synced, probed, error_told, given_up_told, refused_told, looped_told;
    uint64_t noted_done, noted_offered;
    int disk_error, read_error; /* read_error: not told yet */
    struct ind_relay_count counts;
    uint64_t given_up_at_last, refused_at_last, looped_at_last; /* when they were told */
    uint64_t oldest_number;                                     /* the record of which `oldest_time` is */
    ind_time oldest_time;
    double allowance; /* bytes that may go now, where there is a limit */
    struct ind_steady allowance_at;
    /* Records that were found last, one after the other. */
    struct {
        const char *at, *end;
        uint64_t number;
        struct ind_block *block; /* in which they lie; NULL: in `room` */
        char *room;
    } span;
};

/* ---- blocks.c ---- */

/* What was added since becomes the relay's thread's. */
void ind_relay_take_blocks(struct ind_relay *relay);
/* Those that hold nothing which is needed go; with `all` what is on disk counts as not needed. */
void ind_relay_free_blocks(struct ind_relay *relay, bool all);
/* The oldest block goes, whatever is in it. */
void ind_relay_drop_block(struct ind_relay *relay);
unsigned ind_relay_block_count(struct ind_relay *relay);
/* The record of that number, in *record; moves *number on where what it asks for is gone. False: there is
 * none. */
bool ind_relay_find(struct ind_relay *relay, uint64_t *number, struct ind_queued *record);

/* ---- spooling.c ---- */

void ind_relay_open_queue(struct ind_relay *relay, struct ind_steady now);
/* Writes what has waited long enough to the queue, or with `all` whatever waits; gives up what has no room.
 */
void ind_relay_spool(struct ind_relay *relay, bool all, struct ind_steady now);
/* Writes down what is done, and that records before `offered` are about to be sent. */
void ind_relay_note(struct ind_relay *relay, uint64_t offered);
/* Records before `first` are given up. */
void ind_relay_give_up(struct ind_relay *relay, uint64_t first);
/* Something has happened to the queue's disk. */
void ind_relay_disk_failed(struct ind_relay *relay, int error, struct ind_steady now);

/* ---- publishing.c ---- */

/* Room for batches. New; NULL where memory is out. */
struct ind_publisher *ind_publisher_new(void);
void ind_publisher_free(struct ind_publisher *publisher);
/* Hands out what may be handed out now. False: the broker has ended the connection. */
bool ind_relay_publish(struct ind_relay *relay, unsigned target, struct ind_steady now);

/* ---- sending.c ---- */

/* Takes up new connections, looks after those there are, sends what may be sent. Returns milliseconds until
 * it is to be called again. */
int ind_relay_send(struct ind_relay *relay, struct ind_steady now);
/* Ends all links; what is not acknowledged stays. */
void ind_relay_hang_up(struct ind_relay *relay);
bool ind_relay_is_up(const struct ind_relay *relay);

#endif
