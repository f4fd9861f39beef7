/* What all parts of a queue need: its segments by name and number, and the end of what is open. */
#include "store/queue/queue_private.h"

#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <unistd.h>

void ind_segment_name(uint64_t first, char name[IND_SEGMENT_NAME])
{
    snprintf(name, IND_SEGMENT_NAME, "%020llu.queue", (unsigned long long)first);
}

uint64_t ind_segment_number(const char *name)
{
    char again[IND_SEGMENT_NAME];
    unsigned long long number = strtoull(name, NULL, 10);
    ind_segment_name(number, again);
    return strcmp(name, again) == 0 ? number : 0;
}

uint64_t ind_queue_first(const struct ind_queue *queue)
{
    return queue->count ? queue->segments[0].first : queue->next;
}

uint64_t ind_queue_next(const struct ind_queue *queue)
{
    return queue->next;
}

const char *ind_queue_identity(const struct ind_queue *queue)
{
    return queue->identity;
}

uint64_t ind_queue_bytes(const struct ind_queue *queue)
{
    return queue->bytes;
}

bool ind_queue_keep(struct ind_queue *queue, const struct ind_queue_segment *segment)
{
    if (queue->count == queue->room) {
        const size_t room = queue->room * 2 + 16;
        struct ind_queue_segment *grown = realloc(queue->segments, room * sizeof *grown);
        if (!grown)
            return false;
        queue->segments = grown;
        queue->room = room;
    }
    queue->segments[queue->count++] = *segment;
    queue->bytes += segment->bytes;
    return true;
}

void ind_queue_drop_newest(struct ind_queue *queue)
{
    char name[IND_SEGMENT_NAME];
    const struct ind_queue_segment newest = queue->segments[--queue->count];
    ind_segment_name(newest.named, name);
    (void)queue->fs.remove(queue->fs.context, queue->folder, name);
    queue->bytes -= newest.bytes;
}

void ind_queue_set_aside(struct ind_queue *queue, const char *name)
{
    char aside[IND_SEGMENT_NAME + 16];
    const size_t length = strlen(name);
    memcpy(aside, name, length);
    memcpy(aside + length, ".damaged", sizeof ".damaged");
    (void)queue->fs.rename(queue->fs.context, queue->folder, name, aside);
}

/* One without a record goes: the next begins with the same number. */
void ind_queue_end_segment(struct ind_queue *queue)
{
    if (queue->writing < 0)
        return;
    (void)queue->fs.sync(queue->fs.context, queue->writing);
    close(queue->writing);
    queue->writing = -1;
    if (queue->segments[queue->count - 1].next == queue->segments[queue->count - 1].named)
        ind_queue_drop_newest(queue);
}

void ind_queue_stop_reading(struct ind_queue *queue)
{
    if (queue->reading.file >= 0)
        close(queue->reading.file);
    queue->reading.file = -1;
}

int ind_queue_sync(struct ind_queue *queue)
{
    int error = 0;
    if (queue->unsynced && queue->writing >= 0 && queue->fs.sync(queue->fs.context, queue->writing) != 0)
        error = errno;
    if (queue->unsynced && queue->fs.sync(queue->fs.context, queue->position) != 0)
        error = errno;
    if (queue->folder_unsynced && queue->fs.sync(queue->fs.context, queue->folder) != 0)
        error = errno;
    if (error == 0)
        queue->unsynced = queue->folder_unsynced = false;
    return error;
}

void ind_queue_close(struct ind_queue *queue)
{
    if (!queue)
        return;
    if (queue->position >= 0)
        (void)ind_queue_sync(queue);
    ind_queue_end_segment(queue);
    ind_queue_stop_reading(queue);
    if (queue->position >= 0)
        close(queue->position);
    if (queue->folder >= 0)
        close(queue->folder);
    free(queue->segments);
    free(queue->path);
    free(queue);
}
