/* collect/relay/relay_tls.h: who we are to the other side of a relay, and whom we believe. */
#ifndef IND_COLLECT_RELAY_RELAY_TLS_H
#define IND_COLLECT_RELAY_RELAY_TLS_H

#include "config/config.h"
#include "net/tls.h"

/* Reads the files of a rule. New; NULL with the reason. */
struct ind_tls *ind_relay_tls_new(const struct ind_relay_rule *rule, char *reason, size_t room);

/* Adds a warning for each relay whose files cannot be read, or whose certificates end soon. */
void ind_relay_tls_check(const struct ind_config *config, ind_time now, struct ind_diagnostics *diagnostics);

#endif
