/* core/line/template.h: texts with {placeholders}, for the paths of files and for lines.
 *
 * In a path, what comes from a message keeps letters, digits and `.-_`; the rest becomes `_`. It is never
 * empty
 * ("unknown"), never begins with `.`, is 100 bytes at most, and a file's name is never of the form of an
 * archive's: no message can leave the store or pass for an archive. */
#ifndef IND_CORE_LINE_TEMPLATE_H
#define IND_CORE_LINE_TEMPLATE_H

#include "core/base/mistake.h"
#include "core/message/device.h"
#include "core/message/message.h"

enum ind_placeholder {
    IND_PUT_DEVICE,
    IND_PUT_HOST, /* falls back to the device */
    IND_PUT_SENDER,
    IND_PUT_FACILITY,
    IND_PUT_SEVERITY,
    IND_PUT_APP,
    IND_PUT_LISTENER,
    IND_PUT_YEAR,
    IND_PUT_MONTH,
    IND_PUT_DAY,
    IND_PUT_HOUR,
    IND_PUT_DATE,
    IND_PUT_LABEL,
    IND_PUT_FIELD,     /* of the payload; needs message->payload */
    IND_PUT_LINE_ONLY, /* from here on: not in paths */
    IND_PUT_TIME = IND_PUT_LINE_ONLY,
    IND_PUT_PROCID,
    IND_PUT_MSGID,
    IND_PUT_DATA,
    IND_PUT_TEXT,
    IND_PUT_LITERAL
};

struct ind_template_part {
    uint8_t put;           /* enum ind_placeholder */
    struct ind_slice text; /* a literal, or the name of a label or field; borrowed from the source */
};

enum { IND_TEMPLATE_PARTS = 64, IND_PATH_PART = 100, IND_PATH = 1024 };

struct ind_template {
    struct ind_slice source; /* borrowed */
    struct ind_template_part parts[IND_TEMPLATE_PARTS];
    size_t count;
    bool has_time;    /* {year} … {date} */
    bool has_message; /* anything that a message can make up */
    bool has_field;   /* {field NAME} */
    bool has_label;   /* {label NAME} */
    bool only_pri;    /* nothing but facility and severity tells paths apart */
    bool only_device; /* has_message, but only through {device} and labels */
};

enum ind_template_use { IND_TEMPLATE_PATH, IND_TEMPLATE_LINE };

/* Reads `source` (borrowed: must outlive the template). A path is relative, stays below its folder, ends in
 * ".log", and has no part that begins with a dot. False with *mistake made. */
bool ind_template_read(struct ind_slice source, enum ind_template_use use, struct ind_template *template,
                       struct ind_mistake *mistake);

/* The local calendar, kept for as long as it holds: paths change once an hour at most. */
struct ind_path_clock {
    const struct ind_zone *zone;
    const struct ind_zone *times; /* of {time}; NULL: UTC */
    ind_time from, to;            /* `local` holds for times from `from` on, before `to` */
    struct ind_civil local;
};

/* Adds the path for a message; `series`: with the time parts left out. IND_PATH bytes always suffice. */
void ind_template_path(const struct ind_template *template, const struct ind_message *message,
                       struct ind_path_clock *clock, bool series, struct ind_buffer *buffer);

/* Adds a line without its end; absent values are `-`; text is escaped. */
void ind_template_line(const struct ind_template *template, const struct ind_message *message,
                       struct ind_path_clock *clock, struct ind_buffer *buffer);

/* Whether a template can make a path: as far as its form tells, since what messages will say nobody knows.
 * Takes time with the path's length only. */
bool ind_template_could_make(const struct ind_template *template, struct ind_slice path);

bool ind_template_has(const struct ind_template *template, enum ind_placeholder put);

/* The longest line, in bytes, that a message of `message` bytes can make: its parts overlap nowhere, and each
 * of its bytes becomes four at most. Fields and what edits put into a message are taken to be within it. */
size_t ind_template_most(const struct ind_template *template, size_t message);

/* Adds the values as they are: nothing is escaped, an absent one is nothing. What there is no room for is
 * cut, and buffer->full then set. */
void ind_template_value(const struct ind_template *template, const struct ind_message *message,
                        struct ind_path_clock *clock, struct ind_buffer *buffer);

#endif
