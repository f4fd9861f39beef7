/* core/edit/edit_state.h: what edits that remember have seen: how many came from a device, which text came
 * when.
 *
 * A table of fixed size, one entry for each edit and device (and text, for `repeat`). Where it is full, the
 * entry that was asked for least recently goes, and is counted. It belongs to whoever calls; it knows no
 * clock: moments are of a steady one, or, of messages from files, their own times (ind_edit_state_moment). */
#ifndef IND_CORE_EDIT_EDIT_STATE_H
#define IND_CORE_EDIT_EDIT_STATE_H

#include "core/edit/edit.h"
#include "core/time/steady.h"

/* The moment of a message that tells its time itself. */
static inline struct ind_steady ind_edit_state_moment(ind_time time)
{
    return (struct ind_steady){time};
}

enum { IND_EDIT_REPORT_TEXT = 240, IND_EDIT_REPORT_NAME = 64 };

/* What is to be reported of messages that were dropped. */
struct ind_edit_report {
    enum ind_edit_kind kind; /* IND_EDIT_REPEAT or IND_EDIT_LIMIT */
    uint64_t count;          /* that were dropped since it was reported last */
    uint64_t number;         /* of the limit */
    ind_time span;
    char edit[IND_EDIT_REPORT_NAME], device[IND_EDIT_REPORT_NAME],
        text[IND_EDIT_REPORT_TEXT]; /* terminated, cut */
};

struct ind_edit_state;

/* New, for so many entries. NULL where memory is out. */
struct ind_edit_state *ind_edit_state_new(uint32_t entries);
void ind_edit_state_free(struct ind_edit_state *state);

/* What tells entries apart. */
uint64_t ind_edit_state_key(const struct ind_edit *edit, const struct ind_message *message);

/* Whether a message may go on at `now`, which is remembered. *reported: there is a report that is due by it,
 * filled in. `key`: of the edit and the message. */
bool ind_edit_state_ask(struct ind_edit_state *state, uint64_t key, const struct ind_edit *edit,
                        struct ind_steady now, struct ind_edit_report *report, bool *reported);

/* How the message that began an entry came out at the end of all edits: reports name the device and quote the
 * text as they were filed, never as they came. Does nothing where the entry has that, or is gone. */
void ind_edit_state_settle(struct ind_edit_state *state, uint64_t key, struct ind_slice device,
                           struct ind_slice text);

/* The next reports that are due at `now` (`all`: or would be later), from entry *from on, which is set behind
 * it. False where there are none left. */
bool ind_edit_state_due(struct ind_edit_state *state, struct ind_steady now, bool all, uint32_t *from,
                        struct ind_edit_report *report);

/* Entries in use, and how many had to go so far. */
uint32_t ind_edit_state_count(const struct ind_edit_state *state);
uint64_t ind_edit_state_evicted(const struct ind_edit_state *state);

/* As one sentence: "hq-dhcp sent 3,400 messages more than 200 a second; …". */
void ind_edit_report_write(const struct ind_edit_report *report, struct ind_buffer *buffer);

#endif
