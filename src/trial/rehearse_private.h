/* trial/rehearse_private.h: shared by the files of rehearse, for them only. */
#ifndef IND_TRIAL_REHEARSE_PRIVATE_H
#define IND_TRIAL_REHEARSE_PRIVATE_H

#include "collect/intake/file_source.h"
#include "collect/intake/viewer.h"
#include "trial/rehearse.h"

/* What became of the message at hand under one set of rules. */
struct ind_outcome {
    const struct ind_edit *dropped;
    const uint32_t *taken, *changed;
    size_t taken_count, changed_count;
    uint64_t paths, lines; /* digests of where its lines go, and of those with their text */
    const struct ind_message *message;
};

/* One set of rules on one thread. */
struct ind_side {
    const struct ind_config *config;
    struct ind_accounts *accounts;
    struct ind_edit_states *states; /* shared by the threads; NULL: none */
    struct ind_intake *intake;
    struct ind_viewer *viewer; /* NULL: not made yet */
    struct ind_sender sender;  /* of the lines, for the viewer */
    struct ind_book *book;
    struct ind_file_source source;
    uint64_t settled[IND_ENDS]; /* messages of one line, all accounts together */
    struct ind_outcome outcome;
    struct ind_path_clock clock;
    struct ind_line_clock line_clock;
};

struct ind_rehearser {
    const struct ind_rehearse_call *call;
    struct ind_side side[2]; /* [1]: the other rules, where there are any */
    ind_time now;
    uint64_t at; /* the place of the line at hand */
    struct ind_slice line;
    struct ind_rehearsal part; /* of this thread */
    char *room[2];             /* for lines */
    struct ind_masker masker;  /* for what is shown */
    bool out_of_memory;
    struct ind_alert_trial *alerts;   /* NULL: the rules have none */
    struct ind_answers alert_answers; /* for those of the rules that wait for messages */
};

/* For a path or a call of a program, and a line behind it. */
enum { IND_REHEARSE_ROOM = IND_LINE_MOST + (64 << 10) };

/* ---- examples.c ---- */

/* Whether the examples still want one. */
static inline bool ind_examples_want(const struct ind_examples *examples)
{
    return examples->count < IND_EXAMPLES;
}
/* The next one, empty; NULL where memory is out. */
struct ind_example *ind_examples_add(struct ind_examples *examples, uint64_t at);
/* A copy of the text in the example's room, cut where it is too long. */
struct ind_slice ind_example_keep(struct ind_example *example, struct ind_slice text, size_t most);
/* Takes over those that stand earlier; the others are freed. */
void ind_examples_merge(struct ind_examples *examples, struct ind_examples *more);
void ind_examples_free(struct ind_examples *examples);

/* ---- against.c ---- */

/* Notes where the message's lines go, and what is in them. */
void ind_outcome_note(struct ind_side *side, char *room, const struct ind_decided *decided);
/* Compares the two outcomes of the line at hand. */
void ind_rehearser_compare(struct ind_rehearser *rehearser);
void ind_differences_merge(struct ind_rehearsal *rehearsal, struct ind_rehearsal *part);
void ind_differences_sort(struct ind_rehearsal *rehearsal);

/* As the edits of the side leave the line at hand, dropped or not; in the layout plain, without its end. */
struct ind_slice ind_rehearser_view(struct ind_rehearser *rehearser, unsigned side);

#endif
