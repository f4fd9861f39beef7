/* store/search/search.c: the work is cut into pieces, a file or a part of a large plain one each; threads
 * take them in turn. A literal that every answer must hold is looked for in whole blocks, and only lines that
 * hold it are parsed. */
#include "store/search/search.h"

#include "core/base/escape.h"
#include "store/disk/reader.h"
#include "store/search/search_private.h"
#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <unistd.h>

/* COUNT_MEMORY: of marks, each of which is a message; of each thread. */
enum { PIECE = 16 << 20, SORT_MEMORY = 24 << 20, COUNT_MEMORY = 64 << 20 };

/* What edits gave to a message is in no line, or is not looked for there: labels come from the present
 * configuration, fields from the text. */
static unsigned lost_in_edits(const struct ind_config *config)
{
    unsigned fields = 0;
    for (size_t i = 0; i < config->edits.count; i++)
        for (size_t c = 0; c < config->edits.list[i].change_count; c++) {
            enum ind_place_in_message in = config->edits.list[i].changes[c].in;
            fields |= in == IND_IN_LABEL   ? 1u << IND_FIELD_LABEL
                      : in == IND_IN_FIELD ? 1u << IND_FIELD_FIELD
                                           : 0;
        }
    return fields;
}

/* ---- Blocks and pieces ---- */

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

/* Lines of these files are read one by one: each tells its own time. */
static bool is_self_timed(int stored)
{
    return stored == IND_LAYOUT_PLAIN || stored == IND_LAYOUT_PLAIN + IND_STORED_OLD ||
           stored == IND_LAYOUT_JSON || stored == IND_LAYOUT_RFC5424;
}

/* Whether a line that holds none of the literals need not be read. */
static bool may_skip(const struct ind_search_worker *worker)
{
    const struct ind_search *search = worker->search;
    return search->shortest_literal >= 2 && is_self_timed(worker->stored) &&
           (worker->stored == IND_LAYOUT_JSON ? search->literals_in_json : search->literals_in_text);
}

static bool search_block(struct ind_search_worker *worker, struct ind_slice block, uint64_t at,
                         const struct ind_search_piece *piece)
{
    const struct ind_search_file *file = &worker->search->settings->files[worker->file];
    if (!file->stored && worker->stored == IND_STORED_UNKNOWN) {
        struct ind_slice rest = ind_without_mark(block, at);
        at += block.length - rest.length;
        block = rest;
    }
    ind_search_note_lacking(worker, worker->search->lost_in_edits);
    return may_skip(worker) ? read_lines_with_literal(worker, block, at, piece->to)
                            : read_lines(worker, block, at, piece->to);
}

static int stored_code(const struct ind_search_file *file)
{
    return file->stored ? file->stored->stored : file->as;
}

static int open_file(const struct ind_search_worker *worker, enum ind_compression *compression,
                     uint64_t *limit)
{
    const struct ind_search_settings *settings = worker->search->settings;
    const struct ind_search_file *file = &settings->files[worker->file];
    *limit = UINT64_MAX;
    if (file->stored) {
        if (file->stored->file >= 0)
            *limit = file->stored->size;
        return ind_snapshot_open(file->snapshot, file->stored, compression);
    }
    if (!file->path) {
        errno = ENOENT;
        return -1;
    }
    *compression = ind_compression_of(file->path);
    return strcmp(file->path, "-") == 0 ? dup(STDIN_FILENO) : open(file->path, O_RDONLY | O_CLOEXEC);
}

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

/* `shift`: what is added to places that the reader tells. */
static void read_piece(struct ind_search_worker *worker, const struct ind_search_piece *piece,
                       struct ind_reader *reader, bool partial, uint64_t shift)
{
    struct ind_search *search = worker->search;
    struct ind_slice block;
    uint64_t at;
    enum ind_read result;
    bool going = true, first = partial;
    while (going && !worker->failed && (result = ind_reader_next(reader, &block, &at)) == IND_READ_BLOCK) {
        uint64_t bytes = atomic_fetch_add(&search->bytes, block.length) + block.length;
        if (search->settings->progress)
            search->settings->progress(search->settings->context, bytes);
        at += shift;
        if (first) { /* the line that began before belongs to the piece before */
            const char *newline = memchr(block.at, '\n', block.length);
            size_t skip = newline ? (size_t)(newline - block.at) + 1 : block.length;
            block = ind_slice_from(block, skip);
            at += skip;
            first = newline == NULL;
        }
        if (block.length)
            going = search_block(worker, block, at, piece);
    }
    if (going && !worker->failed && result == IND_READ_FAILED)
        report_unread(worker, ind_reader_reason(reader));
}

