/* cli/check_running.h: what a reload would change, before it is done. */
#ifndef IND_CLI_CHECK_RUNNING_H
#define IND_CLI_CHECK_RUNNING_H

#include "config/config.h"

/* Compares the rules that are in force with those of the file, and prints what differs. Returns the exit
 * code: 1 where a reload would be refused, 3 where there is no collector to ask. */
int ind_check_running(const struct ind_config *config, bool json);

#endif
