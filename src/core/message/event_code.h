/* core/message/event_code.h: the code with which network devices begin their messages.
 *
 *     %GROUP-N-NAME: text       %GROUP-SUBGROUP-N-NAME: text       #GROUP-N-NAME: text
 *     %%01GROUP/N/NAME(l)[12]: text
 *
 * N is the severity the device gives, 0 to 7, or in the first two forms a letter behind a percent sign
 * (%GROUP-W-NAME): A C D E F I N S or W. A space may stand before the colon. */
#ifndef IND_CORE_MESSAGE_EVENT_CODE_H
#define IND_CORE_MESSAGE_EVENT_CODE_H

#include "core/base/slice.h"

struct ind_event_code {
    struct ind_slice group, subgroup, severity, name; /* subgroup may be empty */
    size_t length;                                    /* of the code, its colon included */
};

/* Whether `text` begins with a code; then fills *code, borrowed from it. Steps are bounded. */
bool ind_event_code_read(struct ind_slice text, struct ind_event_code *code);

#endif
