/* trial/explain.h: how a message is parsed, and why, step by step: header, device, edits, payload,
 * conditions, routes. The same core code as collect, on the same configuration; nothing is stored. */
#ifndef IND_TRIAL_EXPLAIN_H
#define IND_TRIAL_EXPLAIN_H

#include "collect/intake/alerting.h"

/* A part of the message's bytes: "PRI", "timestamp", "host", … */
struct ind_part {
    const char *name;
    size_t offset, length;
};

/* How it is known whose message it is. */
enum ind_whose {
    IND_WHOSE_SENDER, /* the sender is configured */
    IND_WHOSE_HOST,   /* the host it names is, and a relay or a file may say so */
    IND_WHOSE_ORIGIN, /* the address in its structured data `origin` is */
    IND_WHOSE_CLAIM,  /* nobody is: the host it names */
    IND_WHOSE_ADDRESS /* nothing but the sender's address is known, or not even that */
};

enum { IND_REASONS = 8, IND_PARTS = 12 };

struct ind_condition_verdict {
    const char *name;
    bool holds;
    struct ind_reason reasons[IND_REASONS];
    size_t reason_count;
};

enum ind_taken {
    IND_TAKEN,
    IND_NOT_TAKEN,  /* its condition does not hold */
    IND_NOT_ASKED,  /* a route above is `last` and took it */
    IND_NOT_NEEDED, /* it is `otherwise`, and another route took it */
    IND_DROPPED     /* an edit dropped the message */
};

enum ind_acts {
    IND_ACTS_NOT,        /* its condition does not hold */
    IND_ACTS,            /* it changed something, or dropped the message */
    IND_ACTS_ON_NOTHING, /* its condition holds, but there is nothing for it to change */
    IND_ACTS_BY_OTHERS,  /* messages before decide */
    IND_ACTS_TOO_LATE    /* an edit above dropped the message */
};

enum { IND_EXPLAINED_CHANGES = 8 };

/* Texts are cut and terminated. What a mask hid is in none of them. */
struct ind_explained_change {
    enum ind_place_in_message in;
    size_t places; /* that a mask hid */
    char name[64], before[160], after[160];
};

struct ind_edit_verdict {
    const struct ind_edit *edit;
    enum ind_acts acts;
    struct ind_explained_change changes[IND_EXPLAINED_CHANGES];
    size_t change_count;
    struct ind_reason reasons[IND_REASONS];
    size_t reason_count;
};

struct ind_route_verdict {
    const struct ind_route *route;
    enum ind_taken taken;
    const struct ind_route *above; /* IND_NOT_ASKED, IND_NOT_NEEDED: the route that took it */
    char path[IND_PATH + 1]; /* IND_TAKEN: the file, below the store, or what else takes it; terminated */
    struct ind_reason reasons[IND_REASONS];
    size_t reason_count;
};

struct ind_alert_verdict {
    const struct ind_alert_rule *rule;
    bool ends;               /* it is about the condition under `over` */
    bool concerns;           /* the message counts for it, or ends it */
    char key[IND_ALERT_KEY]; /* the one under which it does; terminated */
    struct ind_reason reasons[IND_REASONS];
    size_t reason_count;
};

/* The message as the edits left it: what masks hide is shown nowhere. Borrowed from the explainer, until its
 * next message. */
struct ind_explanation {
    struct ind_message message; /* with its payload */
    const char *form_because;
    const char *malformed_because; /* NULL where it is not malformed */
    enum ind_whose whose;
    bool allowed; /* its sender is under allow: */
    struct ind_part parts[IND_PARTS];
    size_t part_count;              /* in the order in which they stand */
    const struct ind_edit *dropped; /* by which edit; or NULL */
    bool hidden;                    /* a mask hid something */
    struct ind_edit_verdict *edits;
    size_t edit_count;
    struct ind_condition_verdict *conditions;
    size_t condition_count;
    struct ind_route_verdict *routes;
    struct ind_alert_verdict *alerts; /* none where it was dropped, or refused */
    size_t alert_count;
    size_t route_count, taken, filed; /* filed: of those that took it, the ones with a file */
};

struct ind_explainer;

/* New; borrows the configuration. NULL where memory is out. */
struct ind_explainer *ind_explainer_new(const struct ind_config *config);
void ind_explainer_free(struct ind_explainer *explainer);

/* What a collector remembers of a message: a line of the layout `plain`, as the edits left it, and what such
 * a line does not hold. Everything is borrowed. */
struct ind_remembered {
    struct ind_slice line, listener;
    struct ind_address sender; /* 0 bits: this machine */
    enum ind_transport transport;
};
/* Explains one of those: the edits are applied once more, since a line holds no labels. For routes that do
 * not take it the reasons are all tests that fail, not only the first, and `path` is where it would go.
 * `line` and `listener` must live as long as the result. */
const struct ind_explanation *ind_explain_remembered(struct ind_explainer *explainer,
                                                     const struct ind_remembered *remembered, ind_time now);

/* Explains one message as if `sender` had sent it (0 bits: as if it came from a file). `received` may be
 * IND_TIME_NONE: not known; then `now` settles the year. `bytes` must live as long as the result. */
/* Where messages come from that are explained from now on; not said: over UDP where they have a sender, else
 * from a file. */
void ind_explain_transport(struct ind_explainer *explainer, enum ind_transport transport);

const struct ind_explanation *ind_explain(struct ind_explainer *explainer, struct ind_slice bytes,
                                          const struct ind_address *sender, ind_time received, ind_time now);

#endif
