/* collect/queue/batch.h: formatted lines on their way from an intake thread to the writer, grouped by file,
 * and the account of the messages they come from.
 *
 * All memory is made once; adding allocates nothing. Within a group lines keep their order. A message is
 * tallied in the batch that holds its first line (or the note that it has none), whatever becomes of the rest
 * of its lines. */
#ifndef IND_COLLECT_QUEUE_BATCH_H
#define IND_COLLECT_QUEUE_BATCH_H

#include "collect/account/book.h"

struct ind_batch_line {
    uint32_t offset;
    uint32_t length : 31, waits : 1; /* waits: its sender is held back rather than that it is lost */
    uint32_t owner;                  /* an account (collect/account/book.h) */
    ind_time time;
};

struct ind_batch_group {
    uint32_t path, path_length, series, series_length; /* in the arena; none where it is no file's */
    uint32_t route, first, last;                       /* lines: their places; 0: none */
    uint32_t lines, cut;                               /* cut: of these, lines that were too long */
    uint64_t hash, bytes;
    bool made_up;
    uint8_t file_system; /* of the store: the number (store/disk/mounts.h) */
};

enum {
    IND_BATCH_BYTES = 1 << 20,
    IND_BATCH_LINES = 8192,
    IND_LINES_TOGETHER = 8, /* of a group lie one behind the other: fewer places to wait for */
    IND_LINE_BLOCKS = IND_BATCH_LINES / IND_LINES_TOGETHER,
    IND_BATCH_GROUPS = 1024,
    IND_BATCH_SLOTS = 4096,
    IND_BATCH_TALLIES = 1024
};

_Static_assert(IND_BATCH_GROUPS < UINT16_MAX, "a slot holds the number of a group, counted from 1");
_Static_assert(IND_BATCH_GROUPS < IND_BATCH_SLOTS, "a search for a group ends at a free slot");
_Static_assert(IND_BATCH_BYTES <= UINT32_MAX, "places in the arena fit");

struct ind_batch {
    struct ind_batch *next_free;
    char *arena;
    size_t used;
    size_t line_count, block_count, group_count, copies_count, tally_count, edit_tally_count;
    uint64_t round;                               /* the intake's number for it; 0: it has not seen it yet */
    struct ind_batch_line lines[IND_BATCH_LINES]; /* the place of one is its index + 1 */
    uint32_t following[IND_LINE_BLOCKS];          /* by block: the first place of the next of its group */
    struct ind_copies copies[IND_BATCH_LINES];
    struct ind_batch_group groups[IND_BATCH_GROUPS];
    struct ind_tally tallies[IND_BATCH_TALLIES];
    struct ind_edit_tally edit_tallies[IND_MOST_EDITS];
    uint16_t slots[IND_BATCH_SLOTS]; /* group + 1, by hash of the path */
    /* How far whoever files it has come (collect/output/filing.h). */
    size_t stored_groups;
    uint32_t next_line;
    bool within, booked;
    bool last_of_block; /* the writer goes on with the next ring: messages from files */
};

struct ind_batch *ind_batch_new(void);
void ind_batch_free(struct ind_batch *batch);
void ind_batch_clear(struct ind_batch *batch);

static inline bool ind_batch_is_empty(const struct ind_batch *batch)
{
    return batch->tally_count == 0 && batch->line_count == 0;
}

static inline struct ind_tallies ind_batch_tallies(const struct ind_batch *batch)
{
    return (struct ind_tallies){batch->tallies, batch->tally_count, batch->edit_tallies,
                                batch->edit_tally_count};
}

/* Whether the group, or (NULL) a new one, may have another line. */
static inline bool ind_batch_has_place(const struct ind_batch *batch, const struct ind_batch_group *group)
{
    return batch->block_count < IND_LINE_BLOCKS || (group && group->last % IND_LINES_TOGETHER != 0);
}

/* The batch has a place for another line: it goes behind those of its group. */
static inline void ind_batch_add_line(struct ind_batch *batch, struct ind_batch_group *group,
                                      const struct ind_batch_line *line)
{
    uint32_t place = group->last + 1;
    if (group->last % IND_LINES_TOGETHER == 0) {
        place = (uint32_t)batch->block_count++ * IND_LINES_TOGETHER + 1;
        if (group->last)
            batch->following[group->last / IND_LINES_TOGETHER - 1] = place;
        else
            group->first = place;
    }
    group->last = place;
    batch->lines[place - 1] = *line;
    batch->line_count++;
    group->lines++;
    group->bytes += line->length;
}

/* The place behind one of the group; 0: it has no more. */
static inline uint32_t ind_batch_after(const struct ind_batch *batch, const struct ind_batch_group *group,
                                       uint32_t place)
{
    return place == group->last              ? 0
           : place % IND_LINES_TOGETHER != 0 ? place + 1
                                             : batch->following[place / IND_LINES_TOGETHER - 1];
}

/* How many lines of the group lie one behind the other from `place` on, itself included. A group's last line
 * is behind all its others. */
static inline uint32_t ind_batch_together(const struct ind_batch_group *group, uint32_t place)
{
    const uint32_t end = (place + IND_LINES_TOGETHER - 1) / IND_LINES_TOGETHER * IND_LINES_TOGETHER;
    return (group->last < end ? group->last : end) - place + 1;
}

/* The place of the first line of a group that is not filed yet; 0: none is left. */
static inline uint32_t ind_batch_first_left(const struct ind_batch *batch, size_t group)
{
    return group == batch->stored_groups && batch->within ? batch->next_line : batch->groups[group].first;
}

/* Adds to the ledgers (one for each account of the intake, by its number) what the batch would bring if it
 * waited forever: what it has received and ended, and what of it is not filed yet. */
void ind_batch_weigh(const struct ind_batch *batch, struct ind_ledger *ledgers);

#endif
