/* core/message/rfc3164.h: RFC 3164 section 4.1 and what is sent in its name. Internal to core/.
 *
 * Time, host and tag are read straight through; only where what stands there is none of these is it looked at
 * as the words that network devices put before an event code (core/message/event_code.h): numbers, a
 * location, a host, a time of their own. docs/headers.md shows each form. */
#ifndef IND_CORE_MESSAGE_RFC3164_H
#define IND_CORE_MESSAGE_RFC3164_H

#include "core/message/message.h"
#include "core/time/zone.h"

/* Reads what stands behind the PRI (or, without one, everything) into *message, which is empty but for the
 * PRI. Steps are linear in its length. */
void ind_rfc3164_read(const char *at, const char *end, ind_time reference, const struct ind_zone *zone,
                      struct ind_message *message);
/* The same, without the short ways of the commonest forms. */
void ind_rfc3164_read_closely(const char *at, const char *end, ind_time reference,
                              const struct ind_zone *zone, struct ind_message *message);

#endif