/* Frames that lie together, up to where another one is left out. */
static void read_frames(struct ind_search_worker *worker, const struct ind_search_piece *piece, int file,
                        const struct ind_index_frame *from, const struct ind_index_frame *end, uint64_t text)
{
    const int copy = dup(file);
    struct ind_reader *reader =
        copy < 0 ? NULL
                 : ind_reader_open(copy, IND_COMPRESS_ZSTD, from->offset, end[-1].offset + end[-1].packed);
    worker->failed |= !reader;
    if (reader)
        read_piece(worker, piece, reader, false, text - from->offset);
    ind_reader_close(reader);
}

/* An archive by its index. False where it has none, or that leaves nothing out: then it is read as it is. */
static bool search_by_index(struct ind_search_worker *worker, const struct ind_search_piece *piece, int file)
{
    struct ind_search *search = worker->search;
    struct ind_index index;
    char *bytes;
    if (!ind_search_frames_help(search) || !is_self_timed(worker->stored) ||
        !ind_index_file_read(file, &index, &bytes))
        return false;
    const struct ind_index_frame *run = NULL, *end = index.frames + index.frame_count;
    uint64_t text = 0, run_text = 0;
    ind_search_note_lacking(worker, search->lost_in_edits);
    for (const struct ind_index_frame *frame = index.frames; frame < end; text += frame++->text) {
        const enum ind_left_out why = ind_search_frame(search, frame);
        atomic_fetch_add(&search->left_out[why], 1);
        if (why == IND_READ_IT && !run) {
            run = frame;
            run_text = text;
        } else if (why != IND_READ_IT) {
            atomic_fetch_add(&search->bytes_left_out, frame->text);
            if (run)
                read_frames(worker, piece, file, run, frame, run_text);
            run = NULL;
        }
    }
    if (run)
        read_frames(worker, piece, file, run, end, run_text);
    atomic_fetch_add(&search->archives, 1);
    atomic_fetch_add(&search->frames, index.frame_count);
    ind_index_free(&index);
    free(bytes);
    return true;
}

static void search_piece(struct ind_search_worker *worker, const struct ind_search_piece *piece)
{
    const struct ind_search_settings *settings = worker->search->settings;
    enum ind_compression compression;
    uint64_t limit;
    struct stat facts = {0};
    worker->file = piece->file;
    int file = open_file(worker, &compression, &limit);
    int error = file < 0 ? errno : 0;
    if (file >= 0 && fstat(file, &facts) != 0)
        error = errno;
    else if (file >= 0 && S_ISDIR(facts.st_mode))
        error = EISDIR;
    if (file < 0 || error) {
        bool retired =
            error == ENOENT && settings->files[piece->file].stored; /* by the retention: as it should be */
        if (!retired)
            report_unread(worker, error == EISDIR ? "this is a folder" : strerror(error));
        if (file >= 0)
            close(file);
        return;
    }
    bool partial = piece->from > 0;
    worker->stored = stored_code(&settings->files[piece->file]);
    worker->modified = (ind_time)facts.st_mtim.tv_sec * IND_SECOND;
    if (!S_ISREG(facts.st_mode))
        worker->modified = settings->now;
    worker->last_time = IND_TIME_NONE;
    if (compression == IND_COMPRESS_ZSTD && settings->files[piece->file].stored &&
        search_by_index(worker, piece, file)) {
        close(file);
        return;
    }
    struct ind_reader *reader = ind_reader_open(file, compression, partial ? piece->from - 1 : 0, limit);
    if (!reader) {
        worker->failed = true;
        return;
    }
    read_piece(worker, piece, reader, partial, 0);
    ind_reader_close(reader);
}

static void *work(void *argument)
{
    struct ind_search_worker *worker = argument;
    struct ind_search *search = worker->search;
    size_t piece;
    while (!worker->failed && (piece = atomic_fetch_add(&search->next, 1)) < search->piece_count)
        search_piece(worker, &search->pieces[piece]);
    if (worker->sorter)
        ind_sorter_sort(worker->sorter);
    return NULL;
}

/* ---- The whole ---- */

static bool add_piece(struct ind_search *search, size_t file, uint64_t from, uint64_t to)
{
    if ((search->piece_count & (search->piece_count - 1)) == 0) {
        size_t room = search->piece_count ? search->piece_count * 2 : 1;
        struct ind_search_piece *pieces = realloc(search->pieces, room * sizeof *pieces);
        if (!pieces)
            return false;
        search->pieces = pieces;
    }
    search->pieces[search->piece_count++] = (struct ind_search_piece){file, from, to};
    return true;
}

