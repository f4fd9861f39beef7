/* cli/archives.h: what `archives` does, a file for each word behind it. */
#ifndef IND_CLI_ARCHIVES_H
#define IND_CLI_ARCHIVES_H

#include "cli/cli.h"

/* What was given; NULL where it was not. */
struct ind_archives_call {
    const char **names; /* of series or archives: what they begin with */
    bool json;
    int due;
    const char *on, *since, *until, *copy, *key, *heads, *to, *why;
};

/* Each returns an exit code. */
int ind_archives_list(const struct ind_config *config, const struct ind_archives_call *given);
int ind_archives_restore(const struct ind_config *config, const struct ind_archives_call *given);
int ind_archives_protect(const struct ind_config *config, const struct ind_archives_call *given);
int ind_archives_unprotect(const struct ind_config *config, const struct ind_archives_call *given);
int ind_archives_verify(const struct ind_config *config, const struct ind_archives_call *given);
int ind_archives_rebuild(const struct ind_config *config, const struct ind_archives_call *given);

#endif
