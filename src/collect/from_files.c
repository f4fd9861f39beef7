/* collect/from_files.c: the intake threads of `collect --from`: every line of the files is a message.
 *
 * One thread reads the files and gives pieces of them, in turn, to as many as there are intakes. Each takes
 * the messages of its piece apart, and its last batch for it says so: the writer then goes on to the next
 * one's ring. So all messages are filed in the order in which they stand in the files. */
#include "collect/clock.h"
#include "collect/inside.h"
#include "core/names.h"
#include "store/reader.h"

#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <unistd.h>

enum { BLOCKS = 2, TURN_BYTES = 4 << 20 };

/* What one thread is to take apart next. */
struct queued_block {
    char *bytes;
    size_t room, length;
};

struct intake_thread {
    struct ind_collector *collector;
    unsigned number;
    pthread_t thread;
    struct ind_intake *intake;
    struct ind_batch *batch;
    struct ind_origin origin;
    /* Between it and the reading thread. */
    pthread_mutex_t mutex;
    pthread_cond_t changed;
    struct queued_block blocks[BLOCKS];
    size_t first, count;
    bool ended;
};

struct reading {
    struct ind_collector *collector;
    struct intake_thread *threads;
    unsigned count, next;
    struct queued_block *filling; /* of thread `next`; NULL: none yet */
    uint64_t bytes;
    bool out_of_memory;
};

/* ---- Taking blocks apart ---- */

static void next_batch(struct intake_thread *thread)
{
    struct ind_rings *rings = thread->collector->rings;
    if (thread->batch)
        ind_ring_put(rings, thread->number, thread->batch);
    while (!(thread->batch = ind_ring_empty(rings, thread->number, 500)))
        ; /* the writer takes them, or gives up and takes them as lost */
}

static void take_line(struct intake_thread *thread, struct ind_slice line)
{
    bool tallied = false;
    while (!ind_intake_message(thread->intake, thread->collector->settings->form, line, &thread->origin,
                               thread->batch, &tallied))
        next_batch(thread);
}

static void take_block(struct intake_thread *thread, struct ind_slice block)
{
    next_batch(thread);
    while (block.length > 0) {
        const char *newline = memchr(block.at, '\n', block.length);
        size_t length = newline ? (size_t)(newline - block.at) : block.length;
        take_line(thread, (struct ind_slice){block.at, length});
        block = ind_slice_from(block, newline ? length + 1 : length);
    }
    thread->batch->last_of_turn = true;
    ind_ring_put(thread->collector->rings, thread->number, thread->batch);
    thread->batch = NULL;
}

static void *take_blocks(void *argument)
{
    struct intake_thread *thread = argument;
    for (;;) {
        pthread_mutex_lock(&thread->mutex);
        while (thread->count == 0 && !thread->ended)
            pthread_cond_wait(&thread->changed, &thread->mutex);
        bool done = thread->count == 0;
        const struct queued_block *block = &thread->blocks[thread->first];
        pthread_mutex_unlock(&thread->mutex);
        if (done)
            break;
        take_block(thread, (struct ind_slice){block->bytes, block->length});
        pthread_mutex_lock(&thread->mutex);
        thread->first = (thread->first + 1) % BLOCKS;
        thread->count--;
        pthread_cond_signal(&thread->changed);
        pthread_mutex_unlock(&thread->mutex);
    }
    ind_ring_end(thread->collector->rings, thread->number);
    return NULL;
}

/* ---- Reading ---- */

static struct queued_block *free_block(struct intake_thread *thread)
{
    pthread_mutex_lock(&thread->mutex);
    while (thread->count == BLOCKS)
        pthread_cond_wait(&thread->changed, &thread->mutex);
    struct queued_block *block = &thread->blocks[(thread->first + thread->count) % BLOCKS];
    pthread_mutex_unlock(&thread->mutex);
    block->length = 0;
    return block;
}

static bool append(struct queued_block *block, struct ind_slice bytes)
{
    if (block->room - block->length < bytes.length) {
        size_t room = block->length + bytes.length > TURN_BYTES ? block->length + bytes.length : TURN_BYTES;
        char *grown = realloc(block->bytes, room);
        if (!grown)
            return false;
        block->bytes = grown;
        block->room = room;
    }
    memcpy(block->bytes + block->length, bytes.at, bytes.length);
    block->length += bytes.length;
    return true;
}

/* What is filled goes to its thread; the next will be another's. */
static void hand_over(struct reading *files)
{
    struct intake_thread *thread = &files->threads[files->next];
    if (!files->filling)
        return;
    pthread_mutex_lock(&thread->mutex);
    thread->count++;
    pthread_cond_signal(&thread->changed);
    pthread_mutex_unlock(&thread->mutex);
    files->filling = NULL;
    files->next = files->next + 1 < files->count ? files->next + 1 : 0;
}

