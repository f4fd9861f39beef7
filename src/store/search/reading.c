/* Files opened, and their parts read, block by block. A literal that every answer must hold is looked for in
 * whole blocks, and only lines that hold it are read. */
#include "store/disk/read_at.h"
#include "store/disk/reader.h"
#include "store/search/search_private.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <unistd.h>

/* REST: bytes that are read at once of a line that goes on behind its part. */
enum { REST = 4096, LONGEST_LINE = 64 << 20 };

static void report_unread(struct ind_search_worker *worker, const char *reason)
{
    const struct ind_search_settings *settings = worker->search->settings;
    char text[1600];
    if (!worker->unread_file[worker->file]) {
        snprintf(text, sizeof text, "cannot read %s: %s", settings->files[worker->file].name, reason);
        settings->report(settings->context, text);
        worker->unread++;
    }
    worker->unread_file[worker->file] = true;
}

/* ---- Opening ---- */

static int open_file(struct ind_search_worker *worker)
{
    const struct ind_search_settings *settings = worker->search->settings;
    const struct ind_search_file *file = &settings->files[worker->file];
    worker->limit = UINT64_MAX;
    if (file->stored) {
        if (file->stored->file >= 0)
            worker->limit = file->stored->size;
        return ind_snapshot_open(file->snapshot, file->stored, &worker->compression);
    }
    if (!file->path) {
        errno = ENOENT;
        return -1;
    }
    worker->compression = ind_compression_of(file->path);
    return strcmp(file->path, "-") == 0 ? dup(STDIN_FILENO) : open(file->path, O_RDONLY | O_CLOEXEC);
}

void ind_search_close(struct ind_search_worker *worker)
{
    if (worker->opened >= 0)
        close(worker->opened);
    worker->opened = -1;
}

/* Which of its names an archive has by now is known once it is open; the retention may have removed it, and
 * that is as it should be. */
bool ind_search_open(struct ind_search_worker *worker, const struct ind_search_unit *unit)
{
    const struct ind_search_settings *settings = worker->search->settings;
    const struct ind_search_file *file = &settings->files[unit->file];
    if (worker->opened >= 0 && worker->file == unit->file)
        return true;
    ind_search_close(worker);
    worker->file = unit->file;
    worker->opened = open_file(worker);
    int error = worker->opened < 0 ? errno : 0;
    if (worker->opened >= 0 && fstat(worker->opened, &worker->facts) != 0)
        error = errno;
    else if (worker->opened >= 0 && S_ISDIR(worker->facts.st_mode))
        error = EISDIR;
    if (error) {
        if (error != ENOENT || !file->stored)
            report_unread(worker, error == EISDIR ? "this is a folder" : strerror(error));
        ind_search_close(worker);
        return false;
    }
    worker->stored = ind_search_stored(file);
    worker->modified =
        S_ISREG(worker->facts.st_mode) ? (ind_time)worker->facts.st_mtim.tv_sec * IND_SECOND : settings->now;
    worker->last_time = IND_TIME_NONE;
    return true;
}

/* ---- Lines of a block ---- */

static const char *line_start(const char *block, const char *at)
{
    while (at > block && at[-1] != '\n')
        at--;
    return at;
}

/* Lines that begin before `stop` only. False once one begins there or later. */
static bool read_lines(struct ind_search_worker *worker, struct ind_slice block, uint64_t at, uint64_t stop)
{
    const char *here = block.at, *end = block.at + block.length;
    while (here < end) {
        uint64_t place = at + (uint64_t)(here - block.at);
        if (place >= stop)
            return false;
        const char *newline = memchr(here, '\n', (size_t)(end - here));
        const char *line_end = newline ? newline : end;
        ind_search_read_line(worker, (struct ind_slice){here, (size_t)(line_end - here)}, place);
        here = line_end + 1;
    }
    return true;
}

