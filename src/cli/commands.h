/* cli/commands.h: all commands, and the options that all of them have: for whoever runs them, and for whoever
 * writes manual pages and completions from the same tables (packaging/tables.c). */
#ifndef IND_CLI_COMMANDS_H
#define IND_CLI_COMMANDS_H

#include "cli/cli.h"

enum { IND_COMMANDS = 19, IND_COMMON_OPTIONS = 6 };
extern const struct ind_command *const ind_commands[IND_COMMANDS];

struct ind_common {
    char *config, *colour;
    int help, version, json;
};

/* A table that fills in *common, with its end. */
void ind_common_options(struct ind_common *common, struct poptOption table[IND_COMMON_OPTIONS]);

#endif
