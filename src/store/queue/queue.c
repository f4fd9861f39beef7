#include "store/queue/queue_private.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <unistd.h>

/* ---- Writing ---- */

static int begin_segment(struct ind_queue *queue, uint64_t first)
{
    char name[IND_SEGMENT_NAME], header[IND_SEGMENT_HEADER];
    const struct ind_queue_segment segment = {first, first, first, IND_SEGMENT_HEADER};
    ind_segment_name(first, name);
    ind_segment_begin(header, first);
    const int file = queue->fs.open(queue->fs.context, queue->folder, name,
                                    O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC | O_NOFOLLOW, 0600);
    if (file < 0)
        return errno;
    const bool written = ind_fs_write_all(&queue->fs, file, header, sizeof header);
    const int failed = errno;
    if (!written || !ind_queue_keep(queue, &segment)) {
        const int error = written ? ENOMEM : failed;
        close(file);
        (void)queue->fs.remove(queue->fs.context, queue->folder, name);
        return error;
    }
    queue->writing = file;
    queue->folder_unsynced = true;
    return 0;
}

/* What was written of a part that did not fit goes again; where even that fails nothing more comes to the end
 * of this segment, and its reader stops at what is no record. */
static void take_back(struct ind_queue *queue, const struct ind_queue_segment *segment)
{
    if (queue->fs.truncate(queue->fs.context, queue->writing, segment->bytes) == 0 &&
        lseek(queue->writing, (off_t)segment->bytes, SEEK_SET) >= 0)
        return;
    ind_queue_end_segment(queue);
}

int ind_queue_append(struct ind_queue *queue, struct ind_slice records, uint64_t first, uint64_t count)
{
    struct ind_queue_segment *segment = queue->count ? &queue->segments[queue->count - 1] : NULL;
    const bool goes_on =
        queue->writing >= 0 && segment->next == first &&
        (segment->bytes == IND_SEGMENT_HEADER || segment->bytes + records.length <= queue->limit);
    if (!goes_on) {
        ind_queue_end_segment(queue);
        const int error = begin_segment(queue, first);
        if (error)
            return error;
        segment = &queue->segments[queue->count - 1];
    }
    if (!ind_fs_write_all(&queue->fs, queue->writing, records.at, records.length)) {
        const int error = errno;
        take_back(queue, segment);
        return error;
    }
    segment->bytes += records.length;
    segment->next += count;
    queue->bytes += records.length;
    queue->next = segment->next;
    queue->unsynced = true;
    return 0;
}

int ind_queue_note(struct ind_queue *queue, uint64_t acknowledged, uint64_t offered,
                   const struct ind_queue_batches *batches)
{
    struct ind_queue_position position = {acknowledged, offered, queue->generation + 1, {{0}, 0}, ""};
    if (batches)
        position.batches = *batches;
    char line[IND_POSITION_LINE];
    memcpy(position.boot, queue->boot, sizeof position.boot);
    ind_queue_position_write(&position, line);
    const off_t at = (off_t)(position.generation % 2 * IND_POSITION_LINE);
    if (lseek(queue->position, at, SEEK_SET) != at ||
        !ind_fs_write_all(&queue->fs, queue->position, line, sizeof line))
        return errno;
    queue->generation = position.generation;
    queue->unsynced = true;
    if (acknowledged > queue->next)
        queue->next = acknowledged;
    return 0;
}

/* ---- Removing ---- */

static void remove_oldest(struct ind_queue *queue)
{
    char name[IND_SEGMENT_NAME];
    const struct ind_queue_segment oldest = queue->segments[0];
    if (queue->count == 1 && queue->writing >= 0) { /* nothing of it is to outlive anything any more */
        close(queue->writing);
        queue->writing = -1;
    }
    if (queue->reading.file >= 0 && queue->reading.segment == oldest.named)
        ind_queue_stop_reading(queue);
    /* The name is that of the file's first record, which may be done with. */
    ind_segment_name(oldest.named, name);
    (void)queue->fs.remove(queue->fs.context, queue->folder, name);
    queue->bytes -= oldest.bytes;
    queue->count--;
    memmove(queue->segments, queue->segments + 1, queue->count * sizeof *queue->segments);
}

void ind_queue_done(struct ind_queue *queue, uint64_t acknowledged)
{
    while (queue->count && queue->segments[0].next <= acknowledged)
        remove_oldest(queue);
    if (queue->count && queue->segments[0].first < acknowledged)
        queue->segments[0].first = acknowledged;
}

uint64_t ind_queue_give_up(struct ind_queue *queue)
{
    const uint64_t next = ind_queue_is_empty(queue) ? queue->next : queue->segments[0].next;
    if (queue->count)
        remove_oldest(queue);
    return next;
}
