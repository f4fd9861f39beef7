/* core/pattern/fields.h: the fields of a message: those that its pattern gives, then those of its payload.
 *
 * What a pattern gives hides what a payload calls by the same name. */
#ifndef IND_CORE_PATTERN_FIELDS_H
#define IND_CORE_PATTERN_FIELDS_H

#include "core/pattern/pattern.h"
#include "core/payload/payload.h"

/* Reads all fields of the message. `layout`: what `matcher` has just found for its text, or NULL with no
 * pattern; `pattern`: its name. The rest as for ind_payload_read; what a pattern gives is borrowed from the
 * text and from the pattern. */
void ind_fields_read(const struct ind_message *message, const struct ind_matcher *matcher,
                     const struct ind_pattern_syntax *layout, struct ind_slice pattern, char *scratch,
                     size_t room, struct ind_payload *payload);

#endif
