/* cli/learn_show.h: what learn has found, as YAML or as JSON. */
#ifndef IND_CLI_LEARN_SHOW_H
#define IND_CLI_LEARN_SHOW_H

#include "cli/cli.h"
#include "trial/learn.h"

void ind_learn_show(const struct ind_learning_result *result, uint64_t at_least, bool json);
void ind_learn_show_check(const struct ind_learning_result *result, const char *name, bool json);

#endif
