/* core/line/line_private.h: what the writers and readers of lines share. Internal to core/. */
#ifndef IND_CORE_LINE_LINE_PRIVATE_H
#define IND_CORE_LINE_LINE_PRIVATE_H

#include "core/line/line.h"

#include <stdint.h>

/* The end of a line of text that was cut. No message can write it: its own `\x` would have its backslash
 * doubled. */
#define IND_CUT_MARK " \\x[cut]"

/* Whether 16 bytes may be read at `at`: they belong to the message as received. */
static inline bool ind_line_is_within(struct ind_slice original, const char *at)
{
    const uintptr_t first = (uintptr_t)original.at, place = (uintptr_t)at;
    return place >= first && original.length >= 16 && place - first <= original.length - 16;
}

/* Writes a time to `at`, where IND_TIME_WIDTH_MOST bytes are free; returns where it ends. */
char *ind_line_put_time(char *at, struct ind_line_clock *clock, ind_time time);

/* The layout `plain`, in plain.c: a whole line with its end at one go; false, and nothing is added, where
 * something in it is to be escaped, or there is little room. */
bool ind_line_write_plain(const struct ind_message *message, struct ind_line_clock *clock,
                          struct ind_buffer *buffer);

/* Any message in that layout, column by column, without its end. */
void ind_line_write_columns(const struct ind_message *message, struct ind_line_clock *clock,
                            struct ind_buffer *buffer);

/* The layout `json`, in json.c. `cut`: the message has been shortened. */
void ind_line_write_json(const struct ind_message *message, struct ind_line_clock *clock, bool cut,
                         struct ind_buffer *buffer);

#endif
