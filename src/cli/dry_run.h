/* cli/dry_run.h: what a rotation would do, told by the code that does it. */
#ifndef IND_CLI_DRY_RUN_H
#define IND_CLI_DRY_RUN_H

#include "cli/cli.h"

/* Prints what would be rotated, compressed and removed, by which rule, and what that frees; changes nothing.
 * As an exit code. */
int ind_dry_run(const struct ind_config *config, bool only_due, bool clock_is_right, bool json);

#endif
