/* store/disk/json_quick.h: lines of the layout `json` as they mostly are, read without a library. */
#ifndef IND_STORE_DISK_JSON_QUICK_H
#define IND_STORE_DISK_JSON_QUICK_H

#include "core/message/message.h"

/* True where the line is as ind_json_line_read would read it, with the same message, which borrows from the
 * line. False: nothing is said. Lines with escapes, bytes beyond ASCII or structured data are left to that.
 */
bool ind_json_quick_read(struct ind_slice line, struct ind_message *message);

/* "rfc3164", and the reasons of core/message/header.h; what is none of them is bare, and nothing. */
unsigned ind_json_form(struct ind_slice name);
unsigned ind_json_malformed(struct ind_slice name);

#endif
