/* collect/account/notes.h: what an intake thread remembers of the messages of each account: from which
 * addresses they came, what names and apps they bear, and the last few themselves, as lines.
 *
 * Somebody who has little to receive remembers every message. Under load a sample is kept, so that the cost
 * is bounded however much comes: IND_NOTES_A_SECOND at most, of which half are only for accounts that have
 * none in the present batch, so that a device that says little is heard beside one that says much. So many
 * accounts are remembered; then the one of a stranger that was looked at longest ago makes room.
 *
 * The intake thread adds, the control thread reads; each for a moment, under a lock. */
#ifndef IND_COLLECT_ACCOUNT_NOTES_H
#define IND_COLLECT_ACCOUNT_NOTES_H

#include "core/base/address.h"
#include "core/base/slice.h"
#include "core/time/steady.h"

enum {
    IND_NOTES = 16384, /* accounts */
    IND_NOTES_A_SECOND = 4000,
    IND_NOTE_NAMES = 4,
    IND_NOTE_APPS = 8,
    IND_NOTE_ADDRESSES = 4,
    IND_NOTE_MESSAGES = 4,
    IND_NOTE_WIDTH = 64,
    IND_NOTE_LINE = 400,
    IND_NOTE_UNFIT = 32
};

/* A name or an app, cut at IND_NOTE_WIDTH; `messages`: of those that were remembered. */
struct ind_note_word {
    uint64_t messages;
    uint8_t length;
    char text[IND_NOTE_WIDTH - 1];
};

/* As the edits left it. */
struct ind_note_message {
    ind_time time; /* by which it is filed */
    struct ind_address from;
    uint8_t transport;        /* enum ind_transport */
    bool dropped;             /* by an edit */
    bool cut;                 /* the line has lost its end */
    uint16_t length;          /* of the line; 0: none */
    char line[IND_NOTE_LINE]; /* of the layout `plain`, without its end */
};

struct ind_note {
    uint32_t account;
    bool configured;   /* it is of a configured device */
    uint64_t messages; /* that were remembered */
    struct ind_address addresses[IND_NOTE_ADDRESSES];
    struct ind_note_word names[IND_NOTE_NAMES], apps[IND_NOTE_APPS];
    struct ind_note_message last[IND_NOTE_MESSAGES];
    unsigned address_count, name_count, app_count, next; /* next: place in `last` of the oldest */
    bool more_addresses, more_names, more_apps;          /* there were others */
};

/* What is to be remembered of a message; borrowed for the call. */
struct ind_notable {
    struct ind_address from; /* 0 bits: this machine */
    struct ind_slice name, app;
    struct ind_slice line; /* layout `plain`, without its end */
    ind_time time;
    uint8_t transport;
    bool dropped;
    bool cut;         /* the line has lost something already */
    bool asked, fits; /* whether patterns were asked, and one of them fits */
    bool configured;  /* its account is of a configured device: see above */
};

struct ind_notes;
/* New; NULL where memory is out. */
struct ind_notes *ind_notes_new(void);
void ind_notes_free(struct ind_notes *notes);

/* Whether a message is to be remembered. `first`: of its account, in this batch. For the intake thread. */
bool ind_notes_wants(struct ind_notes *notes, struct ind_steady now, bool first);
void ind_notes_add(struct ind_notes *notes, uint32_t account, const struct ind_notable *notable);

/* Copies what is known of an account; false where that is nothing. For any thread. */
bool ind_notes_of(struct ind_notes *notes, uint32_t account, struct ind_note *note);
/* The same of the accounts that are remembered, one after another: `place` from 0 on, below IND_NOTES. False
 * where there is none (any more). */
bool ind_notes_at(struct ind_notes *notes, size_t place, struct ind_note *note);

/* Of the messages that are remembered: how many patterns were asked for, which none fits, and the apps with
 * the most of those; where there are more apps than room, the count of one is too large by what the one
 * before had. */
struct ind_notes_unfit {
    uint64_t asked, unfit;
    struct ind_note_word apps[IND_NOTE_UNFIT];
    unsigned app_count;
};
/* Adds so many of an app. */
void ind_notes_count_unfit(struct ind_notes_unfit *unfit, struct ind_slice app, uint64_t messages);
/* Adds those to *sum, which may hold others' already. For any thread. */
void ind_notes_add_unfit(struct ind_notes *notes, struct ind_notes_unfit *sum);

#endif
