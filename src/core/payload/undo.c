#include "core/payload/payload_private.h"

struct ind_slice ind_payload_undo(struct ind_slice text, const char *escaped, struct ind_payload *payload)
{
    struct ind_buffer *scratch = &payload->scratch;
    if (text.length == 0 || !memchr(text.at, '\\', text.length) || !ind_buffer_room(scratch, text.length))
        return text;
    size_t start = scratch->length;
    for (size_t i = 0; i < text.length; i++) {
        char c = text.at[i];
        if (c == '\\' && i + 1 < text.length && text.at[i + 1] && strchr(escaped, text.at[i + 1])) {
            c = text.at[++i];
            c = c == 'n' ? '\n' : c == 'r' ? '\r' : c;
        }
        scratch->at[scratch->length++] = c;
    }
    return (struct ind_slice){scratch->at + start, scratch->length - start};
}
