/* cli/emit_traps.h: texts sent as traps of SNMP v2c. */
#ifndef IND_CLI_EMIT_TRAPS_H
#define IND_CLI_EMIT_TRAPS_H

#include "core/base/slice.h"
#include "core/time/steady.h"

struct ind_emit_traps;

/* New; NULL where memory is out. `community`: borrowed. */
struct ind_emit_traps *ind_emit_traps_new(const char *community);
void ind_emit_traps_free(struct ind_emit_traps *traps);

/* The datagram of a text such as "linkDown ifIndex=3 ifDescr=ge0/3"; borrowed until the next call. Empty, and
 * told, where the text names something that nobody knows. */
struct ind_slice ind_emit_trap(struct ind_emit_traps *traps, struct ind_slice text);

#endif
