/* config/csv.c: tables with commas (RFC 4180), semicolons or tabs between their cells. */
#include "config/csv.h"

#include <stdlib.h>
#include <string.h>

bool ind_csv_begin(struct ind_csv *file, struct ind_loader *loader, const struct ind_node *path)
{
    char *resolved = ind_resolve_path(loader, path);
    *file = (struct ind_csv){.loader = loader,
                             .source = resolved ? ind_load_source(loader, resolved, path) : NULL};
    if (!file->source)
        return false;
    file->room = malloc(file->source->length * 2 + 16);
    if (!file->room) {
        ind_no_memory(loader);
        return false;
    }
    if (file->source->length >= 3 && memcmp(file->source->bytes, "\xEF\xBB\xBF", 3) == 0)
        file->at = 3;
    return true;
}

void ind_csv_end(struct ind_csv *file)
{
    free(file->room);
}

char ind_csv_separator(const struct ind_csv *file, const char *first)
{
    static const char separators[] = ",;\t";
    const char *start = file->source->bytes + file->at;
    const size_t left = file->source->length - file->at;
    const char *newline = left ? memchr(start, '\n', left) : NULL;
    const size_t length = newline ? (size_t)(newline - start) : left;
    for (size_t i = 0; separators[i] && length; i++)
        if (separators[i] != '\t' && memchr(start, separators[i], length))
            return separators[i];
    const size_t named = strlen(first);
    return length >= named && memcmp(start, first, named) == 0 ? '\t' : '\0';
}

/* A cell or a word, as a scalar that mistakes can be reported at. */
struct ind_node ind_csv_node(const struct ind_csv *file, size_t offset, size_t length, struct ind_slice text)
{
    return (struct ind_node){
        .kind = IND_NODE_SCALAR, .source = file->source, .offset = offset, .length = length, .text = text};
}

bool ind_csv_at_line_end(const struct ind_csv *file)
{
    char c = file->at < file->source->length ? file->source->bytes[file->at] : '\n';
    return c == '\n' || c == '\r';
}

void ind_csv_next_line(struct ind_csv *file)
{
    while (file->at < file->source->length && file->source->bytes[file->at] != '\n')
        file->at++;
    file->at += file->at < file->source->length;
}

bool ind_csv_is_blank(char c)
{
    return c == ' ' || c == '\t';
}

struct ind_slice ind_csv_keep(struct ind_csv *file, const char *bytes, size_t length)
{
    struct ind_slice kept = {file->room + file->used, length};
    memcpy(file->room + file->used, bytes, length);
    file->used += length;
    file->room[file->used++] = '\0'; /* names of zones are looked up as files */
    return kept;
}

/* ---- CSV (RFC 4180) ---- */

/* A cell in quotes: "" is one quote. */
static struct ind_node quoted_cell(struct ind_csv *file, char separator)
{
    const struct ind_source *source = file->source;
    size_t start = file->at++, from = file->used;
    bool closed = false;
    while (file->at < source->length && !closed) {
        char c = source->bytes[file->at++];
        if (c == '"' && file->at < source->length && source->bytes[file->at] == '"')
            file->at++;
        else if (c == '"')
            closed = true;
        if (!closed)
            file->room[file->used++] = c;
    }
    struct ind_slice text = {file->room + from, file->used - from};
    file->room[file->used++] = '\0';
    struct ind_node cell = ind_csv_node(file, start, file->at - start, text);
    bool more = !ind_csv_at_line_end(file) && source->bytes[file->at] != separator;
    if (!closed)
        ind_wrong(file->loader, &cell, "this quote is never closed; a quote within a cell is written twice");
    else if (more)
        ind_wrong(file->loader, &cell, "a cell in quotes ends with them; a quote within it is written twice");
    while (more && !ind_csv_at_line_end(file) && source->bytes[file->at] != separator)
        file->at++;
    return cell;
}

static struct ind_node read_cell(struct ind_csv *file, char separator)
{
    const char *bytes = file->source->bytes;
    while (!ind_csv_at_line_end(file) && ind_csv_is_blank(bytes[file->at]) && bytes[file->at] != separator)
        file->at++;
    if (!ind_csv_at_line_end(file) && bytes[file->at] == '"')
        return quoted_cell(file, separator);
    size_t start = file->at;
    while (!ind_csv_at_line_end(file) && bytes[file->at] != separator)
        file->at++;
    size_t end = file->at;
    while (end > start && ind_csv_is_blank(bytes[end - 1]))
        end--;
    return ind_csv_node(file, start, end - start, ind_csv_keep(file, bytes + start, end - start));
}

/* The cells of a line; what is beyond IND_CSV_COLUMNS is reported and left out. */
size_t ind_csv_row(struct ind_csv *file, char separator, struct ind_node cells[IND_CSV_COLUMNS])
{
    size_t count = 0;
    for (;;) {
        struct ind_node cell = read_cell(file, separator);
        if (count < IND_CSV_COLUMNS)
            cells[count] = cell;
        else if (count == IND_CSV_COLUMNS)
            ind_wrong(file->loader, &cell, "more than %d columns", IND_CSV_COLUMNS);
        count++;
        if (ind_csv_at_line_end(file))
            break;
        file->at++;
    }
    ind_csv_next_line(file);
    return count < IND_CSV_COLUMNS ? count : IND_CSV_COLUMNS;
}
