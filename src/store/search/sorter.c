#include "store/search/sorter.h"

#include <errno.h>
#include <stdio.h>
#include <stdlib.h>

struct entry {
    ind_time time;
    uint64_t file, at;
    size_t offset, length; /* in the text */
};

struct ind_sorter {
    char *text;
    size_t used, room;
    struct entry *entries;
    size_t count, entry_room;
    size_t memory;
    FILE **runs;
    size_t run_count;
};

struct ind_sorter *ind_sorter_new(size_t memory)
{
    struct ind_sorter *sorter = calloc(1, sizeof *sorter);
    if (sorter)
        sorter->memory = memory;
    return sorter;
}

void ind_sorter_free(struct ind_sorter *sorter)
{
    if (!sorter)
        return;
    for (size_t i = 0; i < sorter->run_count; i++)
        fclose(sorter->runs[i]);
    free(sorter->runs);
    free(sorter->text);
    free(sorter->entries);
    free(sorter);
}

static int order(ind_time time_a, uint64_t file_a, uint64_t at_a, ind_time time_b, uint64_t file_b,
                 uint64_t at_b)
{
    if (time_a != time_b)
        return time_a < time_b ? -1 : 1;
    if (file_a != file_b)
        return file_a < file_b ? -1 : 1;
    return (at_a > at_b) - (at_a < at_b);
}

static int by_time(const void *left, const void *right)
{
    const struct entry *a = left, *b = right;
    return order(a->time, a->file, a->at, b->time, b->file, b->at);
}

static void sort_entries(struct ind_sorter *sorter)
{
    bool sorted = true;
    for (size_t i = 1; i < sorter->count && sorted; i++)
        sorted = by_time(&sorter->entries[i - 1], &sorter->entries[i]) <= 0;
    if (!sorted)
        qsort(sorter->entries, sorter->count, sizeof *sorter->entries, by_time);
}

void ind_sorter_sort(struct ind_sorter *sorter)
{
    sort_entries(sorter);
}

static bool spill(struct ind_sorter *sorter)
{
    FILE **runs = realloc(sorter->runs, (sorter->run_count + 1) * sizeof *runs);
    if (!runs)
        return false;
    sorter->runs = runs;
    FILE *run = tmpfile();
    if (!run)
        return false;
    sorter->runs[sorter->run_count++] = run;
    sort_entries(sorter);
    for (size_t i = 0; i < sorter->count; i++) {
        const struct entry *entry = &sorter->entries[i];
        if (fwrite(entry, sizeof *entry, 1, run) != 1 ||
            fwrite(sorter->text + entry->offset, 1, entry->length, run) != entry->length)
            return false;
    }
    sorter->used = sorter->count = 0;
    return fflush(run) == 0 && fseek(run, 0, SEEK_SET) == 0;
}

static bool grow(void **array, size_t *room, size_t needed, size_t size)
{
    if (needed <= *room)
        return true;
    size_t more = *room ? *room * 2 : 1024;
    while (more < needed)
        more *= 2;
    void *grown = realloc(*array, more * size);
    if (!grown)
        return false;
    *array = grown;
    *room = more;
    return true;
}

bool ind_sorter_add(struct ind_sorter *sorter, const struct ind_sorted_line *line)
{
    void *text = sorter->text, *entries = sorter->entries;
    if (sorter->count &&
        sorter->used + line->line.length + sorter->count * sizeof(struct entry) > sorter->memory &&
        !spill(sorter))
        return false;
    bool good = grow(&text, &sorter->room, sorter->used + line->line.length, 1);
    sorter->text = text;
    good = good && grow(&entries, &sorter->entry_room, sorter->count + 1, sizeof(struct entry));
    sorter->entries = entries;
    if (!good) {
        errno = ENOMEM;
        return false;
    }
    if (line->line.length)
        memcpy(sorter->text + sorter->used, line->line.at, line->line.length);
    sorter->entries[sorter->count++] =
        (struct entry){line->time, line->file, line->at, sorter->used, line->line.length};
    sorter->used += line->line.length;
    return true;
}

/* One sorted run, in memory or in a file, at its next line. */
struct run {
    const struct ind_sorter *memory; /* NULL: a file */
    size_t next;
    FILE *file;
    char *line;
    size_t room;
    struct ind_sorted_line now;
};

/* 1: at a line; 0: at the end; -1: failed. */
static int advance(struct run *run)
{
    struct entry entry;
    if (run->memory) {
        if (run->next == run->memory->count)
            return 0;
        entry = run->memory->entries[run->next++];
        run->now = (struct ind_sorted_line){
            entry.time, entry.file, entry.at, {run->memory->text + entry.offset, entry.length}};
        return 1;
    }
    if (fread(&entry, sizeof entry, 1, run->file) != 1)
        return ferror(run->file) ? -1 : 0;
    void *line = run->line;
    bool good = grow(&line, &run->room, entry.length + 1, 1);
    run->line = line;
    if (!good || fread(run->line, 1, entry.length, run->file) != entry.length)
        return -1;
    run->now = (struct ind_sorted_line){entry.time, entry.file, entry.at, {run->line, entry.length}};
    return 1;
}

static bool before(const struct run *a, const struct run *b)
{
    return order(a->now.time, a->now.file, a->now.at, b->now.time, b->now.file, b->now.at) < 0;
}

static void sift_down(struct run **heap, size_t count, size_t i)
{
    for (;;) {
        size_t least = i, left = 2 * i + 1, right = left + 1;
        if (left < count && before(heap[left], heap[least]))
            least = left;
        if (right < count && before(heap[right], heap[least]))
            least = right;
        if (least == i)
            return;
        struct run *swap = heap[i];
        heap[i] = heap[least];
        heap[least] = swap;
        i = least;
    }
}

static bool merge(struct run **heap, size_t count, bool (*write)(void *, const struct ind_sorted_line *),
                  void *context)
{
    for (size_t i = count; i-- > 0;)
        sift_down(heap, count, i);
    while (count > 0) {
        if (!write(context, &heap[0]->now))
            return true;
        int more = advance(heap[0]);
        if (more < 0)
            return false;
        if (more == 0)
            heap[0] = heap[--count];
        sift_down(heap, count, 0);
    }
    return true;
}

bool ind_sorters_merge(struct ind_sorter *const *sorters, size_t count,
                       bool (*write)(void *, const struct ind_sorted_line *), void *context)
{
    size_t all = 0, ready = 0, used = 0;
    bool good = true;
    for (size_t i = 0; i < count; i++)
        all += sorters[i]->run_count + 1;
    struct run *runs = calloc(all ? all : 1, sizeof *runs), **heap = calloc(all ? all : 1, sizeof *heap);
    for (size_t i = 0; runs && heap && i < count; i++) {
        sort_entries(sorters[i]);
        for (size_t r = 0; r <= sorters[i]->run_count && good; r++) {
            struct run *run = &runs[used++];
            if (r < sorters[i]->run_count)
                run->file = sorters[i]->runs[r];
            else
                run->memory = sorters[i];
            int more = advance(run);
            good = more >= 0;
            if (more > 0)
                heap[ready++] = run;
        }
    }
    good = good && runs && heap && merge(heap, ready, write, context);
    for (size_t i = 0; i < used; i++)
        free(runs[i].line);
    free(runs);
    free(heap);
    return good;
}
