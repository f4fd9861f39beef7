/* cli/status_all.h: several collectors together, by what they serve over HTTP. */
#ifndef IND_CLI_STATUS_ALL_H
#define IND_CLI_STATUS_ALL_H

#include <stdbool.h>

/* `urls`: NULL behind the last. Returns the exit code: 3 where one does not answer. */
int ind_status_all(const char *const *urls, bool json);

#endif
