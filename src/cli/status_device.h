/* cli/status_device.h: `status DEVICE`: all that is known of one. */
#ifndef IND_CLI_STATUS_DEVICE_H
#define IND_CLI_STATUS_DEVICE_H

#include "cli/cli.h"

/* Asks the collector and prints; as an exit code. */
int ind_status_device(const struct ind_config *config, const char *name, bool json);

#endif
