/* collect/from_files.c: the intake thread of `collect --from`: every line of the files is a message. */
#include "collect/clock.h"
#include "collect/inside.h"
#include "core/names.h"
#include "store/reader.h"

#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <unistd.h>

struct reading {
    struct ind_collector *collector;
    struct ind_intake *intake;
    struct ind_batch *batch;
    struct ind_origin origin;
    uint64_t bytes;
};

static void next_batch(struct reading *files)
{
    if (files->batch)
        ind_ring_put(files->collector->rings, 0, files->batch);
    while (!(files->batch = ind_ring_empty(files->collector->rings, 0, 500)))
        ; /* the writer takes them, or gives up and takes them as lost */
}

static void take_line(struct reading *files, struct ind_slice line)
{
    bool tallied = false;
    while (!ind_intake_message(files->intake, files->collector->settings->form, line, &files->origin,
                               files->batch, &tallied))
        next_batch(files);
}

static bool take_block(struct reading *files, struct ind_slice block)
{
    while (block.length > 0) {
        const char *newline = memchr(block.at, '\n', block.length);
        size_t length = newline ? (size_t)(newline - block.at) : block.length;
        take_line(files, (struct ind_slice){block.at, length});
        block = ind_slice_from(block, newline ? length + 1 : length);
    }
    return !atomic_load(&files->collector->stop) && !atomic_load(&files->collector->give_up);
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
        going = take_block(files, block);
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

void *ind_read_files(void *argument)
{
    struct ind_collector *collector = argument;
    const struct ind_collect_settings *settings = collector->settings;
    struct reading files = {.collector = collector, .intake = collector->rules->intakes[0]};
    files.origin = (struct ind_origin){.transport = IND_TRANSPORT_FILE,
                                       .number = IND_NAME_FILES,
                                       .sender = ind_intake_sender_named(files.intake, settings->sender),
                                       .received = settings->received,
                                       .now = ind_now()};
    next_batch(&files);
    for (size_t i = 0; i < settings->file_count && take_file(&files, settings->files[i]); i++)
        ;
    if (atomic_load(&collector->stop) || atomic_load(&collector->give_up)) {
        ind_collect_tell(collector, IND_SEVERITY_ERROR,
                         atomic_load(&collector->stop)
                             ? "told to end before all was read: what was read is filed"
                             : "the disk takes nothing: the rest of the files was not read");
        collector->unread_files++;
    }
    ind_ring_put(collector->rings, 0, files.batch);
    ind_ring_end(collector->rings, 0);
    return NULL;
}
