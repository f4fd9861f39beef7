/* report/sections_private.h: making sections. Where memory runs out `page->failed` is set, and all goes on.
 */
#ifndef IND_REPORT_SECTIONS_PRIVATE_H
#define IND_REPORT_SECTIONS_PRIVATE_H

#include "core/base/amount.h"
#include "report/sections.h"

/* ---- section.c ---- */

struct ind_report_section *ind_section_new(struct ind_report_page *page, const char *id, const char *title,
                                           const struct ind_report_column *columns, size_t column_count);
/* The next cell. */
void ind_section_text(struct ind_report_page *page, struct ind_report_section *section, const char *text);
void ind_section_number(struct ind_report_page *page, struct ind_report_section *section, uint64_t number);
void ind_section_size(struct ind_report_page *page, struct ind_report_section *section, uint64_t bytes);
/* IND_TIME_NONE: nothing. */
void ind_section_time(struct ind_report_page *page, struct ind_report_section *section, ind_time time);
/* What it says; the last call holds. */
void ind_section_say(struct ind_report_page *page, struct ind_report_section *section, bool stands_out,
                     const char *format, ...) __attribute__((format(printf, 4, 5)));
void ind_report_note(struct ind_report_page *page, const char *format, ...)
    __attribute__((format(printf, 2, 3)));
/* "1,234,567"; into `text`, which is returned. */
static inline const char *ind_report_grouped(uint64_t number, char text[IND_AMOUNT_WIDTH])
{
    return ind_number_text(number, true, text);
}
/* "1 message", "2 devices". */
static inline const char *ind_report_plural(uint64_t count)
{
    return count == 1 ? "" : "s";
}

/* ---- One file each ---- */

void ind_section_volume(struct ind_report_page *page);
void ind_section_changes(struct ind_report_page *page);
void ind_section_silent(struct ind_report_page *page);
void ind_section_devices(struct ind_report_page *page);
void ind_section_events(struct ind_report_page *page);
/* One for each that is asked for. */
void ind_section_topics(struct ind_report_page *page);
void ind_section_ledger(struct ind_report_page *page);
void ind_section_archives(struct ind_report_page *page);
void ind_section_alerts(struct ind_report_page *page);

#endif
