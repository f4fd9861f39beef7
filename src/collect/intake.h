/* collect/intake.h: from the bytes of a message to lines in a batch: header, device, account, routes, layout.
 * No file is touched.
 *
 * One for each intake thread and each set of rules; the accounts are the thread's, whatever the rules. */
#ifndef IND_COLLECT_INTAKE_H
#define IND_COLLECT_INTAKE_H

#include "collect/batch.h"
#include "collect/recalls.h"
#include "core/message/framing.h"

/* Where messages come from. Everything is borrowed for the call. */
struct ind_origin {
    enum ind_transport transport;
    uint16_t number;                 /* of the listener, for the ledger */
    bool cut;                        /* the message lost its end before it came here */
    struct ind_slice listener;       /* may be empty */
    const struct ind_sender *sender; /* see ind_intake_sender; never NULL */
    ind_time received;               /* IND_TIME_NONE: not known (messages from a file) */
    ind_time now;                    /* settles the year and stands in where nothing else is known */
    struct ind_steady moment; /* for what edits remember; not set (messages from a file): by their own time */
};

/* IND_LINES_STORED_RAW: of the layout `raw`, whose escapes are undone. */
enum ind_line_form {
    IND_LINES_RAW,
    IND_LINES_PLAIN,
    IND_LINES_JSON,
    IND_LINES_RFC5424,
    IND_LINES_STORED_RAW
};

struct ind_intake;
/* New; borrows all of it. `recalls`: for edits that remember; NULL: they let all messages go on. NULL where
 * memory is out. */
struct ind_intake *ind_intake_new(const struct ind_config *config, struct ind_accounts *accounts,
                                  struct ind_edit_states *recalls);
void ind_intake_free(struct ind_intake *intake);

/* Reads one message, or one stored line of the given form, and adds a line for each route that takes it.
 * False where the batch has no room for all of them: pass it on and call again, for the same message, with an
 * empty one; it goes on where it stopped. *tallied (kept by the caller between such calls, false at first):
 * the message is in the tallies of a batch. */
bool ind_intake_message(struct ind_intake *intake, enum ind_line_form form, struct ind_slice bytes,
                        const struct ind_origin *origin, struct ind_batch *batch, bool *tallied);

/* What became of a message, for whoever looks on. Borrowed for the call. */
struct ind_decided {
    const struct ind_message *message; /* as the edits left it */
    const struct ind_edit *dropped;    /* by which edit; or NULL */
    const uint32_t *changed;           /* the edits that changed it */
    size_t changed_count;
    const uint32_t *taken; /* the routes that take it */
    size_t taken_count;
    struct ind_answers *answers; /* for this message */
};

struct ind_onlooker {
    /* Called for each message, before its lines are written. */
    void (*decided)(void *context, const struct ind_decided *decided);
    /* Called for each change that an edit makes; or NULL. */
    void (*changed)(void *context, const struct ind_change *change, const struct ind_message *message);
    void *context;
};

/* From now on; *onlooker is copied. */
void ind_intake_look_on(struct ind_intake *intake, const struct ind_onlooker *onlooker);

/* Reads a message and applies all edits but those that remember, past a drop: as it may be shown. Borrowed
 * until the next call. The intake is used for nothing else. */
const struct ind_message *ind_intake_view(struct ind_intake *intake, enum ind_line_form form,
                                          struct ind_slice bytes, const struct ind_origin *origin);

/* The configured device whose name the last message bears without a right to it; or NULL. */
const struct ind_device *ind_intake_claimed(const struct ind_intake *intake);

/* The time by which the last message is filed. */
ind_time ind_intake_time(const struct ind_intake *intake);

/* Reads one message as it was received, whole or cut, and says whose it is: all but the fields of its
 * payload. `scratch` as for ind_device_resolve. */
void ind_intake_read_raw(const struct ind_config *config, struct ind_slice bytes,
                         const struct ind_origin *origin, char scratch[IND_DEVICE_SCRATCH],
                         struct ind_message *message);

/* A message of a sender that is not allowed. False as above. */
bool ind_intake_refuse(struct ind_intake *intake, struct ind_slice bytes, const struct ind_origin *origin,
                       struct ind_batch *batch);

/* What is known of a sender, looked up once. */
struct ind_sender {
    struct ind_slice text;
    const struct ind_device *device; /* the configured one, or NULL */
    bool allowed;
};

/* Borrowed until the next call. An address of 0 bits is this machine: its local sockets, and ourselves. */
const struct ind_sender *ind_intake_sender(struct ind_intake *intake, const struct ind_address *address);
/* The same for messages from files; `text` may be empty and must live as long as the intake. */
const struct ind_sender *ind_intake_sender_named(struct ind_intake *intake, struct ind_slice text);

#endif
