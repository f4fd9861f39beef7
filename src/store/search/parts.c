/* Files cut into parts, and what is known beforehand of the times of their lines. */
#include "store/search/search_private.h"

#include "store/disk/read_at.h"
#include "store/search/stamp.h"
#include <stdlib.h>

/* SCOUTED: bytes that are looked at at once, and stay near the processor; BEYOND: behind them, in which the
 * stamp of a line lies that begins at its end. */
enum { FIRST_ROOM = 16, BEYOND = 64, SCOUTED = 128 << 10 };

static bool add_part(struct ind_search_unit *unit, const struct ind_search_part *part)
{
    const size_t count = unit->part_count;
    if (count == 0 || (count >= FIRST_ROOM && (count & (count - 1)) == 0)) {
        struct ind_search_part *grown =
            realloc(unit->parts, (count ? count * 2 : FIRST_ROOM) * sizeof *grown);
        if (!grown)
            return false;
        unit->parts = grown;
    }
    unit->parts[unit->part_count++] = *part;
    return true;
}

static int by_low(const void *left, const void *right)
{
    const struct ind_search_part *a = left, *b = right;
    if (a->low != b->low)
        return a->low < b->low ? -1 : 1;
    return (a->text > b->text) - (a->text < b->text);
}

/* What may come first is read first. */
static void settle(struct ind_search_unit *unit)
{
    const size_t left = unit->part_count - unit->next;
    bool sorted = true;
    for (size_t i = unit->next + 1; i < unit->part_count; i++)
        sorted &= by_low(&unit->parts[i - 1], &unit->parts[i]) <= 0;
    if (!sorted)
        qsort(unit->parts + unit->next, left, sizeof *unit->parts, by_low);
    unit->low = left ? unit->parts[unit->next].low : IND_KEY_MOST;
}

static ind_time least_key(const struct ind_search *search, ind_time first, ind_time last)
{
    return search->settings->by_sent   ? IND_KEY_LEAST
           : search->settings->reverse ? ind_search_key(search, last)
                                       : first;
}

/* ---- An archive by its index ---- */

static bool add_frames(struct ind_search *search, struct ind_search_unit *unit, const struct ind_index *index)
{
    uint64_t text = 0;
    for (uint32_t i = 0; i < index->frame_count; i++) {
        const struct ind_index_frame *frame = &index->frames[i];
        const enum ind_left_out why =
            search->settings->without_index ? IND_READ_IT : ind_search_frame(search, index, frame);
        const struct ind_search_part part = {
            .from = frame->offset,
            .text = text,
            .text_end = text + frame->text,
            .packed = frame->packed,
            .low = frame->times_known ? least_key(search, frame->first, frame->last) : IND_KEY_LEAST};
        atomic_fetch_add(&search->left_out[why], 1);
        if (why == IND_READ_IT && !add_part(unit, &part))
            return false;
        if (why != IND_READ_IT)
            atomic_fetch_add(&search->bytes_left_out, frame->text);
        text += frame->text;
    }
    atomic_fetch_add(&search->archives, 1);
    atomic_fetch_add(&search->frames, index->frame_count);
    return true;
}

static bool has_usual_frames(const struct ind_index *index)
{
    for (uint32_t i = 0; i < index->frame_count; i++)
        if (index->frames[i].text > IND_FRAME_MOST)
            return false;
    return true;
}

/* ---- Cutting ---- */

static bool cut_in_ranges(struct ind_search *search, struct ind_search_unit *unit, uint64_t size)
{
    bool good = true;
    size = size < unit->to ? size : unit->to;
    for (uint64_t from = unit->from; good && from < size; from += search->range) {
        const uint64_t end = from + search->range < size ? from + search->range : size;
        const struct ind_search_part part = {
            .from = from, .text = from, .text_end = end, .low = IND_KEY_LEAST};
        good = add_part(unit, &part);
    }
    return good;
}

/* How much there is to be read, for whoever waits: of what is packed a guess. */
static void note_text(const struct ind_search_worker *worker, const struct ind_search_unit *unit)
{
    enum { USUAL_RATIO = 8 };
    uint64_t text = 0;
    for (size_t i = 0; unit->cut != IND_CUT_NOT_AT_ALL && i < unit->part_count; i++)
        text += unit->parts[i].text_end - unit->parts[i].text;
    if (unit->cut == IND_CUT_NOT_AT_ALL && S_ISREG(worker->facts.st_mode))
        text = (uint64_t)worker->facts.st_size * (worker->compression == IND_COMPRESS_NONE ? 1 : USUAL_RATIO);
    atomic_fetch_add(&worker->search->all, text);
}

