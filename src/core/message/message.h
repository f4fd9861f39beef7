/* core/message/message.h: one message, parsed.
 *
 * Names follow RFC 5424 section 6. Every slice is borrowed: from the bytes received, from the configuration,
 * or from scratch memory of whoever filled it in. A field that the message does not have is empty. */
#ifndef IND_CORE_MESSAGE_MESSAGE_H
#define IND_CORE_MESSAGE_MESSAGE_H

#include "core/time/civil.h"

struct ind_device;
struct ind_payload;

enum ind_form { IND_FORM_BARE, IND_FORM_RFC3164, IND_FORM_RFC5424, IND_FORMS };

/* Why a header is not as its standard says; the first reason met counts. */
enum ind_malformed {
    IND_MALFORMED_NOT,
    IND_MALFORMED_PRI,          /* out of range, leading zeros, not closed */
    IND_MALFORMED_TIME,         /* not readable */
    IND_MALFORMED_TIME_FORM,    /* readable, but not as RFC 5424 writes it */
    IND_MALFORMED_HEADER_END,   /* ends before its last field */
    IND_MALFORMED_FIELD_LENGTH, /* longer than the standard allows; kept whole */
    IND_MALFORMED_STRUCTURED_DATA,
    IND_MALFORMED_CUT, /* the message was over the size limit */
    IND_MALFORMED_KINDS
};

/* What a device says of its clock: a mark before the time, or an uptime in its place. */
enum ind_clock_mark {
    IND_MARK_NONE,
    IND_MARK_NOT_SET,          /* '*': never set */
    IND_MARK_NOT_SYNCHRONISED, /* '.': set, but not in step with its source now */
    IND_MARK_UPTIME            /* no time of day at all, only how long it has run */
};

enum ind_transport {
    IND_TRANSPORT_FILE,
    IND_TRANSPORT_UDP,
    IND_TRANSPORT_TCP,
    IND_TRANSPORT_TLS,
    IND_TRANSPORT_UNIX,
    IND_TRANSPORT_INTERNAL, /* the collector itself */
    IND_TRANSPORT_NATS,     /* stored lines, from a message system */
    IND_TRANSPORT_TRAP,     /* made of a trap of SNMP */
    IND_TRANSPORT_UNKNOWN
};

/* What edits gave to a message, or took from it, beyond what it says itself. */
enum ind_added { IND_ADDED_LABEL, IND_ADDED_FIELD, IND_FORGOTTEN_FIELD };

struct ind_addition {
    struct ind_slice name, value;
    enum ind_added kind;
};

/* For all edits of one configuration, by their names. */
enum { IND_MOST_ADDITIONS = 128 };

struct ind_additions {
    size_t count;
    struct ind_addition list[IND_MOST_ADDITIONS]; /* each name once, among labels and among fields */
};

struct ind_message {
    ind_time received; /* at the collector, or IND_TIME_NONE */
    ind_time sent;     /* as the device claims, or IND_TIME_NONE */
    ind_time time;     /* by which it is filed, rotated, searched */
    uint8_t facility, severity;
    uint8_t form;      /* enum ind_form */
    uint8_t malformed; /* enum ind_malformed */
    uint8_t transport; /* enum ind_transport */
    uint8_t mark;      /* enum ind_clock_mark */
    bool pri_given;
    bool line_cut;             /* read from a stored line that was too long to be written whole */
    struct ind_slice original; /* as received, without the line end */
    struct ind_slice host, app, procid, msgid;
    struct ind_slice data; /* structured data in RFC 5424's form */
    struct ind_slice text;
    struct ind_slice timestamp;            /* as written; the one that `sent` comes from */
    struct ind_slice sequence;             /* the number that the device gave its message, in digits */
    struct ind_slice location;             /* the part of the device that speaks: "SH/0/SL1/CPU0" */
    struct ind_slice sender;               /* the address in text */
    struct ind_slice device;               /* never empty once ind_device_resolve has run */
    struct ind_slice listener;             /* as configured: "udp 0.0.0.0:514" */
    struct ind_slice certificate;          /* the name in the one that the sender has shown (RFC 5425) */
    const struct ind_device *configured;   /* the configured device, or NULL */
    const struct ind_device *claimed;      /* whose name it bears without a right to it; or NULL */
    const struct ind_payload *payload;     /* its fields, where somebody asked for them; or NULL */
    const struct ind_additions *additions; /* or NULL */
};

/* "rfc5424", "rfc3164", "bare", and short English for the reasons ("structured data"); never freed. */
struct ind_slice ind_form_name(unsigned form);
struct ind_slice ind_malformed_name(unsigned reason);
struct ind_slice ind_transport_name(unsigned transport);
unsigned
ind_transport_read(struct ind_slice name); /* IND_TRANSPORT_UNKNOWN where there is none of that name */

/* Whether a time with that mark tells nothing: enum ind_clock_mark. */
static inline bool ind_mark_is_unset(unsigned mark)
{
    return mark == IND_MARK_NOT_SET || mark == IND_MARK_UPTIME;
}

#endif
