/* config/source.h: configuration files in memory, and diagnostics on them with their places. */
#ifndef IND_CONFIG_SOURCE_H
#define IND_CONFIG_SOURCE_H

#include "core/base/slice.h"
#include <stdio.h>

struct ind_source {
    char *path; /* as given or as an include names it: what diagnostics show */
    char *bytes;
    size_t length;
    size_t order; /* in which files were opened */
    struct ind_source *next;
};

/* Reads a whole file. New, or NULL with errno set. */
struct ind_source *ind_source_read(const char *path);

/* Opens a file for reading. NULL with errno set; ENXIO where it is none, so that it could have no end. */
FILE *ind_open_file(const char *path);
/* What errno says of one that could not be read. */
const char *ind_open_file_reason(int error);
void ind_source_free(struct ind_source *source);

/* A byte of a source, with its line and column, which count from 1, columns in characters. */
struct ind_place {
    const struct ind_source *source;
    size_t offset, line, column;
};

/* Fills in the place of a byte; quick where `place` holds an earlier one of the same source. */
void ind_place_find(struct ind_place *place, const struct ind_source *source, size_t offset);

/* One mistake or one warning. */
struct ind_diagnostic {
    const struct ind_source *source; /* NULL: about no place in a file */
    size_t offset, length, line, column;
    bool warning; /* a warning: the configuration can be used */
    char *text;
};

struct ind_diagnostics {
    struct ind_diagnostic *list;
    size_t count, room;
    size_t mistakes; /* those that are no warnings */
    struct ind_place last;
};

/* Adds a diagnostic on bytes `offset` to `offset + length` of a source. `format` as for printf. */
void ind_diagnostic_add(struct ind_diagnostics *diagnostics, bool warning, const struct ind_source *source,
                        size_t offset, size_t length, const char *format, ...)
    __attribute__((format(printf, 6, 7)));

/* In the order of files, lines and columns; one and the same diagnostic is kept once. */
void ind_diagnostics_sort(struct ind_diagnostics *diagnostics);
void ind_diagnostics_free(struct ind_diagnostics *diagnostics);

/* `indagator.yaml:14:11: text`, then the line and a caret below. Control characters in the line are not
 * printed. */
void ind_diagnostic_print(const struct ind_diagnostic *diagnostic, FILE *out);

#endif
