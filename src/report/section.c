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
