/* cli/dry_run.h: a rotation by a command, and what one would do, told by the code that does it. */
#ifndef IND_CLI_DRY_RUN_H
#define IND_CLI_DRY_RUN_H

#include "cli/cli.h"
#include "store/write/store.h"

struct ind_rotated {
    size_t rotated, failed; /* live files */
    bool kept;              /* the keeping half could do all there was to do */
};

/* Rotates and keeps; the store may be one that changes nothing. */
struct ind_rotated ind_rotate_and_keep(struct ind_store *store, bool only_due, bool clock_is_right);

/* Prints what would be rotated, compressed and removed, by which rule, and what that frees; changes nothing.
 * As an exit code. */
int ind_dry_run(const struct ind_config *config, bool only_due, bool clock_is_right, bool json);

#endif
