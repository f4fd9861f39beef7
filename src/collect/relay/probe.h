/* collect/relay/probe.h: whether a target says of itself that it is well: an HTTP address that answers 200.
 */
#ifndef IND_COLLECT_RELAY_PROBE_H
#define IND_COLLECT_RELAY_PROBE_H

#include "config/relay.h"

/* For each relay that has a probe, before it is asked. */
void ind_probe_begin(void);

/* Asks, unless the probe is of another target: `{host}` in its address stands for the host of each, and an
 * address whose host is that of one target is of that one. `stop`: a descriptor; once it can be read from
 * nothing is waited for any more. False with the reason. */
bool ind_probe(const struct ind_relay_rule *rule, unsigned target, int stop, char *reason, size_t room);

#endif
