/* report/sections.h: a report as sections, each with a sentence that says what stands out, and a table: the
 * same for every form in which it is given. */
#ifndef IND_REPORT_SECTIONS_H
#define IND_REPORT_SECTIONS_H

#include "report/report.h"

#include <jansson.h>
#include <stdio.h>

enum ind_report_kind {
    IND_REPORT_TEXT, /* as it can be shown */
    IND_REPORT_NUMBER,
    IND_REPORT_SIZE, /* bytes */
    IND_REPORT_TIME,
    IND_REPORT_NOTHING /* of a cell: not known, or none */
};

struct ind_report_column {
    const char *id;    /* in JSON and CSV */
    const char *title; /* for people */
    enum ind_report_kind kind;
    bool bar;         /* as text: it is drawn */
    bool has_no_room; /* as text: it is left out */
};

struct ind_report_cell {
    enum ind_report_kind kind;
    char *text;
    uint64_t number;
    ind_time time;
};

/* How a section is drawn on a page. */
enum ind_report_chart {
    IND_REPORT_NO_CHART,
    IND_REPORT_STACKED, /* columns of numbers on each other, along the first one */
    IND_REPORT_BARS     /* the first column of numbers, for each row */
};

enum { IND_REPORT_SECTIONS = 16, IND_REPORT_COLUMNS = 14 };

struct ind_report_section {
    const char *id, *title;
    char *sentence; /* what stands out, or that nothing does */
    bool stands_out;
    struct ind_report_column columns[IND_REPORT_COLUMNS];
    size_t column_count;
    struct ind_report_cell *cells; /* row by row, the worst first */
    size_t row_count, cell_count, room;
    enum ind_report_chart chart;
    bool in_order; /* its rows are of time: none is left out */
};

struct ind_report_page {
    const struct ind_report *report;
    char *title; /* of what span */
    struct ind_report_section sections[IND_REPORT_SECTIONS];
    size_t count;
    char *notes[12]; /* on what the numbers rest, and what is missing */
    size_t note_count;
    bool failed; /* memory ran out */
};

/* All sections of a report, which it borrows. To be freed. False where memory ran out. */
bool ind_report_page_make(const struct ind_report *report, struct ind_report_page *page);
void ind_report_page_free(struct ind_report_page *page);

/* ---- In each form; `top`: rows of a section at most, 0: all ---- */

/* How many rows of it that is: of time all of them. */
static inline size_t ind_report_rows(const struct ind_report_section *section, size_t top)
{
    return top && top < section->row_count && !section->in_order ? top : section->row_count;
}
/* A time in a cell of it, as people read it; `section` may be NULL. */
void ind_report_section_time_write(const struct ind_report_section *section,
                                   const struct ind_report_asked *asked, ind_time time,
                                   struct ind_buffer *out);

/* New, the caller's. */
json_t *ind_report_json(const struct ind_report_page *page, size_t top);
/* The table of a section (RFC 4180). A text that a spreadsheet would take for a formula has an apostrophe
 * before it. */
void ind_report_write_csv(const struct ind_report_section *section, size_t top, FILE *out);
/* A page that needs nothing else; `logarithmic`: charts begin so. False where memory ran out, or it cannot be
 * written. */
bool ind_report_write_html(const struct ind_report_page *page, size_t top, bool logarithmic, FILE *out);

#endif
