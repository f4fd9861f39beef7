/* collect/intake.h: from the bytes of a message to lines in a batch: header, device, routes, layout. No file
 * is touched.
 *
 * One for each intake thread. */
#ifndef IND_COLLECT_INTAKE_H
#define IND_COLLECT_INTAKE_H

#include "collect/batch.h"

enum { IND_MESSAGE_LIMIT = 65536 };

/* Where messages come from. Everything is borrowed for the call. */
struct ind_origin {
    enum ind_transport transport;
    struct ind_slice listener, sender; /* may be empty */
    const struct ind_device *device;   /* the configured one of the sender, or NULL */
    ind_time received;                 /* IND_TIME_NONE: not known (messages from a file) */
    ind_time now;                      /* settles the year and stands in where nothing else is known */
};

enum ind_line_form { IND_LINES_RAW, IND_LINES_PLAIN, IND_LINES_JSON, IND_LINES_RFC5424 };

struct ind_intake;
struct ind_intake *ind_intake_new(const struct ind_config *config);
void ind_intake_free(struct ind_intake *intake);

/* Reads one message, or one stored line of the given form, and adds a line for each route that takes it.
 * False where the batch has no room for all of them: pass it on and call again, for the same message, with an
 * empty one; it goes on where it stopped. */
bool ind_intake_message(struct ind_intake *intake, enum ind_line_form form, struct ind_slice bytes,
                        const struct ind_origin *origin, struct ind_batch *batch);

/* What is known of a sender, looked up once. */
struct ind_sender {
    struct ind_slice text;
    const struct ind_device *device;
    bool allowed;
};

struct ind_sender ind_intake_sender(struct ind_intake *intake, const struct ind_address *address);

#endif
