/* core/queue/segment.h: messages that wait, as they stand in a file: docs/queue-format.md.
 *
 * A queue is a row of records, counted from 1; a segment is a file with the header and as many whole records
 * as it has. Each record is checked by itself, under its number: a piece of another segment, or of an older
 * one, is no record of this. All numbers are little-endian. */
#ifndef IND_CORE_QUEUE_SEGMENT_H
#define IND_CORE_QUEUE_SEGMENT_H

#include "core/time/civil.h"

enum {
    IND_SEGMENT_HEADER = 32,
    IND_QUEUED_HEADER = 16,
    IND_QUEUED_MOST = 512 << 10 /* bytes of a message */
};

/* The header of a segment whose first record has that number. */
void ind_segment_begin(char header[IND_SEGMENT_HEADER], uint64_t first);
/* False where a file does not begin with one. */
bool ind_segment_read(struct ind_slice file, uint64_t *first);

struct ind_queued {
    ind_time time; /* since when it waits */
    struct ind_slice bytes;
    size_t size; /* of all of it in the file */
};

static inline size_t ind_queued_size(size_t length)
{
    return IND_QUEUED_HEADER + length;
}

/* Writes a record, but for its check, to `at`, where ind_queued_size bytes are free. */
void ind_queued_put(char *at, ind_time time, struct ind_slice bytes);
/* Fills in the check of a record that was put, now that its number is known. */
void ind_queued_seal(char *at, uint64_t number);

/* A record that was put, sealed or not: nothing is checked. */
static inline struct ind_queued ind_queued_at(const char *at)
{
    const unsigned char *byte = (const unsigned char *)at;
    uint64_t time = 0;
    const uint32_t length =
        byte[0] | (uint32_t)byte[1] << 8 | (uint32_t)byte[2] << 16 | (uint32_t)byte[3] << 24;
    for (int i = 7; i >= 0; i--)
        time = time << 8 | byte[8 + i];
    return (struct ind_queued){
        (ind_time)time, {at + IND_QUEUED_HEADER, length}, IND_QUEUED_HEADER + (size_t)length};
}

enum ind_queued_found {
    IND_QUEUED_WHOLE,
    IND_QUEUED_SHORT, /* its end is not there */
    IND_QUEUED_BAD    /* it is none, or not the one of that number */
};

/* The record of that number at the beginning of `rest`; slices point into it. */
enum ind_queued_found ind_queued_read(struct ind_slice rest, uint64_t number, struct ind_queued *record);

#endif
