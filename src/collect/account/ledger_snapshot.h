/* collect/account/ledger_snapshot.h: the ledger of one receiver at one moment: what it had received, and what
 * had become of it when all that it had passed on before had come to the writer. */
#ifndef IND_COLLECT_ACCOUNT_LEDGER_SNAPSHOT_H
#define IND_COLLECT_ACCOUNT_LEDGER_SNAPSHOT_H

#include "collect/account/accounts.h"
#include "collect/account/edit_counts.h"

/* Listeners that one run can know, over all reloads; each has a number in the ledger. */
enum { IND_LISTENER_NAMES = 256, IND_NAME_INTERNAL = 0, IND_NAME_FILES = 1 };

/* What the routes took: a message that two routes take counts twice here. */
struct ind_route_count {
    char *name;
    uint64_t lines, bytes;
    uint64_t cut; /* of these lines: too long to be written whole */
};

/* What a route took of an account. */
struct ind_route_share {
    uint32_t account, place; /* place: in the routes of the snapshot; UINT32_MAX: all those beyond */
    uint64_t messages;
};

/* What went to standard output and to programs. */
struct ind_sink_count {
    const char *name; /* "output", or the program and its arguments; as long as the sinks */
    bool present;     /* some route names it */
    bool runs;        /* standard output: nobody has closed it */
    int process;      /* 0: none */
    uint64_t starts, taken, lost, waiting; /* taken, lost, waiting: lines */
};

/* What a receiver counts by listener, at the socket. */
struct ind_intake_counts {
    uint64_t received[IND_LISTENER_NAMES], bytes[IND_LISTENER_NAMES];
    uint64_t lost_buffer[IND_LISTENER_NAMES], waiting[IND_LISTENER_NAMES];
};

/* Filled by the receiver (counts, account_count), then by the writer (all else), then read by whoever asked:
 * it belongs to one thread at a time, and passes with a marker. */
struct ind_ledger_snapshot {
    struct ind_intake_counts counts;
    uint32_t account_count;
    struct ind_ledger *ledgers; /* by account; NULL: no memory for them */
    uint32_t account_room;      /* of these three, which are used again */
    ind_time *last;
    struct ind_clock_offset *offsets;     /* summed up by those who need it: that takes a while */
    uint64_t ring_waiting, store_waiting; /* messages, of `waiting` in the ledgers */
    struct ind_route_count *routes;       /* names are borrowed */
    size_t route_count;
    struct ind_route_share *shares; /* in the order of accounts; NULL: no memory for them, or none */
    size_t share_count;
    struct ind_sink_count *sinks; /* names are borrowed */
    size_t sink_count;
    struct ind_edit_count *edits; /* of this intake */
};

/* Forgets what is in it, so that it can be filled anew. */
void ind_ledger_snapshot_clear(struct ind_ledger_snapshot *snapshot);
/* Frees it. */
void ind_ledger_snapshot_free(struct ind_ledger_snapshot *snapshot);

#endif
