#include "collect/intake/file_reader.h"

#include "store/disk/reader.h"
#include "store/read/lookup.h"
#include "thread/mutex.h"

#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <unistd.h>

enum { BLOCKS = 2, BLOCK_BYTES = 512 << 10 };

/* What one thread is to read next. */
struct queued_block {
    char *bytes;
    size_t room, length;
    uint64_t number;
    enum ind_line_form form;
};

struct block_thread {
    const struct ind_file_reading *reading;
    unsigned number;
    pthread_t thread;
    /* Between it and the reading thread: a block belongs to the reader until it is counted, and to this
     * thread from then on. */
    struct ind_mutex mutex;
    struct ind_condition_variable changed;
    struct queued_block blocks[BLOCKS]; /* those from `first` on, `count` of them, are guarded by it, too */
    size_t first IND_GUARDED_BY(mutex), count IND_GUARDED_BY(mutex);
    bool ended IND_GUARDED_BY(mutex);
};

struct reading {
    const struct ind_file_reading *call;
    struct block_thread *threads;
    unsigned count, next;
    struct queued_block *filling; /* of thread `next`; NULL: none yet */
    uint64_t bytes, block;
    bool out_of_memory;
};

static void *read_blocks(void *argument)
{
    struct block_thread *thread = argument;
    const struct ind_file_reading *call = thread->reading;
    for (;;) {
        ind_mutex_lock(&thread->mutex);
        while (thread->count == 0 && !thread->ended)
            ind_condition_variable_wait(&thread->changed, &thread->mutex);
        bool done = thread->count == 0;
        const struct queued_block *block = &thread->blocks[thread->first];
        ind_mutex_unlock(&thread->mutex);
        if (done)
            break;
        call->lines(call->context, thread->number, block->number, block->form,
                    (struct ind_slice){block->bytes, block->length});
        ind_mutex_lock(&thread->mutex);
        thread->first = (thread->first + 1) % BLOCKS;
        thread->count--;
        ind_condition_variable_signal(&thread->changed);
        ind_mutex_unlock(&thread->mutex);
    }
    call->end(call->context, thread->number);
    return NULL;
}

static struct queued_block *free_block(struct block_thread *thread)
{
    ind_mutex_lock(&thread->mutex);
    while (thread->count == BLOCKS)
        ind_condition_variable_wait(&thread->changed, &thread->mutex);
    struct queued_block *block = &thread->blocks[(thread->first + thread->count) % BLOCKS];
    ind_mutex_unlock(&thread->mutex);
    block->length = 0;
    return block;
}

