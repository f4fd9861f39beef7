/* collect/batch.h: formatted lines on their way from an intake thread to the writer, grouped by file.
 *
 * All memory is made once; adding allocates nothing. Within a group lines keep their order. */
#ifndef IND_COLLECT_BATCH_H
#define IND_COLLECT_BATCH_H

#include "store/store.h"

/* What became of messages (DESIGN: the ledger). Received is the sum of the others and of what waits. */
struct ind_ledger {
    uint64_t received, unrouted, refused_sender, refused_empty;
    uint64_t malformed, cut; /* of those received; they are filed like all others */
};

struct ind_batch_line {
    uint32_t offset, length, next; /* next: in its group, index + 1; 0: none */
    bool counted;                  /* the copy by which its message counts as stored */
    ind_time time;
};

struct ind_batch_group {
    uint32_t path, path_length, series, series_length; /* in the arena */
    uint32_t route, first, last;                       /* lines, index + 1 */
    uint64_t hash;
    bool made_up;
};

enum { IND_BATCH_BYTES = 1 << 20, IND_BATCH_LINES = 8192, IND_BATCH_GROUPS = 1024, IND_BATCH_SLOTS = 4096 };

struct ind_batch {
    struct ind_batch *next_free;
    char *arena;
    size_t used;
    size_t line_count, group_count;
    struct ind_ledger ledger;
    struct ind_batch_line lines[IND_BATCH_LINES];
    struct ind_batch_group groups[IND_BATCH_GROUPS];
    uint16_t slots[IND_BATCH_SLOTS]; /* group + 1, by hash of the path */
    /* How far ind_batch_store has come. */
    size_t stored_groups;
    uint32_t next_line;
    bool within;
};

struct ind_batch *ind_batch_new(void);
void ind_batch_free(struct ind_batch *batch);
void ind_batch_clear(struct ind_batch *batch);

/* Adds what the batch holds to the store. False where the store is full: call again later, it goes on where
 * it stopped. True: the batch may be cleared. */
bool ind_batch_store(struct ind_batch *batch, struct ind_store *store, ind_time now);

#endif
