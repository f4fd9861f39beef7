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

/* An empty one; then the fields of what is known without a pattern, behind those that are there. */
void ind_payload_begin(struct ind_payload *payload, char *scratch, size_t room);
void ind_payload_add_known(const struct ind_message *message, struct ind_payload *payload);

/* The text with every `\` undone that stands before a byte of `escaped`; `n` and `r` then are LF and CR.
 * Borrowed from the text where there is none, or no room. */
struct ind_slice ind_payload_undo(struct ind_slice text, const char *escaped, struct ind_payload *payload);

/* `text` begins behind "CEF:"; false where it is none. */
bool ind_payload_read_cef(struct ind_slice text, struct ind_payload *payload);

/* `text` begins with "{"; false where it is no whole object. With a `prefix` its members are named
 * "prefix.member". */
bool ind_payload_read_json(struct ind_slice text, struct ind_slice prefix, struct ind_payload *payload);

/* Every key=value in the text, named in the same way. */
void ind_payload_read_pairs(struct ind_slice text, struct ind_slice prefix, struct ind_payload *payload);

/* Behind the run of pairs, or the object in braces, that begins at `at`; NULL where none does. Whether what
 * is in the braces is JSON shows only when it is read. */
const char *ind_pairs_end(const char *at, const char *end);
const char *ind_json_end(const char *at, const char *end);

#endif
