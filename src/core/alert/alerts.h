/* core/alert/alerts.h: alerts by their rules and keys: when they open, go on, and are over.
 *
 * Spans go by a steady clock, what is told by the wall clock: both are handed in. A window of `span` is
 * counted in 30 parts, the present one among them: what is older than the span never counts, what is within
 * its last thirtieth may not. What strangers can make up is bounded: keys have IND_ALERT_KEY bytes and
 * together a limit of memory, beyond which the rule with most of them forgets those that it has not heard for
 * longest; a rule has IND_ALERT_OPEN open ones at most, all have IND_ALERTS_OPEN, and the rest of a
 * rule's together are one more. Of one thread. */
#ifndef IND_CORE_ALERT_ALERTS_H
#define IND_CORE_ALERT_ALERTS_H

#include "core/alert/rule.h"
#include "core/time/steady.h"

enum {
    IND_ALERT_LINES = 5,     /* the first, three between, and the last */
    IND_ALERT_LINE = 400,    /* bytes of each */
    IND_ALERTS_OPEN = 10000, /* of all */
    IND_ALERT_OPEN = 1000,   /* of one rule */
    IND_ALERT_PARTS = 30,    /* of a window */
    IND_ALERT_WHO = 64,      /* bytes of a name */
    IND_ALERT_NOTE = 400     /* and of a note */
};

/* The key under which what is more than IND_ALERT_OPEN comes together. */
#define IND_ALERT_OTHERS "(others)"

enum ind_alert_state { IND_ALERT_WATCHED, IND_ALERT_IS_OPEN, IND_ALERT_ACKNOWLEDGED };

enum ind_alert_event {
    IND_ALERT_OPENED,
    IND_ALERT_REOPENED, /* within `join` of its end: it goes on under its number */
    IND_ALERT_REMINDER,
    IND_ALERT_OVER
};
/* "opened", "reopened", "reminder", "over". */
const char *ind_alert_event_name(enum ind_alert_event event);

/* One of them, as others may read it. */
struct ind_alert {
    const struct ind_alert_rule *rule; /* its name, kind, number, span and what it is told by; no more */
    const char *key;
    enum ind_alert_state state;
    uint64_t number;        /* it has when it opens; 0: it never was */
    ind_time opened, ended; /* IND_TIME_NONE: not */
    ind_time first, last;   /* messages that caused it, or for which it waits; IND_TIME_NONE: none */
    uint64_t count;         /* of them */
    ind_time acknowledged;  /* when, by whom, and what they said; who[0]: '\0': nobody has */
    char who[IND_ALERT_WHO];
    char *note;                   /* NULL: none */
    char *lines[IND_ALERT_LINES]; /* NULL: none; in their order */
};

struct ind_alerts;

struct ind_alerts_settings {
    size_t memory;        /* bytes, for keys and their lines */
    uint64_t next_number; /* of the next that opens */
    /* Something has happened to one, which is good for the call. Nothing of `alerts` may be called. */
    void (*happened)(void *context, enum ind_alert_event event, const struct ind_alert *alert,
                     struct ind_clocks now);
    void *context;
};

/* New; NULL where memory is out. */
struct ind_alerts *ind_alerts_new(const struct ind_alerts_settings *settings);
void ind_alerts_free(struct ind_alerts *alerts);

/* Goes by these rules from now on, which it copies as far as it needs them; alerts stay with the rule of
 * their name; those of a rule that is gone are over. False where memory is out: the rules are as before. */
bool ind_alerts_adopt(struct ind_alerts *alerts, const struct ind_alert_rule *rules, size_t count,
                      struct ind_clocks now);

/* A message, or several of one second, for which a rule's condition holds. */
struct ind_alert_cause {
    struct ind_slice alert, key; /* the rule's name; "" without `by` */
    bool ends;                   /* it is the condition under `over` that holds */
    uint64_t count;
    ind_time time, last;   /* of the first, and of the last */
    struct ind_slice line; /* likewise, as it is to be shown; what is longer than IND_ALERT_LINE is cut */
};
void ind_alerts_hear(struct ind_alerts *alerts, const struct ind_alert_cause *cause, struct ind_clocks now);

/* A key of a rule that waits for messages, which is configured or was heard before: it is watched from now
 * on. `last`: when it was last heard; IND_TIME_NONE: not known. */
void ind_alerts_watch(struct ind_alerts *alerts, struct ind_slice alert, struct ind_slice key, ind_time last,
                      struct ind_clocks now);

/* Time has passed. */
void ind_alerts_tick(struct ind_alerts *alerts, struct ind_clocks now);
/* When it is to be called at the latest, for what has happened until then to be told at its time; never more
 * than an hour ahead. */
struct ind_steady ind_alerts_next(const struct ind_alerts *alerts, struct ind_steady now);

/* Somebody has seen to those open of that rule and key (NULL: all of its keys). Returns how many. */
size_t ind_alerts_acknowledge(struct ind_alerts *alerts, const char *alert, const char *key, const char *who,
                              const char *note, struct ind_clocks now);

/* Takes up what was saved; `alert->rule` is not looked at. One that somebody has acknowledged meanwhile may
 * be over with that. False where there is no such rule, or memory is out. */
bool ind_alerts_restore(struct ind_alerts *alerts, struct ind_slice name, const struct ind_alert *alert,
                        struct ind_clocks now);

/* Calls `visit` for each that is open or acknowledged; `changed`: since the last such call. */
void ind_alerts_visit(struct ind_alerts *alerts, bool changed,
                      void (*visit)(void *context, const struct ind_alert *alert), void *context);
/* The same for keys that rules wait for messages of, and that are not open. */
void ind_alerts_visit_watched(struct ind_alerts *alerts, bool changed,
                              void (*visit)(void *context, const struct ind_alert *alert), void *context);

/* What a rule of `more than` has counted of a key that is not open. */
struct ind_alert_counted {
    int64_t part;                    /* how long each part is, in nanoseconds */
    ind_time newest;                 /* when the newest began, by the wall clock */
    uint32_t parts[IND_ALERT_PARTS]; /* the newest first */
};

typedef void ind_visit_counted(void *context, const struct ind_alert *alert,
                               const struct ind_alert_counted *counted);
/* Calls `visit` for those in which something still counts and that have changed since such a call, `most` at
 * most, those first that were heard first. Returns how many. */
size_t ind_alerts_visit_counted(struct ind_alerts *alerts, size_t most, ind_visit_counted *visit,
                                void *context, struct ind_clocks now);
/* Takes up what was counted, as far as it is still within the span; a part that began within one of the
 * present parts counts as if it had begun with it, never later. `by`: the text of the rule's keys then. False
 * where there is no such rule, its keys or span are others now, the key is open or has counted already, or
 * memory is out. */
bool ind_alerts_restore_counted(struct ind_alerts *alerts, struct ind_slice name, const char *by,
                                const struct ind_alert *alert, const struct ind_alert_counted *counted,
                                struct ind_clocks now);

struct ind_alerts_counts {
    uint64_t open, acknowledged, watched; /* now */
    uint64_t forgotten;                   /* keys for which there was no room */
    uint64_t joined;                      /* that opened as one of IND_ALERT_OTHERS */
    uint64_t out_of_memory;
};
struct ind_alerts_counts ind_alerts_counts(const struct ind_alerts *alerts);

#endif
