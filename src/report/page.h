/* report/page.h: what a page has in it beside the report: its style, its script, and that of the charts. */
#ifndef IND_REPORT_PAGE_H
#define IND_REPORT_PAGE_H

#include <stddef.h>

struct ind_page_part {
    const char *text;
    size_t length;
    const char *hash; /* as a content security policy has it */
};

extern const struct ind_page_part ind_page_style, ind_page_script, ind_page_charts;

#endif
