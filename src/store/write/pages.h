/* store/write/pages.h: a pool of pages made at start, in which lines wait to be written.
 *
 * Memory for what waits is bounded by the pool, however many files there are: a file without waiting lines
 * holds none. Pages are small, so that thousands of files can have something waiting at once.
 *
 * A page also says whose its lines are: lines grow from its beginning, runs of lines of one owner from its
 * end. A line that spans pages is in the runs of the one that holds its end. */
#ifndef IND_STORE_WRITE_PAGES_H
#define IND_STORE_WRITE_PAGES_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

enum { IND_PAGE_BYTES = 4096 - 16 };

/* `lines` lines of one owner, one after the other. */
struct ind_run {
    uint32_t owner, lines;
};

struct ind_page {
    struct ind_page *next;
    uint32_t used, runs; /* bytes of lines; runs. Before a line is added there is room for one run more */
    char bytes[IND_PAGE_BYTES];
};

struct ind_pages {
    struct ind_page *all, *free;
    size_t free_count, count;
    size_t untouched; /* pages from here on were never used: they take no memory yet */
};

bool ind_pages_init(struct ind_pages *pages, size_t count);
void ind_pages_close(struct ind_pages *pages);

static inline size_t ind_page_room(const struct ind_page *page)
{
    size_t taken = page->used + (page->runs + 1) * sizeof(struct ind_run);
    return taken < IND_PAGE_BYTES ? IND_PAGE_BYTES - taken : 0;
}

static inline struct ind_run *ind_page_run(struct ind_page *page, uint32_t index)
{
    return (struct ind_run *)(void *)(page->bytes + IND_PAGE_BYTES) - (index + 1);
}

/* A line of `owner` has ended here. */
static inline void ind_page_count(struct ind_page *page, uint32_t owner)
{
    struct ind_run *last = page->runs ? ind_page_run(page, page->runs - 1) : NULL;
    if (last && last->owner == owner)
        last->lines++;
    else
        *ind_page_run(page, page->runs++) = (struct ind_run){owner, 1};
}

/* An empty page, NULL where all are in use. */
struct ind_page *ind_page_acquire(struct ind_pages *pages);
void ind_page_give(struct ind_pages *pages, struct ind_page *page);

#endif
