#include "report/sections.h"

#include "store/search/columns.h"

#include <stdlib.h>
#include <string.h>

/* Strangers make up names: a spreadsheet must not take one for a formula. */
static bool looks_like_a_formula(const char *text)
{
    return *text && strchr("=+-@\t\r", *text);
}

static void put_text(const char *text, bool of_strangers, FILE *out)
{
    const size_t length = strlen(text);
    char *room = malloc(2 * length + 4);
    struct ind_buffer written = ind_buffer_on(room, room ? 2 * length + 4 : 0);
    if (!room)
        return;
    if (of_strangers && looks_like_a_formula(text)) {
        char *guarded = malloc(length + 2);
        if (guarded) {
            guarded[0] = '\'';
            memcpy(guarded + 1, text, length + 1);
            ind_csv_write(&written, (struct ind_slice){guarded, length + 1});
        }
        free(guarded);
    } else {
        ind_csv_write(&written, (struct ind_slice){text, length});
    }
    fwrite(room, 1, written.length, out);
    free(room);
}

static void put_cell(const struct ind_report_cell *cell, FILE *out)
{
    char text[IND_TIME_WIDTH + 1];
    struct ind_buffer time = ind_buffer_on(text, sizeof text);
    switch (cell->kind) {
    case IND_REPORT_TEXT:
        put_text(cell->text, true, out);
        break;
    case IND_REPORT_NUMBER:
    case IND_REPORT_SIZE:
        fprintf(out, "%llu", (unsigned long long)cell->number);
        break;
    case IND_REPORT_TIME:
        ind_time_write(&time, cell->time);
        fwrite(text, 1, time.length, out);
        break;
    case IND_REPORT_NOTHING:
        break;
    }
}

void ind_report_write_csv(const struct ind_report_section *section, size_t top, FILE *out)
{
    const size_t count = ind_report_rows(section, top);
    for (size_t c = 0; c < section->column_count; c++) {
        put_text(section->columns[c].id, false, out);
        fputs(c + 1 < section->column_count ? "," : "\n", out);
    }
    for (size_t i = 0; i < count * section->column_count; i++) {
        put_cell(&section->cells[i], out);
        fputs((i + 1) % section->column_count ? "," : "\n", out);
    }
}
