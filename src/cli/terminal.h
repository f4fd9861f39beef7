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
#define IND_CYAN "\033[36m"
#define IND_DIM "\033[2m"
#define IND_REVERSE "\033[7m"
#define IND_PLAIN "\033[0m"
#define IND_CLEAR_SCREEN "\033[H\033[J"
#define IND_CLEAR_LINE "\r\033[K"

/* Puts itself before standard output and standard error where they are terminals. At the start, before
 * anything is printed. */
void ind_terminal_begin(void);

/* Whether it is standard output, and that a terminal. */
bool ind_goes_to_terminal(const FILE *out);

/* From now on standard output goes through the program that PAGER names, where it is a terminal and PAGER is
 * set; it counts as a terminal all the same. Shown there is what would be shown here. */
void ind_page_begin(void);
/* Waits until whoever reads has seen enough. */
void ind_page_end(void);
bool ind_pages(void);
/* Rows of the terminal that standard output is; 0 where it is none. */
size_t ind_terminal_rows(void);

/* An object, without a line end. On a terminal what is not ASCII is written `\uNNNN`: that is the
 * same JSON, and drives nothing. */
void ind_print_json(const json_t *object, FILE *out);

#endif
