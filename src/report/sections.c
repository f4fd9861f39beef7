#include "report/sections_private.h"

#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* ---- Texts ---- */

static char *format_text(struct ind_report_page *page, const char *format, va_list values)
{
    va_list again;
    va_copy(again, values);
    const int length = vsnprintf(NULL, 0, format, again);
    va_end(again);
    char *text = length < 0 ? NULL : malloc((size_t)length + 1);
    page->failed |= !text;
    if (text)
        vsnprintf(text, (size_t)length + 1, format, values);
    return text;
}

void ind_section_say(struct ind_report_page *page, struct ind_report_section *section, bool stands_out,
                     const char *format, ...)
{
    va_list values;
    va_start(values, format);
    free(section->sentence);
    section->sentence = format_text(page, format, values);
    section->stands_out = stands_out;
    va_end(values);
}

void ind_report_note(struct ind_report_page *page, const char *format, ...)
{
    va_list values;
    va_start(values, format);
    if (page->note_count < sizeof page->notes / sizeof *page->notes)
        page->notes[page->note_count++] = format_text(page, format, values);
    va_end(values);
}

/* ---- Tables ---- */

struct ind_report_section *ind_section_new(struct ind_report_page *page, const char *id, const char *title,
                                           const struct ind_report_column *columns, size_t column_count)
{
    struct ind_report_section *section = &page->sections[page->count++];
    *section = (struct ind_report_section){.id = id, .title = title, .column_count = column_count};
    memcpy(section->columns, columns, column_count * sizeof *columns);
    return section;
}

static void add_cell(struct ind_report_page *page, struct ind_report_section *section,
                     struct ind_report_cell cell)
{
    if (section->cell_count == section->room) {
        const size_t room = section->room ? 2 * section->room : 256;
        struct ind_report_cell *grown = realloc(section->cells, room * sizeof *grown);
        if (!grown) {
            page->failed = true;
            free(cell.text);
            return;
        }
        section->cells = grown;
        section->room = room;
    }
    section->cells[section->cell_count++] = cell;
    section->row_count = section->cell_count / section->column_count;
}

void ind_section_text(struct ind_report_page *page, struct ind_report_section *section, const char *text)
{
    const struct ind_report_cell cell = {.kind = IND_REPORT_TEXT, .text = strdup(text)};
    page->failed |= !cell.text;
    if (cell.text)
        add_cell(page, section, cell);
}

void ind_section_number(struct ind_report_page *page, struct ind_report_section *section, uint64_t number)
{
    add_cell(page, section, (struct ind_report_cell){.kind = IND_REPORT_NUMBER, .number = number});
}

void ind_section_size(struct ind_report_page *page, struct ind_report_section *section, uint64_t bytes)
{
    add_cell(page, section, (struct ind_report_cell){.kind = IND_REPORT_SIZE, .number = bytes});
}

void ind_section_time(struct ind_report_page *page, struct ind_report_section *section, ind_time time)
{
    add_cell(page, section,
             (struct ind_report_cell){.kind = time == IND_TIME_NONE ? IND_REPORT_NOTHING : IND_REPORT_TIME,
                                      .time = time});
}

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
