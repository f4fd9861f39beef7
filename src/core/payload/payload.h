/* core/payload/payload.h: fields in texts that are laid out in a form that is generally known.
 *
 * Event codes (core/message/event_code.h), CEF, LEEF, key=value and key:"value"; runs, and JSON objects.
 * Nothing is read before somebody asks; what is read is borrowed from the text, or, where escapes had to be
 * undone, from the scratch memory given. docs/conditions.md tells the names. */
#ifndef IND_CORE_PAYLOAD_PAYLOAD_H
#define IND_CORE_PAYLOAD_PAYLOAD_H

#include "core/message/message.h"

enum ind_payload_kind {
    IND_PAYLOAD_CODE = 1,
    IND_PAYLOAD_CEF = 2,
    IND_PAYLOAD_JSON = 4,
    IND_PAYLOAD_PAIRS = 8, /* key=value; may follow a code */
    IND_PAYLOAD_LEEF = 16
};

struct ind_pair {
    struct ind_slice name, value;
};

enum { IND_PAYLOAD_FIELDS = 256, IND_PAYLOAD_SCRATCH = 192 * 1024 };

struct ind_payload {
    unsigned kinds;           /* of enum ind_payload_kind */
    struct ind_slice pattern; /* the pattern that fits the text (core/pattern/fields.h); empty: none */
    size_t from_pattern;      /* how many of the fields it gives: the first */
    bool more; /* there are more fields than IND_PAYLOAD_FIELDS, or than the scratch memory holds */
    size_t count;
    struct ind_pair fields[IND_PAYLOAD_FIELDS];
    struct ind_buffer scratch;
};

/* Reads the fields of the message's text. `scratch` has room for `room` bytes; IND_PAYLOAD_SCRATCH is enough
 * for all but deeply nested objects. Steps are linear in the length of the text. */
void ind_payload_read(const struct ind_message *message, char *scratch, size_t room,
                      struct ind_payload *payload);

/* The value of the first field of that name from *from on, which is then set behind it; a value with nothing
 * in it is one. False where there is none. A field may be there several times (a JSON array). */
bool ind_payload_find(const struct ind_payload *payload, struct ind_slice name, size_t *from,
                      struct ind_slice *value);

/* Whether a payload may give a field of that name: keys are whatever a device writes, but what begins with
 * `code_`, `cef_` or `leef_` is one of ours. Where not, *near is the name that was probably meant, or NULL.
 */
bool ind_payload_may_give(struct ind_slice name, const char **near);

#endif