static bool append(struct queued_block *block, struct ind_slice bytes)
{
    if (block->room - block->length < bytes.length) {
        size_t room = block->length + bytes.length > BLOCK_BYTES ? block->length + bytes.length : BLOCK_BYTES;
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
static void hand_over(struct reading *reading)
{
    struct block_thread *thread = &reading->threads[reading->next];
    if (!reading->filling)
        return;
    reading->filling->number = reading->block++;
    ind_mutex_lock(&thread->mutex);
    thread->count++;
    ind_condition_variable_signal(&thread->changed);
    ind_mutex_unlock(&thread->mutex);
    reading->filling = NULL;
    reading->next = reading->next + 1 < reading->count ? reading->next + 1 : 0;
}

/* The bytes are the reader's, and soon gone: they are copied. Turns are long, so that few batches go on their
 * way half empty. */
static bool pass_on(struct reading *reading, enum ind_line_form form, struct ind_slice block)
{
    const struct ind_file_reading *call = reading->call;
    if (reading->filling &&
        (reading->filling->form != form || reading->filling->length + block.length > BLOCK_BYTES))
        hand_over(reading);
    if (!reading->filling) {
        reading->filling = free_block(&reading->threads[reading->next]);
        reading->filling->form = form;
    }
    const struct queued_block *before = reading->filling;
    /* A file's last line may have no end; the next file's first is another. */
    if (before->length && before->bytes[before->length - 1] != '\n')
        reading->out_of_memory |= !append(reading->filling, IND_SLICE("\n"));
    reading->out_of_memory |= !append(reading->filling, block);
    reading->bytes += block.length;
    return !reading->out_of_memory && call->goes_on(call->context, reading->bytes);
}

/* Bytes of a file that are to be read: what it has now. It may be appended to meanwhile, even by us. */
static uint64_t size_now(int file)
{
    struct stat facts;
    return fstat(file, &facts) == 0 && S_ISREG(facts.st_mode) ? (uint64_t)facts.st_size : UINT64_MAX;
}

static enum ind_line_form form_of(const struct ind_file_reading *call, const char *path)
{
    bool raw =
        call->form == IND_LINES_RAW && strcmp(path, "-") != 0 && ind_stored_of_path(path) == IND_LAYOUT_RAW;
    return raw ? IND_LINES_STORED_RAW : call->form;
}

static bool read_file(struct reading *reading, const char *path)
{
    const struct ind_file_reading *call = reading->call;
    bool standard = strcmp(path, "-") == 0;
    int file = standard ? dup(STDIN_FILENO) : open(path, O_RDONLY | O_CLOEXEC);
    struct ind_reader *reader =
        file < 0 ? NULL : ind_reader_open(file, ind_compression_of(path), 0, size_now(file));
    struct ind_slice block;
    uint64_t at;
    enum ind_read result = IND_READ_FAILED;
    bool going = true;
    enum ind_line_form form = form_of(call, path);
    if (!reader) {
        call->unread(call->context, path, true, strerror(errno));
        return true;
    }
    while (going && (result = ind_reader_next(reader, &block, &at)) == IND_READ_BLOCK)
        going = pass_on(reading, form, form == IND_LINES_RAW ? ind_without_mark(block, at) : block);
    if (result == IND_READ_FAILED)
        call->unread(call->context, path, false, ind_reader_reason(reader));
    ind_reader_close(reader);
    return going;
}

static bool start_thread(struct reading *reading, unsigned number)
{
    struct block_thread *thread = &reading->threads[number];
    thread->reading = reading->call;
    thread->number = number;
    ind_mutex_begin(&thread->mutex);
    ind_condition_variable_begin(&thread->changed);
    return pthread_create(&thread->thread, NULL, read_blocks, thread) == 0;
}

static void end_threads(struct reading *reading)
{
    hand_over(reading);
    for (unsigned i = 0; i < reading->count; i++) {
        struct block_thread *thread = &reading->threads[i];
        ind_mutex_lock(&thread->mutex);
        thread->ended = true;
        ind_condition_variable_signal(&thread->changed);
        ind_mutex_unlock(&thread->mutex);
        pthread_join(thread->thread, NULL);
        for (size_t k = 0; k < BLOCKS; k++)
            free(thread->blocks[k].bytes);
        ind_mutex_end(&thread->mutex);
        ind_condition_variable_end(&thread->changed);
    }
    /* Those that could not be started. */
    for (unsigned i = reading->count; i < reading->call->threads; i++)
        reading->call->end(reading->call->context, i);
    free(reading->threads);
}

enum ind_file_reading_end ind_files_read(const struct ind_file_reading *call)
{
    struct reading reading = {.call = call};
    bool going = true;
    reading.threads = calloc(call->threads, sizeof *reading.threads);
    while (reading.threads && reading.count < call->threads && start_thread(&reading, reading.count))
        reading.count++;
    bool good = reading.count == call->threads;
    for (size_t i = 0; good && going && i < call->file_count; i++)
        going = read_file(&reading, call->files[i]);
    end_threads(&reading);
    return !good                   ? IND_FILE_READING_NO_THREAD
           : reading.out_of_memory ? IND_FILE_READING_NO_MEMORY
           : !going                ? IND_FILE_READING_STOPPED
                                   : IND_FILE_READING_DONE;
}
