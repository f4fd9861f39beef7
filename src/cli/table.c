#include "cli/table.h"

#include "cli/cli.h"
#include "store/search/columns.h"
#include <jansson.h>
#include <stdlib.h>
#include <string.h>

struct cell {
    enum { CELL_TEXT, CELL_NUMBER, CELL_SIZE, CELL_FLAG, CELL_REAL } kind;
    size_t text; /* where it begins among the texts; a number becomes one when it is known where it goes */
    size_t length, width; /* of the text in bytes, and in characters: it may be UTF-8 */
    uint64_t number;
    double real;
};

struct ind_table {
    const struct ind_column *columns;
    size_t column_count;
    struct cell *cells;
    size_t count, room;
    char *texts; /* of all cells, each with its NUL */
    size_t text_length, text_room;
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
    if (table) {
        free(table->texts);
        free(table->cells);
    }
    free(table);
}

static bool make_cell(struct ind_table *table)
{
    if (table->count < table->room)
        return true;
    const size_t room = table->room ? table->room * 2 : 64;
    struct cell *cells = realloc(table->cells, room * sizeof *cells);
    if (!cells)
        return false;
    table->cells = cells;
    table->room = room;
    return true;
}

static bool make_text(struct ind_table *table, size_t length)
{
    if (table->text_room - table->text_length >= length)
        return true;
    const size_t room = 2 * table->text_room + length + 1024;
    char *texts = realloc(table->texts, room);
    if (!texts)
        return false;
    table->texts = texts;
    table->text_room = room;
    return true;
}

static size_t width_of(const char *text, size_t length)
{
    size_t width = 0;
    for (size_t i = 0; i < length; i++)
        width += ((unsigned char)text[i] & 0xC0) != 0x80;
    return width;
}

static void add_cell(struct ind_table *table, struct cell cell, const char *text)
{
    const size_t length = text ? strlen(text) : 0;
    if (!table || !make_cell(table) || !make_text(table, length + 1))
        return;
    cell.text = table->text_length;
    cell.length = length;
    cell.width = text ? width_of(text, length) : 0;
    memcpy(table->texts + table->text_length, text ? text : "", length + 1);
    table->text_length += length + 1;
    table->cells[table->count++] = cell;
}

void ind_table_text(struct ind_table *table, const char *text)
{
    add_cell(table, (struct cell){.kind = CELL_TEXT}, text ? text : "");
}

void ind_table_number(struct ind_table *table, uint64_t number)
{
    add_cell(table, (struct cell){.kind = CELL_NUMBER, .number = number}, NULL);
}

void ind_table_size(struct ind_table *table, uint64_t bytes)
{
    char text[32];
    add_cell(table, (struct cell){.kind = CELL_SIZE, .number = bytes}, ind_size_text(bytes, text));
}

void ind_table_flag(struct ind_table *table, bool flag)
{
    add_cell(table, (struct cell){.kind = CELL_FLAG, .number = flag}, flag ? "yes" : "no");
}

void ind_table_real(struct ind_table *table, double number, const char *text)
{
    add_cell(table, (struct cell){.kind = CELL_REAL, .real = number}, text);
}

/* Long tables are written in large pieces. */
struct page {
    char bytes[16384];
    size_t length;
    FILE *out;
};

static void put(struct page *page, const char *text, size_t length)
{
    if (sizeof page->bytes - page->length < length) {
        fwrite(page->bytes, 1, page->length, page->out);
        page->length = 0;
    }
    if (length > sizeof page->bytes) {
        fwrite(text, 1, length, page->out);
        return;
    }
    memcpy(page->bytes + page->length, text, length);
    page->length += length;
}

static void put_blanks(struct page *page, size_t count)
{
    static const char blanks[] = "                                                                ";
    for (; count >= sizeof blanks; count -= sizeof blanks - 1)
        put(page, blanks, sizeof blanks - 1);
    put(page, blanks, count);
}

