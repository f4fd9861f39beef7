/* cli/verbs.h: commands that do several things, each with options of its own. */
#ifndef IND_CLI_VERBS_H
#define IND_CLI_VERBS_H

#include "cli/cli.h"

struct ind_verb {
    const char *name;
    const char *options[8]; /* that it knows; NULL behind the last */
};

/* The one of that name in a table of structures of `size` bytes that begin with a verb; NULL where there is
 * none. */
const void *ind_verb_find(const char *name, const void *table, size_t count, size_t size);

/* Whether only options are given that it knows: one that would do nothing is a mistake, and reported. */
bool ind_verb_options_fit(const char *command, const struct ind_verb *verb, const struct poptOption *options);

#endif
