/* trial/rehearse.h: messages of files through the rules as collect would take them, and nothing stored: the
 * ledger that it would give, with examples; and through two sets of rules, what they do differently. */
#ifndef IND_TRIAL_REHEARSE_H
#define IND_TRIAL_REHEARSE_H

#include "collect/account/book.h"
#include "collect/account/notes.h"
#include "collect/intake/intake.h"
#include "trial/alerts_trial.h"

struct ind_rehearse_call {
    const struct ind_config *config; /* borrowed */
    const struct ind_config *other;  /* NULL: nothing to compare with */
    const char *const *files;
    size_t file_count;
    enum ind_line_form form;
    ind_time received;       /* IND_TIME_NONE: not known */
    struct ind_slice sender; /* an address, or empty */
    /* From the reading thread. */
    void (*report)(void *context, const char *text);
    void (*progress)(void *context, uint64_t bytes);
    void *context;
};

enum { IND_EXAMPLES = 2, IND_EXAMPLE_TEXT = 480, IND_EXAMPLE_MARKS = 16 };

/* A message, or what was changed in it. Texts are cut at their room, not escaped. */
struct ind_example {
    uint64_t at;                                  /* where it stands in the files: smaller is earlier */
    enum ind_place_in_message in;                 /* of a change */
    struct ind_slice device, name, before, after; /* in `room` */
    struct ind_span marks[IND_EXAMPLE_MARKS];     /* in `after`: what a mask put there */
    size_t mark_count;
    char room[2 * IND_EXAMPLE_TEXT + 256];
};

/* The first ones there are. */
struct ind_examples {
    struct ind_example *list; /* IND_EXAMPLES of them; NULL: none yet */
    size_t count;
};

struct ind_rehearsed_route {
    const struct ind_route *route;
    uint64_t messages, bytes; /* lines, which a message may have in several routes */
    uint64_t cut;             /* of these: too long to be written whole */
    struct ind_examples examples;
};

struct ind_rehearsed_edit {
    const struct ind_edit *edit;
    uint64_t changed, dropped, dropped_bytes;
    struct ind_examples changes, drops;
};

/* Two sets of rules and what they do differently with messages. */
enum ind_difference_kind {
    IND_ONLY_DROPPED_HERE, /* here: by the configuration, there: by the other */
    IND_ONLY_DROPPED_THERE,
    IND_DROPPED_BY_OTHERS, /* by another edit */
    IND_ONLY_ROUTED_HERE,
    IND_ONLY_ROUTED_THERE,
    IND_OTHER_FILES,
    IND_OTHER_LINES, /* the same files, but other text in them */
    IND_DIFFERENCES
};

enum { IND_MOST_DIFFERENCES = 200, IND_DIFFERENCE_TEXT = 240 };

struct ind_difference {
    enum ind_difference_kind kind;
    uint64_t messages;
    char here[IND_DIFFERENCE_TEXT], there[IND_DIFFERENCE_TEXT]; /* what becomes of them; terminated */
    struct ind_examples examples; /* `before` is the line here, `after` the one there */
};

struct ind_rehearsal {
    struct ind_ledger ledger;
    bool adds_up;
    uint64_t internal; /* of those received: internal messages, which tell what edits dropped */
    uint64_t lines, line_bytes;
    uint64_t unmatched; /* no pattern fits; counted where there are patterns */
    struct ind_notes_unfit unmatched_apps;
    struct ind_examples unrouted, unmatched_examples;
    struct ind_rehearsed_route *routes; /* all of the configuration, in its order */
    size_t route_count;
    struct ind_rehearsed_edit *edits;
    size_t edit_count;
    struct ind_difference *differences; /* most messages first */
    size_t difference_count;
    uint64_t different; /* messages */
    struct ind_raised_alerts alerts;
    uint64_t unread_files;
};

/* False where memory is out. Free what is in *rehearsal in any case. */
bool ind_rehearse(const struct ind_rehearse_call *call, struct ind_rehearsal *rehearsal);
void ind_rehearsal_free(struct ind_rehearsal *rehearsal);

/* "only dropped here", …, as a key "only_dropped_here". */
const char *ind_difference_key(enum ind_difference_kind kind);

#endif
