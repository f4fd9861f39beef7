/* core/payload/payload_private.h: what the readers of payloads share. */
#ifndef IND_CORE_PAYLOAD_PAYLOAD_PRIVATE_H
#define IND_CORE_PAYLOAD_PAYLOAD_PRIVATE_H

#include "core/payload/parts.h"

/* The text with every `\` undone that stands before a byte of `escaped`; `n` and `r` then are LF and CR.
 * Borrowed from the text where there is none, or no room. */
struct ind_slice ind_payload_undo(struct ind_slice text, const char *escaped, struct ind_payload *payload);

/* `text` begins behind "CEF:"; false where it is none. */
bool ind_payload_read_cef(struct ind_slice text, struct ind_payload *payload);

/* `text` begins behind "LEEF:"; false where it is none. */
bool ind_payload_read_leef(struct ind_slice text, struct ind_payload *payload);

#endif