/* The same, but only lines that hold one of the literals. */
static bool read_lines_with_literal(struct ind_search_worker *worker, struct ind_slice block, uint64_t at,
                                    uint64_t stop)
{
    const char *here = block.at, *end = block.at + block.length;
    const struct ind_search *search = worker->search;
    struct ind_literals_walk walk = {{NULL}};
    while (here < end) {
        const char *hit = search->literals ? ind_literals_next(search->literals, &walk, here, end)
                                           : ind_find(&search->finder, here, (size_t)(end - here));
        if (!hit)
            break;
        const char *start = line_start(here, hit);
        uint64_t place = at + (uint64_t)(start - block.at);
        if (place >= stop)
            return false;
        const char *newline = memchr(hit, '\n', (size_t)(end - hit));
        const char *line_end = newline ? newline : end;
        ind_search_read_line(worker, (struct ind_slice){start, (size_t)(line_end - start)}, place);
        here = line_end + 1;
    }
    return at + block.length < stop;
}

/* Whether a line that holds none of the literals need not be read. */
static bool may_skip(const struct ind_search_worker *worker)
{
    const struct ind_search *search = worker->search;
    return search->shortest_literal >= 2 && ind_search_is_self_timed(worker->stored) &&
           (worker->stored == IND_LAYOUT_JSON ? search->literals_in_json : search->literals_in_text);
}

/* False once nothing more of the file is wanted. */
static bool read_block(struct ind_search_worker *worker, struct ind_slice block, uint64_t at, uint64_t stop)
{
    struct ind_search *search = worker->search;
    const struct ind_search_file *file = &search->settings->files[worker->file];
    const uint64_t bytes = atomic_fetch_add(&search->bytes, block.length) + block.length;
    if (search->settings->progress)
        search->settings->progress(search->settings->context, bytes,
                                   atomic_load(&search->uncut) ? 0 : atomic_load(&search->all));
    if (!file->stored && worker->stored == IND_STORED_UNKNOWN) {
        struct ind_slice rest = ind_without_mark(block, at);
        at += block.length - rest.length;
        block = rest;
    }
    ind_search_note_lacking(worker, search->lost_in_edits);
    const bool more = may_skip(worker) ? read_lines_with_literal(worker, block, at, stop)
                                       : read_lines(worker, block, at, stop);
    if (!worker->block.at)
        ind_search_hand_over(worker, false);
    return more && !worker->failed && !atomic_load_explicit(&search->stopped, memory_order_relaxed);
}

/* ---- Parts ---- */

/* Lines that begin from `from` on, and before `stop`. */
static void read_through(struct ind_search_worker *worker, struct ind_reader *reader, uint64_t from,
                         uint64_t stop)
{
    struct ind_slice block;
    uint64_t at, end = from;
    enum ind_read result = IND_READ_END;
    bool going = true;
    while (going && (result = ind_reader_next(reader, &block, &at)) == IND_READ_BLOCK) {
        end = at + block.length;
        while (block.length && at < from) { /* lines of the parts before */
            const char *newline = memchr(block.at, '\n', block.length);
            const size_t skip = newline ? (size_t)(newline - block.at) + 1 : block.length;
            block = ind_slice_from(block, skip);
            at += skip;
        }
        if (block.length)
            going = read_block(worker, block, at, stop);
    }
    if (going && result == IND_READ_FAILED)
        report_unread(worker, ind_reader_reason(reader));
    else if (going && stop != UINT64_MAX && end < stop)
        report_unread(worker, "it became shorter while it was read");
}

static bool make_room(struct ind_search_worker *worker, size_t needed)
{
    if (worker->buffer_room >= needed)
        return true;
    char *grown = realloc(worker->buffer, needed);
    worker->failed |= !grown;
    worker->buffer = grown ? grown : worker->buffer;
    worker->buffer_room = grown ? needed : worker->buffer_room;
    return grown != NULL;
}

/* A part that lies whole in the buffer, which is given away where much of it is found. */
static void read_buffer(struct ind_search_worker *worker, struct ind_slice text, uint64_t at)
{
    bool taken = false, failed = false;
    if (worker->search->ordered && text.length && (worker->run = ind_run_new())) {
        worker->block = text;
        ind_run_begin_block(worker->run, worker->buffer, text);
    }
    if (text.length)
        (void)read_block(worker, text, at, UINT64_MAX);
    if (worker->run && worker->block.at)
        taken = ind_run_end_block(worker->run, &failed);
    worker->failed |= failed;
    worker->block = IND_NOTHING;
    if (taken) {
        worker->buffer = NULL;
        worker->buffer_room = 0;
    }
}