/* Plain files are cut where that is known to be safe: each line tells its own time. */
static bool cut_file(struct ind_search *search, size_t i)
{
    const struct ind_search_settings *settings = search->settings;
    const struct ind_search_file *file = &settings->files[i];
    enum ind_compression compression = IND_COMPRESS_NONE;
    uint64_t size = 0;
    struct stat facts;
    struct ind_search_worker probe = {.search = search, .file = i};
    int opened = file->path && strcmp(file->path, "-") == 0 ? -1 : open_file(&probe, &compression, &size);
    if (opened >= 0 && compression == IND_COMPRESS_NONE && fstat(opened, &facts) == 0 &&
        S_ISREG(facts.st_mode)) {
        uint64_t real = (uint64_t)facts.st_size;
        size = size < real ? size : real;
    } else {
        size = 0;
    }
    if (opened >= 0)
        close(opened);
    bool good = true;
    for (uint64_t from = 0; good && is_self_timed(stored_code(file)) && from + 2 * PIECE < size;
         from += PIECE) {
        good = add_piece(search, i, from, from + PIECE);
        if (from + 3 * PIECE >= size)
            return good && add_piece(search, i, from + PIECE, UINT64_MAX);
    }
    return good && (search->piece_count && search->pieces[search->piece_count - 1].file == i
                        ? true
                        : add_piece(search, i, 0, UINT64_MAX));
}

static bool prepare(struct ind_search_worker *worker, struct ind_search *search)
{
    const struct ind_search_settings *settings = search->settings;
    worker->search = search;
    worker->sorter = ind_sorter_new(settings->count_only || settings->by_count ? COUNT_MEMORY : SORT_MEMORY);
    bool answers = ind_answers_begin(&worker->answers, settings->conditions);
    worker->reader = ind_line_reader_new();
    worker->clock.zone = settings->zone;
    worker->clock.times = worker->line_clock.zone = settings->times;
    worker->unread_file = calloc(settings->file_count + 1, sizeof *worker->unread_file);
    worker->lacks = calloc(settings->file_count + 1, sizeof *worker->lacks);
    return worker->sorter && answers && worker->reader && worker->unread_file && worker->lacks;
}

static void gather(struct ind_search_result *result, struct ind_search *search,
                   struct ind_search_worker *worker, uint32_t *lacks)
{
    result->found += worker->found;
    result->lines += worker->lines;
    result->unread_files += worker->unread;
    result->failed |= worker->failed;
    result->gave_up += ind_answers_gave_up(&worker->answers);
    ind_groups_join(&search->groups, &worker->groups);
    for (size_t i = 0; worker->lacks && i < search->settings->file_count; i++)
        lacks[i] |= worker->lacks[i];
    ind_answers_free(&worker->answers);
    ind_line_reader_free(worker->reader);
    free(worker->line);
    free(worker->unread_file);
    free(worker->lacks);
}

/* A space is one in a text, but not in an app. */
static bool stands_in_text(struct ind_slice literal, bool app)
{
    return ind_is_clean(literal.at, literal.length, app ? ' ' + 1 : ' ', '\\');
}

static size_t thread_count(const struct ind_search *search)
{
    long processors = sysconf(_SC_NPROCESSORS_ONLN);
    size_t count = search->settings->threads ? search->settings->threads
                   : processors > 0          ? (size_t)processors
                                             : 1;
    count = count > 4 && !search->settings->threads ? 4 : count;
    return count > search->piece_count ? (search->piece_count ? search->piece_count : 1) : count;
}

static void run_workers(struct ind_search *search, struct ind_search_result *result)
{
    size_t count = thread_count(search);
    struct ind_search_worker *workers = calloc(count, sizeof *workers);
    uint32_t *lacks = calloc(search->settings->file_count + 1, sizeof *lacks);
    search->sorters = calloc(count, sizeof *search->sorters);
    if (!workers || !search->sorters || !lacks) {
        result->failed = true;
        free(workers);
        free(lacks);
        return;
    }
    size_t started = 0;
    for (size_t i = 0; i < count; i++) {
        workers[i].failed = !prepare(&workers[i], search);
        search->sorters[i] = workers[i].sorter;
    }
    search->worker_count = count;
    while (started + 1 < count &&
           pthread_create(&workers[started].thread, NULL, work, &workers[started]) == 0)
        started++;
    (void)work(&workers[count - 1]);
    for (size_t i = 0; i < started; i++)
        pthread_join(workers[i].thread, NULL);
    for (size_t i = 0; i < count; i++)
        gather(result, search, &workers[i], lacks);
    for (size_t i = 0; i < search->settings->file_count; i++)
        for (unsigned field = 0; field < IND_FIELDS; field++)
            result->lacking[field] += lacks[i] >> field & 1;
    free(workers);
    free(lacks);
}

