/* Runs merged by a heap of their next lines. */
#include "store/search/runs_private.h"

#include <errno.h>
#include <fcntl.h>
#include <limits.h>
#include <stdio.h>
#include <stdlib.h>
#include <unistd.h>

/* MOST_FILES: where there are more, they become one. */
enum { MOST_FILES = 64, FILE_BUFFER = 64 << 10, CACHE_LINE = 64, FETCHED = 256 };

/* One run at its next line. */
struct source {
    struct ind_run *run; /* in memory; NULL: a file */
    size_t next;
    FILE *file;
    char *line;
    size_t room;
    struct ind_found_line now;
};

/* The key stands here, too: most comparisons need no more. */
struct slot {
    ind_time key;
    struct source *source;
};

struct ind_merge {
    struct slot *heap;
    size_t count, room;
    size_t size;
    size_t files;
    const char *folder;
};

struct ind_merge *ind_merge_new(const char *folder)
{
    struct ind_merge *merge = calloc(1, sizeof *merge);
    if (merge)
        merge->folder = folder;
    return merge;
}

static void free_source(struct ind_merge *merge, struct source *source)
{
    if (source->run)
        merge->size -= ind_run_size(source->run);
    ind_run_free(source->run);
    if (source->file) {
        fclose(source->file);
        merge->files--;
    }
    free(source->line);
    free(source);
}

void ind_merge_free(struct ind_merge *merge)
{
    if (!merge)
        return;
    for (size_t i = 0; i < merge->count; i++)
        free_source(merge, merge->heap[i].source);
    free(merge->heap);
    free(merge);
}

/* Texts of many runs are read in turn: that is too much for the processor to foresee. */
static inline void fetch_ahead(struct ind_slice line)
{
#if defined(__GNUC__) || defined(__clang__)
    for (size_t i = 0; i < line.length && i < FETCHED; i += CACHE_LINE)
        __builtin_prefetch(line.at + i);
#else
    (void)line;
#endif
}

/* 1: at a line; 0: at the end; -1: failed. */
static int advance(struct source *source)
{
    struct ind_run_entry entry;
    if (source->run) {
        if (source->next == source->run->count)
            return 0;
        entry = source->run->entries[source->next++];
        source->now = (struct ind_found_line){
            entry.key, entry.at, entry.file, {ind_run_line(source->run, &entry), entry.length}};
        fetch_ahead(source->now.line); /* others come before it */
        return 1;
    }
    errno = EIO;
    if (fread(&entry, sizeof entry, 1, source->file) != 1)
        return ferror(source->file) ? -1 : 0;
    if (entry.length > source->room || !source->line) {
        char *grown = realloc(source->line, entry.length + 1);
        if (!grown)
            return -1;
        source->line = grown;
        source->room = entry.length + 1;
    }
    if (fread(source->line, 1, entry.length, source->file) != entry.length)
        return -1;
    source->now = (struct ind_found_line){entry.key, entry.at, entry.file, {source->line, entry.length}};
    return 1;
}

static inline bool before(const struct slot *a, const struct slot *b)
{
    if (a->key != b->key)
        return a->key < b->key;
    const struct ind_found_line *one = &a->source->now, *other = &b->source->now;
    return one->file != other->file ? one->file < other->file : one->at < other->at;
}

static void sift_down(struct ind_merge *merge, size_t i)
{
    struct slot *heap = merge->heap, moved = heap[i];
    const size_t count = merge->count;
    for (size_t child; (child = 2 * i + 1) < count; i = child) {
        child += child + 1 < count && before(&heap[child + 1], &heap[child]);
        if (!before(&heap[child], &moved))
            break;
        heap[i] = heap[child];
    }
    heap[i] = moved;
}

static void sift_up(struct ind_merge *merge, size_t i)
{
    struct slot *heap = merge->heap, moved = heap[i];
    for (; i > 0 && before(&moved, &heap[(i - 1) / 2]); i = (i - 1) / 2)
        heap[i] = heap[(i - 1) / 2];
    heap[i] = moved;
}