/* The bytes are the reader's, and soon gone: they are copied. Turns are long, so that few batches go on their
 * way half empty. */
static bool pass_on(struct reading *files, struct ind_slice block)
{
    const struct ind_collector *collector = files->collector;
    if (files->filling && files->filling->length + block.length > TURN_BYTES)
        hand_over(files);
    if (!files->filling)
        files->filling = free_block(&files->threads[files->next]);
    const struct queued_block *before = files->filling;
    /* A file's last line may have no end; the next file's first is another. */
    if (before->length && before->bytes[before->length - 1] != '\n')
        files->out_of_memory |= !append(files->filling, IND_SLICE("\n"));
    files->out_of_memory |= !append(files->filling, block);
    return !files->out_of_memory && !atomic_load(&collector->stop) && !atomic_load(&collector->give_up);
}

static bool take_file(struct reading *files, const char *path)
{
    const struct ind_collect_settings *settings = files->collector->settings;
    bool standard = strcmp(path, "-") == 0;
    int file = standard ? dup(STDIN_FILENO) : open(path, O_RDONLY | O_CLOEXEC);
    struct ind_reader *reader =
        file < 0 ? NULL : ind_reader_open(file, ind_compression_of(path), 0, UINT64_MAX);
    struct ind_slice block;
    uint64_t at;
    enum ind_read result = IND_READ_FAILED;
    bool going = true;
    if (!reader) {
        ind_collect_tell(files->collector, IND_SEVERITY_ERROR, "cannot read %s: %s", path, strerror(errno));
        files->collector->unread_files++;
        return true;
    }
    while (going && (result = ind_reader_next(reader, &block, &at)) == IND_READ_BLOCK) {
        going = pass_on(files, block);
        files->bytes += block.length;
        if (settings->progress)
            settings->progress(settings->context, files->bytes);
    }
    if (result == IND_READ_FAILED) {
        ind_collect_tell(files->collector, IND_SEVERITY_ERROR, "cannot read all of %s: %s", path,
                         ind_reader_reason(reader));
        files->collector->unread_files++;
    }
    ind_reader_close(reader);
    return going;
}

static bool start_thread(struct reading *files, unsigned number)
{
    struct ind_collector *collector = files->collector;
    struct intake_thread *thread = &files->threads[number];
    thread->collector = collector;
    thread->number = number;
    thread->intake = collector->rules->intakes[number];
    thread->origin =
        (struct ind_origin){.transport = IND_TRANSPORT_FILE,
                            .number = IND_NAME_FILES,
                            .sender = ind_intake_sender_named(thread->intake, collector->settings->sender),
                            .received = collector->settings->received,
                            .now = ind_now()};
    pthread_mutex_init(&thread->mutex, NULL);
    pthread_cond_init(&thread->changed, NULL);
    return pthread_create(&thread->thread, NULL, take_blocks, thread) == 0;
}

static void end_threads(struct reading *files)
{
    hand_over(files);
    for (unsigned i = 0; i < files->count; i++) {
        struct intake_thread *thread = &files->threads[i];
        pthread_mutex_lock(&thread->mutex);
        thread->ended = true;
        pthread_cond_signal(&thread->changed);
        pthread_mutex_unlock(&thread->mutex);
        pthread_join(thread->thread, NULL);
        for (size_t k = 0; k < BLOCKS; k++)
            free(thread->blocks[k].bytes);
        pthread_mutex_destroy(&thread->mutex);
        pthread_cond_destroy(&thread->changed);
    }
    /* Those that could not be started. */
    for (unsigned i = files->count; i < files->collector->intakes; i++)
        ind_ring_end(files->collector->rings, i);
    free(files->threads);
}

void *ind_read_files(void *argument)
{
    struct ind_collector *collector = argument;
    const struct ind_collect_settings *settings = collector->settings;
    struct reading files = {.collector = collector};
    files.threads = calloc(collector->intakes, sizeof *files.threads);
    while (files.threads && files.count < collector->intakes && start_thread(&files, files.count))
        files.count++;
    bool good = files.count == collector->intakes;
    for (size_t i = 0; good && i < settings->file_count && take_file(&files, settings->files[i]); i++)
        ;
    end_threads(&files);
    bool stopped = atomic_load(&collector->stop), full = atomic_load(&collector->give_up);
    if (stopped || full || !good || files.out_of_memory) {
        ind_collect_tell(collector, IND_SEVERITY_ERROR, "%s",
                         !good                 ? "cannot start a thread: nothing was read"
                         : files.out_of_memory ? "out of memory: the rest of the files was not read"
                         : stopped             ? "told to end before all was read: what was read is filed"
                                   : "the disk takes nothing: the rest of the files was not read");
        collector->unread_files++;
    }
    return NULL;
}
