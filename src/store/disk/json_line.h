/* store/disk/json_line.h: reading back lines of the layout `json`. */
#ifndef IND_STORE_DISK_JSON_LINE_H
#define IND_STORE_DISK_JSON_LINE_H

#include "core/message/message.h"

struct ind_json_line; /* what the slices of the last line point into */

struct ind_json_line *ind_json_line_new(void);
void ind_json_line_free(struct ind_json_line *line);

/* Reads one line; false where it is no such object. The message borrows from `line` until the next call. */
bool ind_json_line_read(struct ind_json_line *line, struct ind_slice text, struct ind_message *message);

/* The same without the short way that most lines go (store/disk/json_quick.h), which must give the same. */
bool ind_json_line_read_any(struct ind_json_line *line, struct ind_slice text, struct ind_message *message);

#endif
