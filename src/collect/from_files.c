/* collect/from_files.c: the intake thread of `collect --from`: every line of the files is a message. */
#include "collect/clock.h"
#include "collect/inside.h"
#include "store/reader.h"

#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <unistd.h>

struct files {
    struct ind_collector *collector;
    struct ind_intake *intake;
    struct ind_batch *batch;
    struct ind_origin origin;
    uint64_t bytes;
};

static bool next_batch(struct files *files)
{
    if (files->batch)
        ind_ring_put(files->collector->ring, files->batch);
    files->batch = ind_wait_for_batch(files->collector);
    return files->batch != NULL;
}

static bool take_line(struct files *files, struct ind_slice line)
{
    while (!ind_intake_message(files->intake, files->collector->settings->form, line, &files->origin,
                               files->batch))
        if (!next_batch(files))
            return false;
    return true;
}

static bool take_block(struct files *files, struct ind_slice block)
{
    while (block.length > 0) {
        const char *newline = memchr(block.at, '\n', block.length);
        size_t length = newline ? (size_t)(newline - block.at) : block.length;
        if (!take_line(files, (struct ind_slice){block.at, length}))
            return false;
        block = ind_slice_from(block, newline ? length + 1 : length);
    }
    return !atomic_load(&files->collector->stop);
}

static bool take_file(struct files *files, const char *path)
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
        ind_collect_tell(files->collector, "cannot read %s: %s", path, strerror(errno));
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
        ind_collect_tell(files->collector, "cannot read all of %s: %s", path, ind_reader_reason(reader));
        files->collector->unread_files++;
    }
    ind_reader_close(reader);
    return going;
}

void *ind_intake_files(void *argument)
{
    struct ind_collector *collector = argument;
    const struct ind_collect_settings *settings = collector->settings;
    struct files files = {.collector = collector, .intake = ind_intake_new(settings->config)};
    struct ind_address address;
    files.origin = (struct ind_origin){.transport = IND_TRANSPORT_FILE,
                                       .sender = settings->sender,
                                       .received = settings->received,
                                       .now = ind_now()};
    if (ind_address_read(settings->sender, &address))
        files.origin.device = ind_devices_by_address(settings->config->devices, &address);
    if (!files.intake)
        ind_collect_tell(collector, "out of memory: nothing can be read");
    if (files.intake && next_batch(&files))
        for (size_t i = 0; i < settings->file_count && take_file(&files, settings->files[i]); i++)
            ;
    if (atomic_load(&collector->stop)) {
        ind_collect_tell(collector, "told to end before all was read: what was read is filed");
        collector->unread_files++;
    }
    if (files.batch)
        ind_ring_put(collector->ring, files.batch);
    ind_intake_free(files.intake);
    ind_ring_end(collector->ring);
    return NULL;
}
