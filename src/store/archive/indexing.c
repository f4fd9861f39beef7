#include "store/archive/indexing.h"

#include "core/archive/index.h"
#include "store/disk/line_reader.h"
#include "thread/mutex.h"
#include <pthread.h>
#include <stdlib.h>

/* Less text than this is read at once: a thread would cost more than it saves. */
enum { WORTH_A_THREAD = 2 << 20 };
/* And so little is unpacked in less time than an index is read. */
enum { WORTH_AN_INDEX = 64 << 10 };

struct ind_indexing {
    int stored;
    struct ind_index_writer *writer;
    struct ind_line_reader *reader;
    uint32_t text;     /* bytes of the present frame */
    uint64_t all_text; /* of all so far */
    bool failed;       /* memory is out: there will be no index */

    bool has_thread;
    pthread_t thread;
    struct ind_mutex mutex;
    struct ind_condition_variable changed;
    struct ind_slice frame IND_GUARDED_BY(mutex); /* to be read; empty: none */
    bool ends IND_GUARDED_BY(mutex);
};

/* Of the layouts whose lines tell them, what is known of each line (docs/formats.md). */
static unsigned known_of(int stored)
{
    if (stored == IND_LAYOUT_PLAIN || stored == IND_LAYOUT_JSON)
        return IND_INDEX_TIMES | IND_INDEX_PRI | IND_INDEX_DEVICES | IND_INDEX_KEYS;
    return stored == IND_LAYOUT_RFC5424 ? IND_INDEX_TIMES | IND_INDEX_PRI | IND_INDEX_KEYS : 0;
}

/* ---- A frame ---- */

/* As a search reads it. */
static void read_line(struct ind_indexing *indexing, struct ind_slice line)
{
    struct ind_message message = {.time = IND_TIME_NONE};
    struct ind_slice bytes;
    if (!ind_line_reader_read(indexing->reader, indexing->stored, line, &message, &bytes)) {
        ind_index_add_line(indexing->writer, NULL);
        return;
    }
    const struct ind_index_line facts = {.time = message.time,
                                         .facility = message.facility,
                                         .severity = message.severity,
                                         .device = message.device,
                                         .host = message.host,
                                         .app = message.app,
                                         .msgid = message.msgid,
                                         .text = message.text};
    ind_index_add_line(indexing->writer, &facts);
}

static void read_frame(struct ind_indexing *indexing, struct ind_slice frame)
{
    while (frame.length) {
        const char *newline = memchr(frame.at, '\n', frame.length);
        const size_t length = newline ? (size_t)(newline - frame.at) : frame.length;
        read_line(indexing, (struct ind_slice){frame.at, length});
        frame = ind_slice_from(frame, length + (newline != NULL));
    }
}

/* ---- On a thread of its own ---- */

static void *run(void *context)
{
    struct ind_indexing *indexing = context;
    ind_mutex_lock(&indexing->mutex);
    while (!indexing->ends) {
        const struct ind_slice frame = indexing->frame;
        if (frame.length) {
            ind_mutex_unlock(&indexing->mutex);
            read_frame(indexing, frame);
            ind_mutex_lock(&indexing->mutex);
            indexing->frame = IND_NOTHING;
            ind_condition_variable_broadcast(&indexing->changed);
        } else {
            ind_condition_variable_wait(&indexing->changed, &indexing->mutex);
        }
    }
    ind_mutex_unlock(&indexing->mutex);
    return NULL;
}

static void begin_frame(void *context, struct ind_slice text)
{
    struct ind_indexing *indexing = context;
    indexing->text = (uint32_t)text.length;
    if (!indexing->has_thread) {
        read_frame(indexing, text);
        return;
    }
    ind_mutex_lock(&indexing->mutex);
    indexing->frame = text;
    ind_condition_variable_broadcast(&indexing->changed);
    ind_mutex_unlock(&indexing->mutex);
}

static void end_frame(void *context, uint32_t packed)
{
    struct ind_indexing *indexing = context;
    ind_mutex_lock(&indexing->mutex);
    while (indexing->frame.length)
        ind_condition_variable_wait(&indexing->changed, &indexing->mutex);
    ind_mutex_unlock(&indexing->mutex);
    indexing->all_text += indexing->text;
    indexing->failed |= !ind_index_end_frame(indexing->writer, packed, indexing->text);
}

static char *finish(void *context, size_t *length)
{
    struct ind_indexing *indexing = context;
    return indexing->failed || indexing->all_text < WORTH_AN_INDEX
               ? NULL
               : ind_index_finish(indexing->writer, length);
}

/* ---- Together ---- */

struct ind_indexing *ind_indexing_new(int stored, int level, uint64_t size)
{
    struct ind_indexing *indexing = calloc(1, sizeof *indexing);
    if (!indexing)
        return NULL;
    indexing->stored = stored;
    indexing->writer = ind_index_writer_new(known_of(stored), ind_frame_size(level));
    indexing->reader = ind_line_reader_new();
    ind_mutex_begin(&indexing->mutex);
    ind_condition_variable_begin(&indexing->changed);
    if (indexing->writer && indexing->reader) {
        indexing->has_thread =
            size >= WORTH_A_THREAD && pthread_create(&indexing->thread, NULL, run, indexing) == 0;
        return indexing;
    }
    ind_indexing_free(indexing);
    return NULL;
}

void ind_indexing_free(struct ind_indexing *indexing)
{
    if (!indexing)
        return;
    if (indexing->has_thread) {
        ind_mutex_lock(&indexing->mutex);
        indexing->ends = true;
        ind_condition_variable_broadcast(&indexing->changed);
        ind_mutex_unlock(&indexing->mutex);
        pthread_join(indexing->thread, NULL);
    }
    ind_condition_variable_end(&indexing->changed);
    ind_mutex_end(&indexing->mutex);
    ind_index_writer_free(indexing->writer);
    ind_line_reader_free(indexing->reader);
    free(indexing);
}

struct ind_frame_calls ind_indexing_calls(struct ind_indexing *indexing)
{
    return (struct ind_frame_calls){indexing, begin_frame, end_frame, finish};
}
