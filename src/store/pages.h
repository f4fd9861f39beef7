/* store/pages.h: a pool of pages made at start, in which lines wait to be written.
 *
 * Memory for what waits is bounded by the pool, however many files there are: a file without waiting lines
 * holds none. */
#ifndef IND_STORE_PAGES_H
#define IND_STORE_PAGES_H

#include <stdbool.h>
#include <stddef.h>

enum { IND_PAGE_BYTES = 16384 - 16 };

struct ind_page {
    struct ind_page *next;
    size_t used;
    char bytes[IND_PAGE_BYTES];
};

struct ind_pages {
    struct ind_page *all, *free;
    size_t free_count, count;
    size_t untouched; /* pages from here on were never used: they take no memory yet */
};

bool ind_pages_init(struct ind_pages *pages, size_t count);
void ind_pages_close(struct ind_pages *pages);

/* An empty page, NULL where all are in use. */
struct ind_page *ind_page_take(struct ind_pages *pages);
void ind_page_give(struct ind_pages *pages, struct ind_page *page);

#endif
