/* cli/plain_line.h: messages that a collector remembers (docs/formats.md), a line each on a terminal. */
#ifndef IND_CLI_PLAIN_LINE_H
#define IND_CLI_PLAIN_LINE_H

#include <jansson.h>
#include <stdbool.h>
#include <stddef.h>

/* Red for what is at least an error, yellow for a warning, where there may be colour: the word says the same.
 * "" otherwise. */
const char *ind_severity_colour(const char *severity);

/* "11-23 04:45:00  warning    kernel: link down", cut at `width` columns, `indent` behind the margin.
 * `device`: with it, and the facility. */
void ind_print_plain(const json_t *message, bool device, size_t indent, size_t width);

#endif