/* Without a table of several, every line is parsed. */
static void find_literals(struct ind_search *search)
{
    const struct ind_search_settings *settings = search->settings;
    search->literal_count =
        ind_condition_literals(settings->conditions, settings->when, search->list, IND_SEARCH_LITERALS);
    search->literals_in_json = search->literals_in_text = true;
    bool app = (search->fields & 1u << IND_FIELD_APP) != 0;
    for (size_t i = 0; i < search->literal_count; i++) {
        size_t length = search->list[i].length;
        if (i == 0 || length < search->shortest_literal)
            search->shortest_literal = length;
        search->literals_in_text &= stands_in_text(search->list[i], app);
        search->literals_in_json &=
            stands_in_text(search->list[i], false) && !memchr(search->list[i].at, '"', length);
    }
    if (search->literal_count == 1)
        search->finder = ind_finder_for(search->list[0]);
    else if (search->literal_count > 1 &&
             !(search->literals = ind_literals_new(search->list, search->literal_count, false)))
        search->shortest_literal = 0;
}

/* What is found once, on its way to `write`. */
struct given {
    struct ind_once *once; /* NULL: every line is given */
    struct ind_search_result *result;
    bool (*write)(void *context, struct ind_slice line);
    void *context;
};

static bool give(void *context, const struct ind_sorted_line *line)
{
    struct given *given = context;
    struct ind_once_mark mark;
    if (!given->once)
        return given->write(given->context, line->line);
    memcpy(&mark, line->line.at, sizeof mark);
    if (ind_once_is_first(given->once, line->time, &mark, &given->result->failed))
        return given->write(given->context, ind_slice_from(line->line, sizeof mark));
    given->result->copies++;
    return !given->result->failed;
}

static bool give_sorted(struct ind_search_result *result, bool (*write)(void *, struct ind_slice),
                        void *context)
{
    struct ind_search *search = result->inside;
    struct given given = {NULL, result, write, context};
    for (size_t i = 0; i < search->worker_count; i++)
        if (!search->sorters[i])
            return false;
    if (search->settings->once && !(given.once = ind_once_new()))
        return false;
    bool good = ind_sorters_merge(search->sorters, search->worker_count, give, &given);
    ind_once_free(given.once);
    return good && !result->failed;
}

static bool count_in_group(void *context, struct ind_slice key)
{
    struct ind_search *search = context;
    if (search->settings->by_count)
        ind_groups_add(&search->groups, key, 1);
    return true;
}

static void count_once(struct ind_search *search, struct ind_search_result *result)
{
    result->failed |= !give_sorted(result, count_in_group, search);
    result->found -= result->copies;
}

void ind_search_run(const struct ind_search_settings *settings, struct ind_search_result *result)
{
    *result = (struct ind_search_result){0};
    struct ind_search *search = calloc(1, sizeof *search);
    if (!search) {
        result->failed = true;
        return;
    }
    result->inside = search;
    search->settings = settings;
    search->fields = ind_condition_fields(settings->conditions, settings->when);
    for (size_t i = 0; i < settings->by_count; i++)
        if (settings->by[i].what < IND_FIELDS)
            search->fields |= 1u << settings->by[i].what;
    search->labels = (search->fields & 1u << IND_FIELD_LABEL) ||
                     (settings->line ? settings->line->has_label : settings->layout == IND_LAYOUT_JSON);
    search->lost_in_edits = lost_in_edits(settings->config);
    find_literals(search);
    ind_search_frames_begin(search);
    for (size_t i = 0; i < settings->file_count; i++)
        result->failed |= !cut_file(search, i);
    run_workers(search, result);
    result->bytes = atomic_load(&search->bytes);
    result->archives = atomic_load(&search->archives);
    result->frames = atomic_load(&search->frames);
    result->bytes_left_out = atomic_load(&search->bytes_left_out);
    for (int i = 0; i < IND_LEFT_OUT_KINDS; i++)
        result->left_out[i] = atomic_load(&search->left_out[i]);
    if (settings->once && (settings->by_count || settings->count_only))
        count_once(search, result);
    if (settings->by_count)
        ind_groups_list(&search->groups, settings, result);
}

bool ind_search_lines(struct ind_search_result *result, bool (*write)(void *, struct ind_slice),
                      void *context)
{
    return give_sorted(result, write, context);
}

void ind_search_free(struct ind_search_result *result)
{
    struct ind_search *search = result->inside;
    if (!search)
        return;
    ind_groups_free(&search->groups);
    for (size_t i = 0; i < search->worker_count; i++)
        ind_sorter_free(search->sorters[i]);
    free(search->sorters);
    free(search->pieces);
    free(search->keys);
    ind_literals_free(search->literals);
    free(search);
    free(result->groups);
    *result = (struct ind_search_result){0};
}
