/* core/line/line_private.h: what the writers and readers of lines share. Internal to core/. */
#ifndef IND_CORE_LINE_LINE_PRIVATE_H
#define IND_CORE_LINE_LINE_PRIVATE_H

#include "core/line/line.h"

/* The end of a line of text that was cut. No message can write it: its own `\x` would have its backslash
 * doubled. */
#define IND_CUT_MARK " \\x[cut]"

/* The layout `json`, in json.c. `cut`: the message has been shortened. */
void ind_line_write_json(const struct ind_message *message, const struct ind_zone *zone, bool cut,
                         struct ind_buffer *buffer);

#endif