static void put_cell(struct page *page, const struct ind_table *table, const struct cell *cell, size_t width,
                     bool grouped, bool right, bool last)
{
    char number[32];
    const char *text = table->texts + cell->text;
    size_t length = cell->length, own = cell->width;
    if (cell->kind == CELL_NUMBER) {
        text = ind_number_text(cell->number, grouped, number);
        length = own = strlen(text);
    }
    if (right)
        put_blanks(page, width > own ? width - own : 0);
    put(page, text, length);
    if (!right && !last)
        put_blanks(page, width > own ? width - own : 0);
    put(page, last ? "\n" : "  ", last ? 1 : 2);
}

static void put_csv(struct page *page, const char *text, bool last)
{
    const size_t length = strlen(text);
    char *room = malloc(2 * length + 2);
    struct ind_buffer out = ind_buffer_on(room, room ? 2 * length + 2 : 0);
    ind_csv_write(&out, (struct ind_slice){text, length});
    put(page, room ? room : "", out.length);
    put(page, last ? "\n" : ",", 1);
    free(room);
}

static void measure(const struct ind_table *table, bool grouped, size_t *widths)
{
    char number[32];
    size_t c = 0;
    for (size_t i = 0; i < table->count; i++) {
        const struct cell *cell = &table->cells[i];
        const size_t width =
            cell->kind == CELL_NUMBER ? strlen(ind_number_text(cell->number, grouped, number)) : cell->width;
        widths[c] = width > widths[c] ? width : widths[c];
        c = c + 1 == table->column_count ? 0 : c + 1;
    }
}

static void put_heading(struct page *page, const struct ind_table *table, const size_t *widths)
{
    for (size_t c = 0; c < table->column_count; c++) {
        const char *name = table->columns[c].name;
        const size_t length = strlen(name), pad = widths[c] - length;
        const bool last = c + 1 == table->column_count;
        put_blanks(page, table->columns[c].number ? pad : 0);
        put(page, name, length);
        put_blanks(page, table->columns[c].number || last ? 0 : pad);
        put(page, last ? "\n" : "  ", last ? 1 : 2);
    }
}

static void print_text(const struct ind_table *table, FILE *out)
{
    const size_t columns = table->column_count;
    struct page page = {.out = out};
    const bool grouped = ind_goes_to_terminal(out);
    size_t *widths = calloc(columns, sizeof *widths), c = 0;
    for (size_t i = 0; widths && i < columns; i++)
        widths[i] = strlen(table->columns[i].name);
    if (widths) {
        measure(table, grouped, widths);
        put_heading(&page, table, widths);
    }
    for (size_t i = 0; widths && i < table->count; i++) {
        put_cell(&page, table, &table->cells[i], widths[c], grouped, table->columns[c].number,
                 c + 1 == columns);
        c = c + 1 == columns ? 0 : c + 1;
    }
    fwrite(page.bytes, 1, page.length, out);
    free(widths);
}

/* A whole number is written as one. */
static json_t *json_real_or_integer(double number)
{
    const double most = 9007199254740992.0; /* beyond, not all whole numbers are to be had */
    return number > -most && number < most && (double)(json_int_t)number == number
               ? json_integer((json_int_t)number)
               : json_real(number);
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
                                cell->kind == CELL_TEXT   ? json_string(table->texts + cell->text)
                                : cell->kind == CELL_FLAG ? json_boolean(cell->number)
                                : cell->kind == CELL_REAL ? json_real_or_integer(cell->real)
                                                          : json_integer((json_int_t)cell->number));
        }
        ind_print_json(object, out);
        fputc('\n', out);
        json_decref(object);
    }
}

void ind_table_print_csv(const struct ind_table *table, FILE *out)
{
    if (!table)
        return;
    struct page page = {.out = out};
    for (size_t c = 0; c < table->column_count; c++)
        put_csv(&page, table->columns[c].name, c + 1 == table->column_count);
    for (size_t i = 0; i < table->count; i++) {
        const struct cell *cell = &table->cells[i];
        char number[32];
        const bool plain = cell->kind == CELL_NUMBER || cell->kind == CELL_SIZE;
        if (cell->kind == CELL_REAL)
            snprintf(number, sizeof number, "%.15g", cell->real);
        put_csv(&page,
                plain                     ? ind_number_text(cell->number, false, number)
                : cell->kind == CELL_REAL ? number
                                          : table->texts + cell->text,
                (i + 1) % table->column_count == 0);
    }
    fwrite(page.bytes, 1, page.length, out);
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
