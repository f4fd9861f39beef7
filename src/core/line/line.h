/* core/line/line.h: messages as stored lines, and back (docs/formats.md).
 *
 * A line is one message and ends with LF; nothing in a message can end it earlier. What is written is read
 * back as the very bytes (core/base/escape.h), but for what the layout does not hold
 * (core/route/layout_fields.h). No line is longer than IND_LINE_MOST bytes: of what edits have made too long
 * the beginning is kept, and the line says so. */
#ifndef IND_CORE_LINE_LINE_H
#define IND_CORE_LINE_LINE_H

#include "core/line/template.h"
#include "core/message/device.h"

enum ind_layout { IND_LAYOUT_PLAIN, IND_LAYOUT_JSON, IND_LAYOUT_RFC5424, IND_LAYOUT_RAW, IND_LAYOUTS };

/* IND_LINE_MOST: with its end; every reader takes a line of that length. IND_FIELDS_ROOM: of the fields of a
 * payload a line holds as many as fit into this, and says where that is not all. */
enum { IND_LINE_MOST = 512 * 1024, IND_FIELDS_ROOM = 128 * 1024 };

struct ind_slice ind_layout_name(enum ind_layout layout);
int ind_layout_read(struct ind_slice name); /* -1 where there is none of that name */

/* The last time written, down to its second: messages come many to a second. Begins as {0}, or with the zone
 * that times are written in; belongs to one thread. */
struct ind_line_clock {
    const struct ind_zone *zone; /* NULL: UTC */
    ind_time from, to;           /* `text` holds for times from `from` on, before `to` */
    int64_t day;                 /* in UTC: seconds since 1970 at which its day begins */
    char text[20];               /* "2026-11-23T04:45:00." */
    char end[6];                 /* "Z" or "+01:00" */
    uint8_t end_length;
};

/* Adds a line with its end. The layout `json` holds the fields of message->payload, where that is set.
 * Where the buffer has no room for it, nothing that counts is added and buffer->full is set: that cannot
 * happen where IND_LINE_MOST bytes are free. True where the line had to be cut. */
bool ind_line_write(enum ind_layout layout, const struct ind_message *message, struct ind_line_clock *clock,
                    struct ind_buffer *buffer);
/* The same by a template. */
bool ind_line_write_template(const struct ind_template *template, const struct ind_message *message,
                             struct ind_path_clock *clock, struct ind_buffer *buffer);

/* Reads a line (without its end) of the layout; false where it is none. `scratch` has room for as many bytes
 * as the line; slices point into both. Of the layout `raw` ind_line_read_raw gives the bytes as they came;
 * `json` is read elsewhere (store/disk/json_line.h). In `plain` the time is `received` where there is a lag,
 * and `sent` is worked out from that. */
bool ind_line_read_plain(struct ind_slice line, char *scratch, struct ind_message *message);
bool ind_line_read_rfc5424(struct ind_slice line, char *scratch, struct ind_message *message);
struct ind_slice ind_line_read_raw(struct ind_slice line, char *scratch);

/* Lines of the layout `plain` as they were written before escapes could be undone: DEVICE/HOST, and what is
 * read back is the written form. */
bool ind_line_read_plain_old(struct ind_slice line, struct ind_message *message);

/* The time of a plain line without reading the rest, UTC or with an offset, and its *width; IND_TIME_NONE
 * where the line begins with none. */
ind_time ind_line_plain_time(struct ind_slice line, size_t *width);

/* A quick look at a line of the layout `plain`, in UTC or at whole hours from it. True where this holds: if
 * ind_line_read_plain reads any line of which a glance tells the same three, it reads this one, too, with the
 * same hour by UTC, device, facility and severity. False: nothing is said. */
struct ind_line_glance {
    struct ind_slice hour; /* "2026-11-23T04" */
    struct ind_slice zone; /* "Z", "+01:00" */
    struct ind_slice who;  /* "harbour-fw local4 warning" */
};
bool ind_line_glance_plain(struct ind_slice line, struct ind_line_glance *glance);

#endif
