/* core/alert/rule.h: what a configuration says of an alert (docs/alerts.md). */
#ifndef IND_CORE_ALERT_RULE_H
#define IND_CORE_ALERT_RULE_H

#include "core/condition/condition.h"
#include "core/line/template.h"

/* When it opens. */
enum ind_alert_kind {
    IND_ALERT_EACH,    /* with a message */
    IND_ALERT_MORE,    /* with the message that makes them more than `number` in `span` */
    IND_ALERT_FEWER,   /* when `span` has passed with fewer than `number` */
    IND_ALERT_NOTHING, /* when `span` has passed without one */
    IND_ALERT_UNUSUAL  /* after an hour whose volume is (core/alert/unusual.h): by whoever knows volumes */
};

/* When it is over, beside by being acknowledged where that is enough. */
enum ind_alert_over {
    IND_OVER_ACKNOWLEDGED,
    IND_OVER_QUIET, /* no cause for `quiet` */
    IND_OVER_WHEN,  /* a message that `over_when` holds for */
    IND_OVER_HEARD  /* there are messages again, or enough of them */
};

enum ind_tell_kind { IND_TELL_MAIL, IND_TELL_POST, IND_TELL_PROGRAM, IND_TELL_TERMINALS, IND_TELL_MESSAGE };

/* Whom it is told. */
struct ind_tell {
    enum ind_tell_kind kind;
    const char *to;   /* the address of a mail, an HTTP address; of terminals: who, by commas; NULL: all */
    const char *zone; /* of the times in it, as it was written; NULL: the collector's */
    bool plain;       /* it may go without encryption */
    char *const *program; /* itself and its arguments, NULL behind the last */
};

enum { IND_MOST_ALERTS = 1024, IND_MOST_TELLS = 16, IND_ALERT_NAME = 64, IND_ALERT_KEY = 200 };

/* Spans in nanoseconds; 0: not given. */
struct ind_alert_rule {
    const char *name;
    const char *when_text; /* as written; NULL: every message */
    ind_condition when;
    enum ind_alert_kind kind;
    uint64_t number;
    int64_t span;
    const struct ind_template *by; /* each value has an alert of its own; NULL: there is one */
    const char *by_text;           /* "device", "field peer, app" */
    enum ind_alert_over over;
    int64_t quiet;
    ind_condition over_when;
    const char *over_text;
    int64_t remind;         /* while nobody has acknowledged it */
    int64_t join;           /* what comes so soon after it was over is the same once more */
    const char *not_during; /* a condition on time and day; NULL: none */
    const struct ind_tell *tells;
    size_t tell_count;
};

#endif
