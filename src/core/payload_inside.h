/* core/payload_inside.h: what the readers of payloads share. Internal to core/. */
#ifndef IND_CORE_PAYLOAD_INSIDE_H
#define IND_CORE_PAYLOAD_INSIDE_H

#include "core/payload.h"

static inline bool ind_payload_add(struct ind_payload *payload, struct ind_slice name, struct ind_slice value)
{
    if (payload->count == IND_PAYLOAD_FIELDS) {
        payload->more = true;
        return false;
    }
    payload->fields[payload->count++] = (struct ind_pair){name, value};
    return true;
}

/* The text with every `\` undone that stands before a byte of `escaped`; `n` and `r` then are LF and CR.
 * Borrowed from the text where there is none, or no room. */
struct ind_slice ind_payload_undo(struct ind_slice text, const char *escaped, struct ind_payload *payload);

/* `text` begins behind "CEF:"; false where it is none. */
bool ind_payload_read_cef(struct ind_slice text, struct ind_payload *payload);

/* `text` begins with "{"; false where it is no whole object. */
bool ind_payload_read_json(struct ind_slice text, struct ind_payload *payload);

#endif
