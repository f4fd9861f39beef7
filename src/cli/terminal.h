/* cli/terminal.h: the one place through which everything goes that is shown on a terminal.
 *
 * What a command prints may hold what a stranger has sent. Where standard output or standard error is a
 * terminal, each byte passes here: printable characters, line ends, and the few sequences that we write
 * ourselves; all else is shown as an escape (core/base/escape.h). Into files and pipes bytes go as they are.
 */
#ifndef IND_CLI_TERMINAL_H
#define IND_CLI_TERMINAL_H

#include <jansson.h>
#include <stdbool.h>
#include <stdio.h>

#define IND_BOLD "\033[1m"
#define IND_RED "\033[1;31m"
#define IND_GREEN "\033[1;32m"
#define IND_YELLOW "\033[1;33m"
#define IND_PLAIN "\033[0m"
#define IND_CLEAR_SCREEN "\033[H\033[J"
#define IND_CLEAR_LINE "\r\033[K"

/* Puts itself before standard output and standard error where they are terminals. At the start, before
 * anything is printed. */
void ind_terminal_begin(void);

/* Whether it is standard output, and that a terminal. */
bool ind_goes_to_terminal(const FILE *out);

/* An object, without a line end. On a terminal what is not ASCII is written `\uNNNN`: that is the
 * same JSON, and drives nothing. */
void ind_print_json(const json_t *object, FILE *out);

#endif
