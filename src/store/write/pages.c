#include "store/write/pages.h"

#include <stdlib.h>

bool ind_pages_init(struct ind_pages *pages, size_t count)
{
    *pages = (struct ind_pages){
        .all = malloc(count * sizeof(struct ind_page)), .free_count = count, .count = count};
    return pages->all != NULL;
}

void ind_pages_close(struct ind_pages *pages)
{
    free(pages->all);
    *pages = (struct ind_pages){0};
}

struct ind_page *ind_page_acquire(struct ind_pages *pages)
{
    struct ind_page *page = pages->free;
    if (page)
        pages->free = page->next;
    else if (pages->untouched < pages->count)
        page = &pages->all[pages->untouched++];
    else
        return NULL;
    pages->free_count--;
    page->next = NULL;
    page->used = page->runs = 0;
    return page;
}

void ind_page_give(struct ind_pages *pages, struct ind_page *page)
{
    page->next = pages->free;
    pages->free = page;
    pages->free_count++;
}
