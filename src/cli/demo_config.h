/* cli/demo_config.h: the rules of the demo: those of a made-up ferry operator. */
#ifndef IND_CLI_DEMO_CONFIG_H
#define IND_CLI_DEMO_CONFIG_H

#include <stdbool.h>

/* Writes them to a file; without edits, to compare with. False, reported, where it cannot. */
bool ind_demo_config_write(const char *path, bool with_edits);
/* Which file takes what, to standard output. */
void ind_demo_routes_print(void);

#endif
