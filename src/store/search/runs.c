#include "store/search/runs_private.h"

#include <stdlib.h>

static bool grow(void **array, size_t *room, size_t needed, size_t size)
{
    if (needed <= *room)
        return true;
    size_t more = *room ? *room * 2 : 4;
    while (more < needed)
        more *= 2;
    void *grown = realloc(*array, more * size);
    if (!grown)
        return false;
    *array = grown;
    *room = more;
    return true;
}

struct ind_run *ind_run_new(void)
{
    return calloc(1, sizeof(struct ind_run));
}

void ind_run_free(struct ind_run *run)
{
    if (!run)
        return;
    if (run->block_owned)
        free(run->buffer);
    free(run->text);
    free(run->entries);
    free(run);
}

void ind_run_begin_block(struct ind_run *run, char *buffer, struct ind_slice block)
{
    run->buffer = buffer;
    run->block = block.at;
    run->block_length = block.length;
    run->block_used = 0;
}

/* Moves the lines that lie in the block into the text, which is in front of all others then. */
static bool leave_block(struct ind_run *run)
{
    const size_t most = run->block_used + run->used;
    char *text = malloc(most ? most : 1);
    size_t used = 0;
    if (!text)
        return false;
    for (size_t i = 0; i < run->count; i++) {
        struct ind_run_entry *entry = &run->entries[i];
        memcpy(text + used, ind_run_line(run, entry), entry->length);
        entry->offset = used;
        used += entry->length;
    }
    free(run->text);
    run->text = text;
    run->used = used;
    run->room = most ? most : 1;
    run->block = NULL;
    run->block_length = run->block_used = 0;
    return true;
}

bool ind_run_end_block(struct ind_run *run, bool *failed)
{
    run->block_owned = run->block_used > run->block_length / 2;
    *failed = !run->block_owned && !leave_block(run);
    return run->block_owned;
}

bool ind_run_add(struct ind_run *run, const struct ind_found_line *line)
{
    void *text = run->text, *entries = run->entries;
    bool good = grow(&entries, &run->entry_room, run->count + 1, sizeof *run->entries);
    run->entries = entries;
    struct ind_run_entry entry = {line->key, line->at, 0, (uint32_t)line->line.length, line->file};
    if (run->block && line->line.at >= run->block && line->line.at < run->block + run->block_length) {
        entry.offset = (uint64_t)(line->line.at - run->block);
        run->block_used += line->line.length;
    } else {
        good = good && grow(&text, &run->room, run->used + line->line.length, 1);
        run->text = text;
        entry.offset = run->block_length + run->used;
        if (good && line->line.length)
            memcpy(run->text + run->used, line->line.at, line->line.length);
        run->used += good ? line->line.length : 0;
    }
    if (!good)
        return false;
    run->unsorted |= run->count && ind_found_before(&entry, &run->entries[run->count - 1]);
    run->entries[run->count++] = entry;
    return true;
}

/* Runs wait for each other: room that is not needed is given back. */
static void shrink(void **array, size_t *room, size_t used, size_t size)
{
    void *smaller = used && used < *room ? realloc(*array, used * size) : NULL;
    if (smaller) {
        *array = smaller;
        *room = used;
    }
}

static int order(const void *left, const void *right)
{
    return ind_found_before(left, right) ? -1 : ind_found_before(right, left);
}

void ind_run_sort(struct ind_run *run)
{
    if (run->unsorted)
        qsort(run->entries, run->count, sizeof *run->entries, order);
    run->unsorted = false;
    shrink((void **)&run->text, &run->room, run->used, 1);
    shrink((void **)&run->entries, &run->entry_room, run->count, sizeof *run->entries);
}

size_t ind_run_size(const struct ind_run *run)
{
    return (run->block_owned ? run->block_length : 0) + run->room + run->entry_room * sizeof *run->entries;
}