bool ind_search_cut(struct ind_search_worker *worker, struct ind_search_unit *unit)
{
    struct ind_search *search = worker->search;
    const struct ind_search_file *file = &search->settings->files[unit->file];
    const bool by_index = (file->stored || file->of_store) && ind_search_is_self_timed(worker->stored);
    struct ind_index index;
    char *bytes;
    bool good;
    unit->inode = worker->facts.st_ino;
    unit->device = worker->facts.st_dev;
    if (worker->compression == IND_COMPRESS_ZSTD && by_index &&
        ind_index_file_read(worker->opened, &index, &bytes)) {
        unit->cut = has_usual_frames(&index) ? IND_CUT_IN_FRAMES : IND_CUT_NOT_AT_ALL;
        good = unit->cut == IND_CUT_NOT_AT_ALL || add_frames(search, unit, &index);
        ind_search_note_lacking(worker, search->lost_in_edits);
        ind_index_free(&index);
        free(bytes);
    } else if (worker->compression == IND_COMPRESS_NONE && S_ISREG(worker->facts.st_mode) &&
               ind_search_is_self_timed(worker->stored)) {
        const uint64_t size = (uint64_t)worker->facts.st_size;
        unit->cut = IND_CUT_IN_RANGES;
        good = cut_in_ranges(search, unit, size < worker->limit ? size : worker->limit);
    } else {
        unit->cut = IND_CUT_NOT_AT_ALL;
        good = true;
    }
    const struct ind_search_part whole = {.text_end = UINT64_MAX, .low = unit->low};
    if (good && unit->cut == IND_CUT_NOT_AT_ALL && unit->from == 0)
        good = add_part(unit, &whole);
    settle(unit);
    note_text(worker, unit);
    return good;
}

/* ---- Scouting ---- */

struct times {
    char first[IND_TIME_WIDTH], last[IND_TIME_WIDTH]; /* of those in UTC */
    bool any;
    ind_time least, most; /* of all others */
    bool unknown;         /* of some line */
};

static void take_stamp(struct times *times, int stored, struct ind_slice line)
{
    const struct ind_slice stamp = ind_search_stamp(stored, line);
    if (ind_search_stamp_is_utc(stamp)) {
        if (!times->any || memcmp(stamp.at, times->last, IND_TIME_WIDTH) >= 0)
            memcpy(times->last, stamp.at, IND_TIME_WIDTH);
        else if (memcmp(stamp.at, times->first, IND_TIME_WIDTH) < 0)
            memcpy(times->first, stamp.at, IND_TIME_WIDTH);
        if (!times->any)
            memcpy(times->first, stamp.at, IND_TIME_WIDTH);
        times->any = true;
        return;
    }
    const ind_time time = ind_search_stamp_time(stored, line);
    times->unknown |= time == IND_TIME_NONE;
    times->least = time < times->least ? time : times->least;
    times->most = time > times->most ? time : times->most;
}

/* Lines that begin in the first `begins` bytes. */
static void take_stamps(struct times *times, int stored, struct ind_slice text, size_t begins)
{
    for (size_t at = 0; at < begins && !times->unknown;) {
        const struct ind_slice line = ind_slice_from(text, at);
        if (line.at[0] != '\n' && line.at[0] != '\r')
            take_stamp(times, stored, line);
        const char *newline = memchr(line.at, '\n', line.length);
        at = newline ? (size_t)(newline + 1 - text.at) : text.length;
    }
}

static bool join_times(struct times *times, ind_time *first, ind_time *last)
{
    const struct ind_slice utc[2] = {{times->first, IND_TIME_WIDTH}, {times->last, IND_TIME_WIDTH}};
    enum ind_time_style style;
    *first = times->least;
    *last = times->most;
    for (int i = 0; i < 2 && times->any; i++) {
        ind_time time;
        if (ind_time_read(utc[i], &time, &style) != IND_TIME_WIDTH)
            return false;
        *first = time < *first ? time : *first;
        *last = time > *last ? time : *last;
    }
    return !times->unknown && *first <= *last;
}

/* Stamps of lines that begin from `from` on, before `end`. False where the file does not have them. */
static bool scout_bytes(struct ind_search_worker *worker, uint64_t from, uint64_t end, char *buffer,
                        struct times *times)
{
    const size_t before = from > 0, length = (size_t)(end - from);
    const ssize_t got = ind_read_at(worker->opened, buffer, before + length + BEYOND, from - before);
    if (got < (ssize_t)(before + length))
        return false;
    const char *newline = before ? memchr(buffer, '\n', before + length) : NULL;
    const size_t skip = !before ? 0 : newline ? (size_t)(newline + 1 - buffer) : before + length;
    const struct ind_slice text = {buffer + skip, (size_t)got - skip};
    take_stamps(times, worker->stored, text, before + length > skip ? before + length - skip : 0);
    return true;
}

/* False where the part need not be read: all its lines are out of the span. */
static bool scout_part(struct ind_search_worker *worker, struct ind_search_part *part, char *buffer)
{
    struct times times = {.least = INT64_MAX, .most = INT64_MIN};
    ind_time first, last;
    for (uint64_t from = part->text; from < part->text_end && !times.unknown; from += SCOUTED) {
        const uint64_t end = from + SCOUTED < part->text_end ? from + SCOUTED : part->text_end;
        if (!scout_bytes(worker, from, end, buffer, &times))
            return true; /* whoever reads it tells */
    }
    if (!join_times(&times, &first, &last))
        return true;
    part->low = least_key(worker->search, first, last);
    return ind_search_span_meets(worker->search->settings, first, last);
}

void ind_search_scout(struct ind_search_worker *worker, struct ind_search_unit *unit)
{
    char *buffer = malloc(SCOUTED + BEYOND + 1);
    size_t kept = unit->next;
    unit->scouted = true;
    if (!buffer)
        return; /* then all is read before any of it is given */
    for (size_t i = unit->next; i < unit->part_count; i++) {
        struct ind_search_part *part = &unit->parts[i];
        if (scout_part(worker, part, buffer))
            unit->parts[kept++] = *part;
    }
    free(buffer);
    unit->part_count = kept;
    settle(unit);
}
