/* Reading what waits. */
#include "store/disk/read_at.h"
#include "store/queue/queue_private.h"

#include <fcntl.h>
#include <stdlib.h>

static struct ind_queue_segment *segment_of(const struct ind_queue *queue, uint64_t number)
{
    size_t from = 0, to = queue->count;
    while (from < to) {
        const size_t middle = from + (to - from) / 2;
        if (queue->segments[middle].next <= number)
            from = middle + 1;
        else
            to = middle;
    }
    return from < queue->count ? &queue->segments[from] : NULL;
}

/* 0, or the error. */
static int begin_reading(struct ind_queue *queue, const struct ind_queue_segment *segment)
{
    char name[IND_SEGMENT_NAME];
    ind_queue_stop_reading(queue);
    ind_segment_name(segment->named, name);
    queue->reading.file = openat(queue->folder, name, O_RDONLY | O_CLOEXEC | O_NOFOLLOW);
    queue->reading.segment = segment->named;
    queue->reading.number = segment->named;
    queue->reading.offset = IND_SEGMENT_HEADER;
    return queue->reading.file < 0 ? errno : 0;
}

/* Whole records of the segment from the place of reading on; those before `from` are passed over. Says
 * whether it ended at something that is no record. */
static int read_some(struct ind_queue *queue, uint64_t from, uint64_t end, char *to, size_t room,
                     struct ind_queue_part *part, bool *broken)
{
    *broken = false;
    while (part->length == 0 && queue->reading.number < end) {
        const ssize_t got = ind_read_at(queue->reading.file, to, room, queue->reading.offset);
        if (got < 0)
            return errno;
        struct ind_slice rest = {to, (size_t)got};
        struct ind_queued record;
        size_t passed = 0;
        enum ind_queued_found found = IND_QUEUED_SHORT;
        while (queue->reading.number < end &&
               (found = ind_queued_read(rest, queue->reading.number, &record)) == IND_QUEUED_WHOLE) {
            if (queue->reading.number++ < from)
                passed += record.size;
            rest = ind_slice_from(rest, record.size);
        }
        const size_t whole = (size_t)got - rest.length;
        part->length = whole - passed;
        memmove(to, to + passed, part->length);
        queue->reading.offset += whole;
        *broken = found == IND_QUEUED_BAD || (found == IND_QUEUED_SHORT && (size_t)got < room);
        if (*broken || whole == 0)
            break;
    }
    return 0;
}

/* The rest of a segment is none of ours any more; what of it was read stays good. */
static void leave(struct ind_queue *queue, struct ind_queue_segment *segment)
{
    char name[IND_SEGMENT_NAME];
    const size_t at = (size_t)(segment - queue->segments);
    ind_segment_name(segment->named, name);
    ind_queue_set_aside(queue, name);
    ind_queue_stop_reading(queue);
    if (at + 1 == queue->count && queue->writing >= 0) {
        close(queue->writing);
        queue->writing = -1;
    }
    queue->bytes -= segment->bytes;
    queue->count--;
    memmove(segment, segment + 1, (queue->count - at) * sizeof *segment);
}

int ind_queue_read(struct ind_queue *queue, uint64_t from, char *to, size_t room, struct ind_queue_part *part)
{
    *part = (struct ind_queue_part){.first = from};
    for (;;) {
        struct ind_queue_segment *segment = segment_of(queue, from);
        if (!segment)
            return 0;
        if (segment->first > from) { /* nothing has these numbers */
            part->lost += segment->first - from;
            from = segment->first;
        }
        bool here = queue->reading.file >= 0 && queue->reading.segment == segment->named &&
                    queue->reading.number <= from;
        int error = here ? 0 : begin_reading(queue, segment);
        bool broken = error == ENOENT;
        if (error == 0)
            error = read_some(queue, from, segment->next, to, room, part, &broken);
        else if (broken)
            error = 0;
        if (error)
            return error;
        part->first = from;
        if (part->length) {
            part->count = queue->reading.number - from;
            return 0;
        }
        part->lost += segment->next - from;
        from = segment->next;
        if (broken || queue->reading.number < segment->next)
            leave(queue, segment);
    }
}