/* Owns the source, which is at a line. */
static bool push(struct ind_merge *merge, struct source *source)
{
    if (merge->count == merge->room) {
        const size_t room = merge->room ? merge->room * 2 : 64;
        struct slot *grown = realloc(merge->heap, room * sizeof *grown);
        if (!grown) {
            free_source(merge, source);
            return false;
        }
        merge->heap = grown;
        merge->room = room;
    }
    merge->heap[merge->count++] = (struct slot){source->now.key, source};
    sift_up(merge, merge->count - 1);
    return true;
}

bool ind_merge_take(struct ind_merge *merge, struct ind_run *run)
{
    struct source *source = calloc(1, sizeof *source);
    if (!source || run->count == 0) {
        ind_run_free(run);
        free(source);
        return source != NULL;
    }
    source->run = run;
    merge->size += ind_run_size(run);
    (void)advance(source);
    return push(merge, source);
}

const struct ind_found_line *ind_merge_first(const struct ind_merge *merge)
{
    return merge->count ? &merge->heap[0].source->now : NULL;
}

bool ind_merge_next(struct ind_merge *merge)
{
    struct source *source = merge->heap[0].source;
    const int more = advance(source);
    if (more < 0)
        return false;
    if (more == 0) {
        merge->heap[0] = merge->heap[--merge->count];
        free_source(merge, source);
    } else {
        merge->heap[0].key = source->now.key;
    }
    if (merge->count)
        sift_down(merge, 0);
    return true;
}

size_t ind_merge_size(const struct ind_merge *merge)
{
    return merge->size;
}

/* ---- Temporary files ---- */

/* Without a name: it goes with the program. */
static FILE *temporary(const char *folder)
{
    char path[PATH_MAX];
    const int length = snprintf(path, sizeof path, "%s/indagator-XXXXXX", folder);
    if (length < 0 || (size_t)length >= sizeof path) {
        errno = ENAMETOOLONG;
        return NULL;
    }
    const int file = mkstemp(path);
    if (file < 0)
        return NULL;
    (void)unlink(path);
    FILE *stream = fdopen(file, "w+");
    if (!stream)
        close(file);
    else
        (void)setvbuf(stream, NULL, _IOFBF, FILE_BUFFER);
    return stream;
}

/* All lines of `from`, which is empty then. */
static bool write_out(struct ind_merge *from, FILE *to)
{
    while (from->count) {
        const struct ind_found_line *line = ind_merge_first(from);
        const struct ind_run_entry entry = {line->key, line->at, 0, (uint32_t)line->line.length, line->file};
        if (fwrite(&entry, sizeof entry, 1, to) != 1 ||
            fwrite(line->line.at, 1, line->line.length, to) != line->line.length || !ind_merge_next(from))
            return false;
    }
    return fflush(to) == 0 && fseek(to, 0, SEEK_SET) == 0;
}

/* Puts those in memory, or those in files, into one file. */
static bool join(struct ind_merge *merge, bool in_memory)
{
    struct ind_merge part = {.folder = merge->folder};
    struct source *source = calloc(1, sizeof *source);
    size_t kept = 0;
    bool good = source && (source->file = temporary(merge->folder)) != NULL;
    if (!good) {
        free(source);
        return false;
    }
    for (size_t i = 0; i < merge->count; i++) {
        struct source *one = merge->heap[i].source;
        if ((one->run != NULL) != in_memory) {
            merge->heap[kept++] = merge->heap[i];
            continue;
        }
        const size_t size = one->run ? ind_run_size(one->run) : 0;
        merge->size -= size;
        part.size += size;
        merge->files -= one->file != NULL;
        part.files += one->file != NULL;
        good &= push(&part, one);
    }
    merge->count = kept;
    for (size_t i = kept / 2; i-- > 0;)
        sift_down(merge, i);
    good = good && write_out(&part, source->file) && advance(source) >= 0;
    for (size_t i = 0; i < part.count; i++)
        free_source(&part, part.heap[i].source);
    free(part.heap);
    merge->files++;
    if (!good) {
        const int error = errno;
        free_source(merge, source);
        errno = error;
        return false;
    }
    return push(merge, source);
}

bool ind_merge_spill(struct ind_merge *merge)
{
    if (merge->files >= MOST_FILES && !join(merge, false))
        return false;
    return join(merge, true);
}
