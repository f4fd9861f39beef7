/* cli/status_tls.h: the part of `status` that tells of TLS. */
#ifndef IND_CLI_STATUS_TLS_H
#define IND_CLI_STATUS_TLS_H

#include <jansson.h>

/* Nothing where no listener has TLS. At most `most` of those who have shown a certificate; 0: all. */
void ind_show_tls(const json_t *status, size_t most);

#endif
