/* config/csv.h: reading a file with a table in it, cell by cell, each with its place for mistakes. Internal
 * to config/. */
#ifndef IND_CONFIG_CSV_H
#define IND_CONFIG_CSV_H

#include "config/load.h"

enum { IND_CSV_COLUMNS = 64 };

/* The file, and how far it has been read. */
struct ind_csv {
    struct ind_loader *loader;
    const struct ind_source *source;
    size_t at;
    char *room; /* for cells whose quotes had to be undone; as long as the file */
    size_t used;
};

/* Reads the file that the node names. False, reported, where it cannot. What was read is good until the end.
 */
bool ind_csv_begin(struct ind_csv *file, struct ind_loader *loader, const struct ind_node *path);
void ind_csv_end(struct ind_csv *file);

/* What stands between the cells of the first line: a comma, a semicolon; a tab, where it begins with `first`;
 * NUL where it is no table. */
char ind_csv_separator(const struct ind_csv *file, const char *first);

/* The cells of the next line; what is beyond IND_CSV_COLUMNS is reported and left out. */
size_t ind_csv_row(struct ind_csv *file, char separator, struct ind_node cells[IND_CSV_COLUMNS]);

/* A run of bytes as a scalar that mistakes can be reported at, and a copy of them with a NUL behind it. */
struct ind_node ind_csv_node(const struct ind_csv *file, size_t offset, size_t length, struct ind_slice text);
struct ind_slice ind_csv_keep(struct ind_csv *file, const char *bytes, size_t length);

bool ind_csv_at_line_end(const struct ind_csv *file);
void ind_csv_next_line(struct ind_csv *file);
bool ind_csv_is_blank(char c);

#endif
