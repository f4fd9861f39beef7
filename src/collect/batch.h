/* collect/batch.h: formatted lines on their way from an intake thread to the writer, grouped by file, and the
 * account of the messages they come from.
 *
 * All memory is made once; adding allocates nothing. Within a group lines keep their order. A message is
 * tallied in the batch that holds its first line (or the news that it has none), whatever becomes of the rest
 * of its lines. */
#ifndef IND_COLLECT_BATCH_H
#define IND_COLLECT_BATCH_H

#include "collect/accounts.h"
#include "collect/edit_counts.h"
#include "core/edit/edit.h"
#include "store/write/store.h"

/* The owner of a line whose message has others: IND_OWNER_COPIES + the number of its entry in `copies`. */
#define IND_OWNER_COPIES UINT32_C(0x80000000)

struct ind_batch_line {
    uint32_t offset, length, next; /* next: in its group, index + 1; 0: none */
    uint32_t owner;                /* an account, or see above */
    ind_time time;
};

struct ind_batch_group {
    uint32_t path, path_length, series, series_length; /* in the arena; none where it is no file's */
    uint32_t route, first, last;                       /* lines, index + 1 */
    uint32_t lines, cut;                               /* cut: of these, lines that were too long */
    uint64_t hash, bytes;
    bool made_up;
};

/* A message with more than one line. */
struct ind_batch_copies {
    uint32_t account, count; /* count: of all its lines, also those in other batches */
    uint32_t token;          /* the book's */
    bool continued;          /* its first line is in the batch before this one */
};

/* What one account had in this batch. */
struct ind_tally {
    uint32_t account, received, malformed, cut, gave_up;
    uint32_t ended[IND_ENDS]; /* those that the intake thread decides */
    uint32_t forms[IND_FORMS];
    uint64_t bytes;
    ind_time last, lag; /* of the last message; IND_TIME_NONE where it told no time */
    bool unset;         /* it says that its device's clock is not set */
};

/* What one edit did to the messages in it. */
struct ind_edit_tally {
    const char *edit; /* its name; the configuration's */
    uint32_t changed, dropped;
    uint64_t dropped_bytes; /* of messages as they were received */
};

enum {
    IND_BATCH_BYTES = 1 << 20,
    IND_BATCH_LINES = 8192,
    IND_BATCH_GROUPS = 1024,
    IND_BATCH_SLOTS = 4096,
    IND_BATCH_TALLIES = 1024
};

struct ind_book;
struct ind_sinks;

struct ind_batch {
    struct ind_batch *next_free;
    char *arena;
    size_t used;
    size_t line_count, group_count, copies_count, tally_count, edit_tally_count;
    uint64_t round; /* the intake's number for it; 0: it has not seen it yet */
    struct ind_batch_line lines[IND_BATCH_LINES];
    struct ind_batch_copies copies[IND_BATCH_LINES];
    struct ind_batch_group groups[IND_BATCH_GROUPS];
    struct ind_tally tallies[IND_BATCH_TALLIES];
    struct ind_edit_tally edit_tallies[IND_MOST_EDITS];
    uint16_t slots[IND_BATCH_SLOTS]; /* group + 1, by hash of the path */
    /* How far ind_batch_store has come. */
    size_t stored_groups;
    uint32_t next_line;
    bool within, booked;
    bool last_of_turn; /* the writer goes on with the next ring: messages from files */
};

struct ind_batch *ind_batch_new(void);
void ind_batch_free(struct ind_batch *batch);
void ind_batch_clear(struct ind_batch *batch);

static inline bool ind_batch_is_empty(const struct ind_batch *batch)
{
    return batch->tally_count == 0 && batch->line_count == 0;
}

enum ind_batch_stored {
    IND_BATCH_STORED, /* all of it: the batch may be cleared */
    IND_BATCH_FULL,   /* the store is full: call again later, it goes on where it stopped */
    IND_BATCH_HELD    /* a taker is: the same after ind_sinks_wait */
};

/* Adds what the batch, of the given intake, holds to the book, and to the store or (unless NULL) the takers.
 */
enum ind_batch_stored ind_batch_store(struct ind_batch *batch, unsigned intake, struct ind_book *book,
                                      struct ind_store *store, struct ind_sinks *takers,
                                      struct ind_clocks now);

/* Gives up what of the batch is not in the store yet: it is lost, and counted so. */
void ind_batch_lose(struct ind_batch *batch, unsigned intake, struct ind_book *book,
                    struct ind_sinks *takers);

/* Adds to the ledgers (one for each account of the intake, by its number) what the batch would bring if it
 * waited for ever: what it has received and ended, and what of it is not in the store yet. */
void ind_batch_weigh(const struct ind_batch *batch, struct ind_ledger *ledgers);

/* Adds what edits did to the messages in it. */
void ind_batch_add_edits(const struct ind_batch *batch, struct ind_edit_count **counts);

#endif
