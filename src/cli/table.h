/* cli/table.h: results in rows, printed as a table for people or as JSON for scripts. */
#ifndef IND_CLI_TABLE_H
#define IND_CLI_TABLE_H

#include <stdbool.h>
#include <stdint.h>
#include <stdio.h>

struct ind_table;

struct ind_column {
    const char *name; /* heading, and key in JSON with spaces as _ */
    bool number;      /* aligned to the right */
};

/* New; `columns` is borrowed. NULL where memory is out; the other calls accept NULL. */
struct ind_table *ind_table_new(const struct ind_column *columns, size_t count);
void ind_table_free(struct ind_table *table);

/* Fills the next cell of the row; the text is copied. */
void ind_table_text(struct ind_table *table, const char *text);
void ind_table_number(struct ind_table *table, uint64_t number);
/* "1.2 MiB"; in JSON the bytes. */
void ind_table_size(struct ind_table *table, uint64_t bytes);
/* "yes" or "no"; in JSON true or false. */
void ind_table_flag(struct ind_table *table, bool flag);

/* A number that is shown as that text. */
void ind_table_real(struct ind_table *table, double number, const char *text);

/* A heading and rows as CSV (RFC 4180), numbers without separators. */
void ind_table_print_csv(const struct ind_table *table, FILE *out);

/* Text: a heading and aligned columns. JSON: one object per line. */
void ind_table_print(const struct ind_table *table, bool json, FILE *out);

#endif
