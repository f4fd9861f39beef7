/* A page put together, and taken apart. */
#include "report/sections_private.h"

#include <stdlib.h>
#include <string.h>

void ind_report_section_time_write(const struct ind_report_section *section,
                                   const struct ind_report_asked *asked, ind_time time,
                                   struct ind_buffer *out)
{
    const int64_t seconds = ind_time_seconds(time);
    if (section && section->in_order)
        ind_every_write(&asked->every, seconds + ind_zone_offset(asked->zone, seconds), out);
    else
        ind_report_moment_write(time, asked->zone, out);
}

/* ---- All of them ---- */

static void add_notes(struct ind_report_page *page)
{
    const struct ind_report *report = page->report;
    char number[2][IND_AMOUNT_WIDTH];
    ind_report_note(page, "Counted are stored lines: a message that two routes store counts twice.");
    if (report->removed)
        ind_report_note(page, "%s of the messages are there no more, and are known from the catalog%s.",
                        ind_report_grouped(report->removed, number[0]),
                        report->roughly ? ", some of them by their hour or day only" : "");
    if (report->not_told)
        ind_report_note(page,
                        "Of %s messages that are there no more the catalog does not tell whether the "
                        "condition holds: they are left out.",
                        ind_report_grouped(report->not_told, number[0]));
    if (!report->catalog)
        ind_report_note(page, "There is no catalog that can be read: every file was read, and of what is "
                              "there no more nothing is known.");
    else if (report->why_read)
        ind_report_note(page, "Files were read, since %s.", report->why_read);
    if (report->unread)
        ind_report_note(page, "%s file%s could not be read, or not to the end: the numbers are too small.",
                        ind_report_grouped(report->unread, number[0]), ind_report_plural(report->unread));
    if (report->too_many)
        ind_report_note(
            page,
            "There are more devices than can be told apart: some are left out, or together as (others).");
}

bool ind_report_page_make(const struct ind_report *report, struct ind_report_page *page)
{
    char text[200];
    struct ind_buffer title = ind_buffer_on(text, sizeof text - 1);
    *page = (struct ind_report_page){.report = report};
    ind_report_span_write(&report->asked.span, report->asked.zone, &title);
    text[title.length] = '\0';
    page->title = strdup(text);
    page->failed = !page->title;
    ind_section_alerts(page);
    ind_section_volume(page);
    ind_section_changes(page);
    ind_section_silent(page);
    ind_section_devices(page);
    if (report->texts) {
        ind_section_events(page);
        ind_section_topics(page);
    }
    ind_section_ledger(page);
    ind_section_archives(page);
    add_notes(page);
    return !page->failed;
}

void ind_report_page_free(struct ind_report_page *page)
{
    for (size_t i = 0; i < page->count; i++) {
        struct ind_report_section *section = &page->sections[i];
        for (size_t c = 0; c < section->cell_count; c++)
            free(section->cells[c].text);
        free(section->cells);
        free(section->sentence);
    }
    for (size_t i = 0; i < page->note_count; i++)
        free(page->notes[i]);
    free(page->title);
}
