#include "cli/table.h"

#include "cli/cli.h"
#include <jansson.h>
#include <stdlib.h>
#include <string.h>

struct cell {
    enum { CELL_TEXT, CELL_NUMBER, CELL_SIZE, CELL_FLAG } kind;
    char *text; /* a number becomes one when it is known where it goes */
    uint64_t number;
};

struct ind_table {
    const struct ind_column *columns;
    size_t column_count;
    struct cell *cells;
    size_t count, room;
};

struct ind_table *ind_table_new(const struct ind_column *columns, size_t count)
{
    struct ind_table *table = calloc(1, sizeof *table);
    if (table)
        *table = (struct ind_table){.columns = columns, .column_count = count};
    return table;
}

void ind_table_free(struct ind_table *table)
{
    for (size_t i = 0; table && i < table->count; i++)
        free(table->cells[i].text);
    if (table)
        free(table->cells);
    free(table);
}

static struct cell *next_cell(struct ind_table *table)
{
    if (table && table->count == table->room) {
        size_t room = table->room ? table->room * 2 : 64;
        struct cell *cells = realloc(table->cells, room * sizeof *cells);
        if (!cells)
            return NULL;
        table->cells = cells;
        table->room = room;
    }
    return table ? &table->cells[table->count++] : NULL;
}

static void add_cell(struct ind_table *table, struct cell filled)
{
    struct cell *cell = next_cell(table);
    filled.text = strdup(filled.text ? filled.text : "");
    if (cell)
        *cell = filled;
    else
        free(filled.text);
}

void ind_table_text(struct ind_table *table, const char *text)
{
    add_cell(table, (struct cell){CELL_TEXT, (char *)(uintptr_t)text, 0});
}

void ind_table_number(struct ind_table *table, uint64_t number)
{
    add_cell(table, (struct cell){CELL_NUMBER, NULL, number});
}

void ind_table_size(struct ind_table *table, uint64_t bytes)
{
    char text[32];
    (void)ind_size_text(bytes, text);
    add_cell(table, (struct cell){CELL_SIZE, text, bytes});
}

void ind_table_flag(struct ind_table *table, bool flag)
{
    char yes[] = "yes", no[] = "no";
    add_cell(table, (struct cell){CELL_FLAG, flag ? yes : no, flag});
}

static const char *text_of(const struct cell *cell, bool grouped, char text[32])
{
    return cell->kind == CELL_NUMBER ? ind_number_text(cell->number, grouped, text) : cell->text;
}

/* In characters: texts may hold UTF-8. */
static size_t width_of(const char *text)
{
    size_t width = 0;
    for (; text && *text; text++)
        width += ((unsigned char)*text & 0xC0) != 0x80;
    return width;
}

static void print_cell(const char *text, size_t width, bool right, bool last, FILE *out)
{
    size_t own = width_of(text), pad = width > own ? width - own : 0;
    if (right)
        fprintf(out, "%*s", (int)pad, "");
    fputs(text ? text : "", out);
    if (!right && !last)
        fprintf(out, "%*s", (int)pad, "");
    fputs(last ? "\n" : "  ", out);
}

static void print_text(const struct ind_table *table, FILE *out)
{
    size_t columns = table->column_count;
    char number[32];
    const bool grouped = ind_goes_to_terminal(out);
    size_t *widths = calloc(columns, sizeof *widths);
    for (size_t c = 0; widths && c < columns; c++)
        widths[c] = width_of(table->columns[c].name);
    for (size_t i = 0; widths && i < table->count; i++) {
        size_t width = width_of(text_of(&table->cells[i], grouped, number));
        widths[i % columns] = width > widths[i % columns] ? width : widths[i % columns];
    }
    for (size_t c = 0; widths && c < columns; c++)
        print_cell(table->columns[c].name, widths[c], table->columns[c].number, c + 1 == columns, out);
    for (size_t i = 0; widths && i < table->count; i++)
        print_cell(text_of(&table->cells[i], grouped, number), widths[i % columns],
                   table->columns[i % columns].number, i % columns + 1 == columns, out);
    free(widths);
}

static void print_json(const struct ind_table *table, FILE *out)
{
    for (size_t row = 0; row + table->column_count <= table->count; row += table->column_count) {
        json_t *object = json_object();
        for (size_t c = 0; c < table->column_count; c++) {
            const struct cell *cell = &table->cells[row + c];
            char key[64];
            snprintf(key, sizeof key, "%s", table->columns[c].name);
            for (char *at = key; *at; at++)
                *at = *at == ' ' ? '_' : *at;
            json_object_set_new(object, key,
                                cell->kind == CELL_TEXT   ? json_string(cell->text)
                                : cell->kind == CELL_FLAG ? json_boolean(cell->number)
                                                          : json_integer((json_int_t)cell->number));
        }
        ind_print_json(object, out);
        fputc('\n', out);
        json_decref(object);
    }
}

void ind_table_print(const struct ind_table *table, bool json, FILE *out)
{
    if (!table)
        return;
    if (json)
        print_json(table, out);
    else
        print_text(table, out);
}
