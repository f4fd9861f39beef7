/* core/line.h: messages as stored lines, and back (docs/formats.md).
 *
 * A line is one message and ends with LF; nothing in a message can end it earlier. Writing needs at most
 * IND_LINE_ROOM(bytes of the message) bytes. */
#ifndef IND_CORE_LINE_H
#define IND_CORE_LINE_H

#include "core/device.h"
#include "core/template.h"

enum ind_layout { IND_LAYOUT_PLAIN, IND_LAYOUT_JSON, IND_LAYOUT_RFC5424, IND_LAYOUT_RAW, IND_LAYOUTS };

/* A byte becomes six at most (JSON's \u00NN), and the parts of a message overlap nowhere, but for the fields
 * of its payload: of those a line holds as many as there is room for, and says where that is not all. */
enum { IND_FIELDS_ROOM = 128 * 1024 };
#define IND_LINE_ROOM(bytes) ((bytes)*6 + IND_FIELDS_ROOM + 2048)

struct ind_slice ind_layout_name(enum ind_layout layout);
int ind_layout_read(struct ind_slice name); /* -1 where there is none of that name */

/* Fields that a layout does not hold: a bit 1 << enum ind_field each. */
unsigned ind_layout_lacks(enum ind_layout layout);

/* The last time written, down to its second: messages come many to a second. Begins as {0}, belongs to one
 * thread. */
struct ind_line_clock {
    ind_time from, to; /* `text` holds for times from `from` on, before `to` */
    char text[20];     /* "2026-11-23T04:45:00." */
};

/* Adds a line with its end. The layout `json` holds the fields of message->payload, where that is set.
 * `domain` (may be empty) tells which names are the same. */
void ind_line_write(enum ind_layout layout, const struct ind_message *message, struct ind_slice domain,
                    struct ind_line_clock *clock, struct ind_buffer *buffer);

/* Reads a line (without its end) of the layout `plain`; false where it is none. Slices point into the line:
 * what is read back is the written form. `received` is the time; `sent` is worked out from the lag. */
bool ind_line_read_plain(struct ind_slice line, struct ind_message *message);

/* The time of a plain line without reading the rest; IND_TIME_NONE where it begins with none. */
ind_time ind_line_plain_time(struct ind_slice line);

#endif
