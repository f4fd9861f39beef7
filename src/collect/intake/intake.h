/* collect/intake/intake.h: from the bytes of a message to lines in a batch: header, device, account, edits,
 * routes, layout. No file is touched.
 *
 * One for each intake thread and each set of rules; the accounts are the thread's, whatever the rules. A
 * message that does not fit into a batch is held until the rest of it does: there is one at most. */
#ifndef IND_COLLECT_INTAKE_INTAKE_H
#define IND_COLLECT_INTAKE_INTAKE_H

#include "collect/account/notes.h"
#include "collect/intake/edit_states.h"
#include "collect/intake/origin.h"
#include "collect/queue/batch.h"
#include "collect/queue/causes.h"
#include "collect/queue/clog.h"
#include "store/disk/mounts.h"

struct ind_intake;
/* New; borrows all of it. `states`: for edits that remember; NULL: they let all messages go on. NULL where
 * memory is out. */
struct ind_intake *ind_intake_new(const struct ind_config *config, struct ind_accounts *accounts,
                                  struct ind_edit_states *states);
void ind_intake_free(struct ind_intake *intake);

/* The store is on several file systems: lines bear the number of theirs, and of senders it is known whether
 * they have sent something for one that is behind. Both are borrowed. */
void ind_intake_divide(struct ind_intake *intake, const struct ind_mounts *mounts,
                       const struct ind_clog *clog);
/* Whether an address has sent something for a file system that was, and is still, behind. */
bool ind_intake_holds(const struct ind_intake *intake, const struct ind_address *address);

/* What messages say is remembered from now on; borrowed. */
void ind_intake_remember(struct ind_intake *intake, struct ind_notes *notes);

/* What concerns alerts goes there from now on; borrowed. */
void ind_intake_alert(struct ind_intake *intake, struct ind_causes *causes);

enum ind_submitted {
    IND_SUBMIT_DONE,
    IND_SUBMIT_FULL /* the batch has no room for all of it: pass it on, and resume with an empty one */
};

/* Reads one message, or one stored line of the given form, and adds a line for each route that takes it. Of a
 * sender that is not allowed it is only counted. Nothing may be pending. `bytes`, and what is borrowed
 * through `origin`, must live until the message is done. */
enum ind_submitted ind_intake_submit(struct ind_intake *intake, enum ind_line_form form,
                                     struct ind_slice bytes, const struct ind_origin *origin,
                                     struct ind_batch *batch);
/* Goes on with the message that is pending, where it stopped. */
enum ind_submitted ind_intake_resume(struct ind_intake *intake, struct ind_batch *batch);

/* Whether a message is held; and whether it is in the tallies of a batch already: some of its lines may be,
 * too. */
bool ind_intake_pending(const struct ind_intake *intake);
bool ind_intake_counted(const struct ind_intake *intake);

/* The bytes of the message that is pending lie elsewhere from now on. It is read again, but edits that
 * remember are not asked again. */
void ind_intake_rebase(struct ind_intake *intake, struct ind_slice bytes, const struct ind_origin *origin);
/* Lets go of a pending message that is not counted yet. */
void ind_intake_withdraw(struct ind_intake *intake);

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

/* The configured device whose name the last message bears without a right to it; or NULL. */
const struct ind_device *ind_intake_claimed(const struct ind_intake *intake);

/* How many accounts its thread has by now. */
uint32_t ind_intake_account_count(const struct ind_intake *intake);

/* The time by which the last message is filed. */
ind_time ind_intake_time(const struct ind_intake *intake);

/* What is known of a sender. Good for the message at hand: until the next call after it. An address of 0 bits
 * is this machine: its local sockets, and ourselves. */
struct ind_sender *ind_intake_sender(struct ind_intake *intake, const struct ind_address *address);
/* The sender of a message that comes soon, and of one that comes after it: what will be looked up is asked
 * for from memory while others are read. Changes nothing. NULL: there is none. */
void ind_intake_expect(const struct ind_intake *intake, const struct ind_address *soon,
                       const struct ind_address *later);
/* The same for messages from files; `text` may be empty and must live as long as the intake. */
struct ind_sender *ind_intake_sender_named(struct ind_intake *intake, struct ind_slice text);

#endif
