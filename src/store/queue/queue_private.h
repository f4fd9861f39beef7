/* store/queue/queue_private.h: what a queue is made of. */
#ifndef IND_STORE_QUEUE_QUEUE_PRIVATE_H
#define IND_STORE_QUEUE_QUEUE_PRIVATE_H

#include "store/queue/queue.h"

enum { IND_SEGMENT_NAME = 32, IND_POSITION_LINE = 288 };

struct ind_queue_segment {
    uint64_t named; /* the number in its name: of the first record in the file */
    uint64_t first; /* of the first that is not done with */
    uint64_t next;  /* behind its last: where the segment behind it begins, or as it was counted */
    uint64_t bytes;
};

struct ind_queue {
    struct ind_fs fs; /* every change of a file goes through it */
    char *path;
    int folder, position;
    uint64_t limit, generation, bytes;
    struct ind_queue_segment *segments; /* oldest first */
    size_t count, room;
    uint64_t next; /* the least number of the next record */
    int writing;   /* the newest segment, while records may come to its end; -1: the next begins another */
    bool unsynced, folder_unsynced;
    char identity[33];
    char boot[40]; /* of the running system; "-": not known */
    /* Where reading goes on. */
    struct {
        int file; /* -1: none */
        uint64_t segment, number, offset;
    } reading;
};

/* ---- segments.c ---- */

/* Adds one behind all others; false where memory is out. */
bool ind_queue_keep(struct ind_queue *queue, const struct ind_queue_segment *segment);
/* The newest, which has no record, is removed. */
void ind_queue_drop_newest(struct ind_queue *queue);
/* A file that is no segment, or none any more, is renamed to NAME.damaged. */
void ind_queue_set_aside(struct ind_queue *queue, const char *name);
/* Nothing more comes to the end of the newest. One without a record goes: the next begins with the same
 * number.
 */
void ind_queue_end_segment(struct ind_queue *queue);
void ind_queue_stop_reading(struct ind_queue *queue);

void ind_segment_name(uint64_t first, char name[IND_SEGMENT_NAME]);
/* The number in a segment's name; 0: it is none. */
uint64_t ind_segment_number(const char *name);

/* ---- position.c ---- */

/* The last position that was written down; false where there is none that can be read. */
struct ind_queue_position {
    uint64_t acknowledged, offered, generation;
    struct ind_queue_batches batches;
    char boot[40];
};
bool ind_queue_position_read(int file, struct ind_queue_position *position);
void ind_queue_position_write(const struct ind_queue_position *position, char line[IND_POSITION_LINE]);
bool ind_queue_position_parse(struct ind_slice line, struct ind_queue_position *position);

#endif
