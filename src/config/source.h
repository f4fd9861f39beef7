/* config/source.h: configuration files in memory, and remarks on them with their places. */
#ifndef IND_CONFIG_SOURCE_H
#define IND_CONFIG_SOURCE_H

#include "core/base/slice.h"
#include <stdio.h>

struct ind_source {
    char *path; /* as given or as an include names it: what remarks show */
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

/* One mistake or one doubt. */
struct ind_remark {
    const struct ind_source *source; /* NULL: about no place in a file */
    size_t offset, length, line, column;
    bool doubt; /* a warning: the configuration can be used */
    char *text;
};

struct ind_remarks {
    struct ind_remark *list;
    size_t count, room;
    size_t mistakes; /* those that are no doubts */
    struct ind_place last;
};

/* Adds a remark on bytes `offset` to `offset + length` of a source. `format` as for printf. */
void ind_remark_add(struct ind_remarks *remarks, bool doubt, const struct ind_source *source, size_t offset,
                    size_t length, const char *format, ...) __attribute__((format(printf, 6, 7)));

/* In the order of files, lines and columns; one and the same remark is kept once. */
void ind_remarks_sort(struct ind_remarks *remarks);
void ind_remarks_free(struct ind_remarks *remarks);

/* `indagator.yaml:14:11: text`, then the line and a caret below. Control characters in the line are not
 * printed. */
void ind_remark_print(const struct ind_remark *remark, FILE *out);

#endif