static void read_frame(struct ind_search_worker *worker, const struct ind_search_part *part)
{
    const size_t length = (size_t)(part->text_end - part->text);
    if (!worker->frame && !(worker->frame = ind_frame_reader_new()))
        worker->failed = true;
    if (worker->failed || !make_room(worker, length + 1))
        return;
    const char *reason =
        ind_frame_read(worker->frame, worker->opened, part->from, part->packed, worker->buffer, length);
    if (reason)
        report_unread(worker, reason);
    else
        read_buffer(worker, (struct ind_slice){worker->buffer, length}, part->text);
}

/* ---- Ranges of plain files ---- */

/* Up to `length` bytes into the buffer behind those that are there. False, reported, where it cannot be read.
 */
static bool read_more(struct ind_search_worker *worker, uint64_t from, size_t *filled, size_t length)
{
    const uint64_t at = from + *filled;
    length = worker->limit > at && worker->limit - at < length ? (size_t)(worker->limit - at)
             : worker->limit > at                              ? length
                                                               : 0;
    if (!make_room(worker, *filled + length + 1))
        return false;
    const ssize_t got = ind_read_at(worker->opened, worker->buffer + *filled, length, at);
    if (got < 0)
        report_unread(worker, strerror(errno));
    *filled += got > 0 ? (size_t)got : 0;
    return got >= 0;
}

/* Its last line goes on behind its end. */
static bool read_rest_of_line(struct ind_search_worker *worker, uint64_t from, size_t *filled)
{
    while (*filled && worker->buffer[*filled - 1] != '\n') {
        const size_t before = *filled;
        if (before > LONGEST_LINE) {
            report_unread(worker, "a line of more than 64 MiB: this is not a file of messages");
            return false;
        }
        if (!read_more(worker, from, filled, REST))
            return false;
        const char *newline =
            *filled > before ? memchr(worker->buffer + before, '\n', *filled - before) : NULL;
        if (newline)
            *filled = (size_t)(newline + 1 - worker->buffer);
        if (*filled == before)
            return true;
    }
    return true;
}

/* From the byte before it, which tells whether its first line begins with it. */
static void read_range(struct ind_search_worker *worker, const struct ind_search_part *part)
{
    const uint64_t from = part->text ? part->text - 1 : 0;
    const size_t length = (size_t)(part->text_end - from);
    size_t filled = 0;
    if (!read_more(worker, from, &filled, length))
        return;
    if (filled < length)
        report_unread(worker, "it became shorter while it was read");
    else if (!read_rest_of_line(worker, from, &filled))
        return;
    const char *newline = part->text && filled ? memchr(worker->buffer, '\n', filled) : NULL;
    const size_t skip = !part->text ? 0 : newline ? (size_t)(newline + 1 - worker->buffer) : filled;
    if (skip < length)
        read_buffer(worker, (struct ind_slice){worker->buffer + skip, filled - skip}, from + skip);
}

/* An archive that was packed meanwhile, or anew, has the same text. */
void ind_search_read_part(struct ind_search_worker *worker, const struct ind_search_unit *unit,
                          const struct ind_search_part *part)
{
    const bool same = worker->facts.st_ino == unit->inode && worker->facts.st_dev == unit->device;
    if (unit->cut == IND_CUT_IN_FRAMES && same) {
        read_frame(worker, part);
        return;
    }
    if (unit->cut == IND_CUT_IN_RANGES && worker->compression == IND_COMPRESS_NONE) {
        read_range(worker, part);
        return;
    }
    const int file = fcntl(worker->opened, F_DUPFD_CLOEXEC, 0);
    struct ind_reader *reader =
        file < 0 ? NULL : ind_reader_open(file, worker->compression, 0, worker->limit);
    if (!reader) {
        worker->failed = true;
        return;
    }
    read_through(worker, reader, part->text, part->text_end);
    ind_reader_close(reader);
}
