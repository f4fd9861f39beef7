/* core/message/header.h: from the bytes of one message to its parts.
 *
 * RFC 5424 section 6 and RFC 3164 section 4.1, and what is really sent in their name. Nothing is copied:
 * every slice points into the bytes given and lives as long as they do. Never fails: what has no usable
 * header is a message of form IND_FORM_BARE, facility user and severity notice (RFC 3164 section 4.3.3),
 * whose text is everything. Where a header breaks off, what was read stays, the rest is text, and `malformed`
 * says why. */
#ifndef IND_CORE_MESSAGE_HEADER_H
#define IND_CORE_MESSAGE_HEADER_H

#include "core/message/device.h"
#include "core/message/message.h"
#include "core/time/zone.h"

/* Reads one message of `length` bytes; LF, CR and NUL at its end are taken off. `reference` (usually when it
 * was received; never IND_TIME_NONE) settles the year of dates without one, `zone` the offset of times that
 * carry none. Fills *message but `received`, `time`, and what is known of the sender. Steps are linear in
 * `length`. */
void ind_header_read(const char *bytes, size_t length, ind_time reference, const struct ind_zone *zone,
                     struct ind_message *message);

/* The same, without the short ways that the commonest forms take there: what those are tried against. */
void ind_header_read_closely(const char *bytes, size_t length, ind_time reference,
                             const struct ind_zone *zone, struct ind_message *message);

/* The PRI value (RFC 5424 section 6.2.1) that ind_header_read gives these bytes as facility and severity,
 * found from the first five. */
unsigned ind_header_pri(const char *bytes, size_t length);

/* What else is known where a message is read. All borrowed. */
struct ind_header_context {
    const struct ind_devices *devices;
    const struct ind_device *of_sender; /* the configured device of the sender; or NULL */
    struct ind_slice sender;            /* its address in text; or empty */
    ind_time reference;                 /* as for ind_header_read */
    const struct ind_zone *zone;        /* of devices that have none of their own */
    char *scratch;                      /* IND_DEVICE_SCRATCH bytes, as for ind_device_resolve */
};

/* Header and device together: reads a message, says whose it is (ind_device_resolve), and takes times without
 * an offset in the zone of that device. */
void ind_header_read_with_device(const struct ind_header_context *context, struct ind_slice bytes,
                                 struct ind_message *message);

#endif
