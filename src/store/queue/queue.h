/* store/queue/queue.h: a queue on disk: messages that wait for a relay (docs/queue-format.md).
 *
 * A folder with segments, each named by the number of its first record, and a file `position`, which says up
 * to where the other side has taken them. Nothing in a segment ever changes: records come to the end of the
 * newest, and a segment goes as a whole when all its records are done with, or given up. A start begins a
 * segment of its own, so that whatever a crash has left at the end of the one before harms nothing.
 *
 * A queue belongs to one thread. */
#ifndef IND_STORE_QUEUE_QUEUE_H
#define IND_STORE_QUEUE_QUEUE_H

#include "core/queue/segment.h"
#include "store/disk/fs.h"

struct ind_queue;

struct ind_queue_settings {
    const struct ind_fs *fs; /* borrowed */
    const char *folder;      /* made where it is not there; copied */
    uint64_t segment;        /* bytes after which a segment ends */
};

/* Bursts that are under way and must go again as they were, where they are told. */
enum { IND_QUEUE_BATCHES = 16 };
struct ind_queue_batches {
    uint32_t records[IND_QUEUE_BATCHES]; /* in each, from the first that is not done with */
    unsigned count;
};

/* What was there before. */
struct ind_queue_found {
    uint64_t records; /* that wait, as far as their numbers tell */
    uint64_t doubles; /* of them: the other side may have them, and gets them once more */
    uint64_t cut;     /* bytes at the end of the newest segment that are no records: left where they are */
    unsigned strange; /* files that are none of ours: left alone, but that one with the name of a segment is
                         renamed to NAME.damaged */
    struct ind_queue_batches batches; /* of the doubles; as far as they are still there */
    bool position_lost; /* there are segments, and no position that can be read: all is sent again */
};

/* Opens it, or makes it; one process at a time does: a lock sees to it. New in *queue; 0, or the error. */
int ind_queue_open(const struct ind_queue_settings *settings, struct ind_queue **queue,
                   struct ind_queue_found *found);
/* Flushes and closes. Accepts NULL. */
void ind_queue_close(struct ind_queue *queue);

/* The number of the first record on disk; that behind the last; and all bytes of segments. Where there is
 * none both are the number that the next record has at least. */
uint64_t ind_queue_first(const struct ind_queue *queue);
uint64_t ind_queue_next(const struct ind_queue *queue);
uint64_t ind_queue_bytes(const struct ind_queue *queue);
static inline bool ind_queue_is_empty(const struct ind_queue *queue)
{
    return ind_queue_first(queue) == ind_queue_next(queue);
}

/* Adds `count` sealed records; `first`: the number of the first, behind all those there. All of them, or
 * nothing and the error. */
int ind_queue_append(struct ind_queue *queue, struct ind_slice records, uint64_t first, uint64_t count);

/* What a read gave. */
struct ind_queue_part {
    size_t length;  /* bytes: whole records, one after the other, each checked; 0: there is none */
    uint64_t first; /* the number of the first of them */
    uint64_t count;
    uint64_t lost; /* records before them that cannot be read */
};

/* Records from number `from` on, as many as fit into `room` bytes (which takes one of IND_QUEUED_MOST). 0, or
 * the error of the disk. A segment that is damaged is renamed to NAME.damaged, and its rest is lost. */
int ind_queue_read(struct ind_queue *queue, uint64_t from, char *to, size_t room,
                   struct ind_queue_part *part);

/* All before `acknowledged` are done with: segments that hold nothing else are removed. */
void ind_queue_done(struct ind_queue *queue, uint64_t acknowledged);
/* Removes the oldest segment. Returns the number behind its last record. */
uint64_t ind_queue_give_up(struct ind_queue *queue);

/* Who it is among all queues: 32 hexadecimal digits, the same as long as its folder is there. */
const char *ind_queue_identity(const struct ind_queue *queue);

/* Writes down, for the next start, what is done with and how far records were offered to another side; both
 * are numbers of the first record of which that does not hold. `batches` may be NULL. 0, or the error. */
int ind_queue_note(struct ind_queue *queue, uint64_t acknowledged, uint64_t offered,
                   const struct ind_queue_batches *batches);

/* What was written outlives a power failure. 0, or the error. */
int ind_queue_sync(struct ind_queue *queue);

#endif
