/* cli/underline.h: a message or a text with its parts underlined and named. */
#ifndef IND_CLI_UNDERLINE_H
#define IND_CLI_UNDERLINE_H

#include "core/base/slice.h"

#include <stdio.h>

/* A part of the bytes that are shown, and what is written under it; terminated. */
struct ind_underlined_part {
    const char *name;
    size_t offset, length;
};

enum { IND_MOST_UNDERLINED = 40 };

/* Prints the bytes in rows of at most `width` columns, under each row the parts that lie in it with their
 * names: at most IND_MOST_UNDERLINED, in the order in which they stand. The part with number `cut` (-1: none)
 * is cut at the end of its first row. */
void ind_print_underlined(struct ind_slice bytes, const struct ind_underlined_part *parts, size_t count,
                          int cut, size_t width, FILE *out);

/* The same, each row `indent` columns to the right, and without names. */
void ind_print_indented(struct ind_slice bytes, const struct ind_underlined_part *parts, size_t count,
                        size_t indent, size_t width, FILE *out);

/* The first row of it only. */
void ind_print_begun(struct ind_slice bytes, size_t indent, size_t width, FILE *out);

/* Two texts under each other, with what is different in them underlined. */
void ind_print_both(struct ind_slice one, struct ind_slice other, size_t width, FILE *out);

#endif
