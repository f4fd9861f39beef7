/* core/payload/parts.h: the pieces that a payload is put together from, for whoever reads other fields before
 * them (core/pattern). */
#ifndef IND_CORE_PAYLOAD_PARTS_H
#define IND_CORE_PAYLOAD_PARTS_H

#include "core/payload/payload.h"

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
