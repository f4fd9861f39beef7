/* collect/intake/origin.h: where a message comes from, as whoever reads it must know. */
#ifndef IND_COLLECT_INTAKE_ORIGIN_H
#define IND_COLLECT_INTAKE_ORIGIN_H

#include "core/message/device.h"
#include "core/time/steady.h"

/* What is known of a sender, looked up once. */
struct ind_sender {
    struct ind_slice text;           /* its address; empty: this machine, or not known */
    const struct ind_device *device; /* the configured one, or NULL */
    bool allowed;
    /* Of the intake that looked it up: the account of its device, where it speaks for itself, and the
     * listener that it is of; UINT32_MAX: not known yet. */
    uint16_t listener;
    uint32_t account;
    uint8_t behind; /* the file system, + 1, that was behind when the last message came that goes there; 0:
                       none */
};

/* Everything is borrowed for the call. */
struct ind_origin {
    enum ind_transport transport;
    uint16_t number;              /* of the listener, for the ledger */
    bool cut;                     /* the message lost its end before it came here */
    bool refused;                 /* it is no trap that is accepted: only to be counted */
    bool waits;                   /* its sender is held back rather than that it is lost */
    struct ind_slice listener;    /* may be empty */
    struct ind_slice certificate; /* the name in the one that the sender has shown; may be empty */
    struct ind_sender *sender;    /* never NULL */
    ind_time received;            /* IND_TIME_NONE: not known (messages from a file) */
    ind_time now;                 /* settles the year and stands in where nothing else is known */
    struct ind_steady moment; /* for what edits remember; not set (messages from a file): by their own time */
};

/* What settles the year of dates that have none. */
static inline ind_time ind_origin_reference(const struct ind_origin *origin)
{
    return origin->received != IND_TIME_NONE ? origin->received : origin->now;
}

/* IND_LINES_STORED_RAW: of the layout `raw`, whose escapes are undone. */
enum ind_line_form {
    IND_LINES_RAW,
    IND_LINES_PLAIN,
    IND_LINES_JSON,
    IND_LINES_RFC5424,
    IND_LINES_STORED_RAW
};

#endif
