/* core/message/passed.h: messages that a collector of ours has passed on (docs/relays.md): which of their
 * structured data is about that. */
#ifndef IND_CORE_MESSAGE_PASSED_H
#define IND_CORE_MESSAGE_PASSED_H

#include "core/base/slice.h"

/* The SD-ID of our element, with the parameters `hops` and `received`; and that of RFC 5424 section 7.2, with
 * the first sender in `ip`. */
#define IND_PASSED_ID "passed@32473"
#define IND_ORIGIN_ID "origin"

/* Of structured data with both elements: the address of the first sender, as it is written; empty where there
 * is none that can be read. */
struct ind_slice ind_passed_sender(struct ind_slice data);

#endif
