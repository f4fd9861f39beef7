/* cli/explain_marks.h: a message with its parts marked under it. */
#ifndef IND_CLI_EXPLAIN_MARKS_H
#define IND_CLI_EXPLAIN_MARKS_H

#include "collect/explain.h"

#include <stdio.h>

/* Prints the message in rows of at most `width` columns, under each row the parts that lie in it with their
 * names. A text that goes on for longer than its first row is cut there. */
void ind_print_marked(const struct ind_explanation *explanation, size_t width, FILE *out);

#endif
