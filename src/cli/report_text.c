#include "cli/report_text.h"

#include "cli/cli.h"
#include "cli/search_chart.h"
#include "cli/table.h"

#include <string.h>

enum { COLUMNS = 2 * IND_REPORT_COLUMNS, TEXT = 64, SHOWN = 56 };

static void add_time(struct ind_table *table, const struct ind_report_page *page,
                     const struct ind_report_section *section, ind_time time)
{
    char text[TEXT];
    struct ind_buffer out = ind_buffer_on(text, sizeof text - 1);
    ind_report_section_time_write(section, &page->report->asked, time, &out);
    text[out.length] = '\0';
    ind_table_text(table, text);
}

/* What is long is cut: a page and JSON have it whole. */
static void add_name(struct ind_table *table, const char *name)
{
    char text[SHOWN + 8];
    const struct ind_slice whole = ind_slice_of(name), begin = ind_slice_begin(whole, SHOWN);
    snprintf(text, sizeof text, "%.*s%s", IND_ARG(begin), begin.length < whole.length ? "…" : "");
    ind_table_text(table, text);
}

static void add_cell(struct ind_table *table, const struct ind_report_page *page,
                     const struct ind_report_section *section, const struct ind_report_cell *cell)
{
    char text[IND_AMOUNT_WIDTH];
    switch (cell->kind) {
    case IND_REPORT_TEXT:
        add_name(table, cell->text);
        break;
    case IND_REPORT_NUMBER: /* what people read is grouped, wherever it goes */
        ind_table_text(table, ind_number_text(cell->number, true, text));
        break;
    case IND_REPORT_SIZE:
        ind_table_text(table, ind_size_text(cell->number, text));
        break;
    case IND_REPORT_TIME:
        add_time(table, page, section, cell->time);
        break;
    case IND_REPORT_NOTHING:
        ind_table_text(table, "-");
        break;
    }
}

static uint64_t greatest(const struct ind_report_section *section, size_t rows, size_t column)
{
    uint64_t most = 1;
    for (size_t i = 0; i < rows; i++) {
        const uint64_t number = section->cells[i * section->column_count + column].number;
        most = number > most ? number : most;
    }
    return most;
}

static void print_table(const struct ind_report_page *page, const struct ind_report_section *section,
                        size_t rows, FILE *out)
{
    struct ind_column columns[COLUMNS];
    uint64_t most[IND_REPORT_COLUMNS] = {0}; /* what a full bar stands for; 0: no bar */
    size_t count = 0;
    for (size_t c = 0; c < section->column_count; c++) {
        const struct ind_report_column *column = &section->columns[c];
        if (column->has_no_room)
            continue;
        columns[count++] = (struct ind_column){column->title, column->kind == IND_REPORT_NUMBER ||
                                                                  column->kind == IND_REPORT_SIZE};
        if (column->bar) {
            columns[count++] = (struct ind_column){"", false};
            most[c] = greatest(section, rows, c);
        }
    }
    struct ind_table *table = ind_table_new(columns, count);
    for (size_t i = 0; i < rows; i++)
        for (size_t c = 0; c < section->column_count; c++) {
            const struct ind_report_cell *cell = &section->cells[i * section->column_count + c];
            char bar[IND_BAR_ROOM];
            if (section->columns[c].has_no_room)
                continue;
            add_cell(table, page, section, cell);
            if (most[c])
                ind_table_text(table, ind_bar((double)cell->number / (double)most[c], bar));
        }
    ind_table_print(table, false, out);
    ind_table_free(table);
}

static void print_heading(const char *text, FILE *out)
{
    const bool colour = ind_colour() && out == stdout;
    fprintf(out, "\n%s%s%s\n", colour ? "\033[1m" : "", text, colour ? "\033[0m" : "");
}

void ind_report_print_summary(const struct ind_report_page *page, FILE *out)
{
    fprintf(out, "Report of %s\n", page->title);
    for (size_t i = 0; i < page->count; i++)
        if (page->sections[i].stands_out && page->sections[i].sentence)
            fprintf(out, "  %s: %s\n", page->sections[i].title, page->sections[i].sentence);
}

void ind_report_print_text(const struct ind_report_page *page, size_t top, FILE *out)
{
    ind_report_print_summary(page, out);
    for (size_t i = 0; i < page->count; i++) {
        const struct ind_report_section *section = &page->sections[i];
        const size_t rows = ind_report_rows(section, top);
        print_heading(section->title, out);
        fprintf(out, "%s\n", section->sentence ? section->sentence : "");
        if (rows > 0) {
            fputc('\n', out);
            print_table(page, section, rows, out);
        }
        if (rows < section->row_count)
            fprintf(out, "… and %zu more (--top 0 shows all)\n", section->row_count - rows);
    }
    fputc('\n', out);
    for (size_t i = 0; i < page->note_count; i++)
        fprintf(out, "%s\n", page->notes[i] ? page->notes[i] : "");
}
