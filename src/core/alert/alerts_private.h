/* core/alert/alerts_private.h: what the files of core/alert/ share. */
#ifndef IND_CORE_ALERT_ALERTS_PRIVATE_H
#define IND_CORE_ALERT_ALERTS_PRIVATE_H

#include "core/alert/alert_window.h"
#include "core/alert/alerts.h"

#include <uthash.h>

struct ind_watch;

/* Of one key. In one of two lists of its watch: `open`, or `idle`, which has those heard last at its end. */
struct ind_alert_entry {
    struct ind_alert alert;
    struct ind_watch *watch;
    UT_hash_handle hh;
    struct ind_alert_entry *prev, *next;
    struct ind_steady heard; /* when a cause came last; before there was one: since when it is watched */
    struct ind_steady begun; /* since when it is watched without a gap */
    struct ind_steady told;  /* when it opened, or was last reminded of */
    struct ind_steady over;  /* when it was; until `join` has passed */
    struct ind_alert_window window;
    uint64_t lines; /* that were offered */
    size_t bytes;   /* that it counts as */
    bool silenced;  /* its silence was told: there is none again before it is heard */
    bool changed;
    bool others; /* it is that of IND_ALERT_OTHERS */
    char key[];
};

/* A rule, and what belongs to it. */
struct ind_watch {
    struct ind_alert_rule rule;
    char *name, *by;
    struct ind_alert_entry *table, *open, *idle;
    size_t open_count, idle_count;
    struct ind_steady looked; /* for what has too few */
    struct ind_steady swept;  /* of what can be joined no more */
    bool wanted;
    UT_hash_handle hh;
};

struct ind_alerts {
    struct ind_alerts_settings settings;
    struct ind_watch *watches;
    size_t bytes, open; /* open: of all rules */
    struct ind_alerts_counts counts;
};

static inline bool ind_watch_waits(const struct ind_watch *watch)
{
    return watch->rule.kind == IND_ALERT_NOTHING || watch->rule.kind == IND_ALERT_FEWER;
}

/* ---- alert_entry.c ---- */

struct ind_watch *ind_watch_find(const struct ind_alerts *alerts, struct ind_slice name);
struct ind_alert_entry *ind_alert_entry_find(const struct ind_watch *watch, struct ind_slice key);
/* Gives up idle ones until all have room: before a new one is asked for. */
void ind_alerts_make_room(struct ind_alerts *alerts);
/* The one of that key, or a new one, idle. NULL where memory is out. */
struct ind_alert_entry *ind_alert_entry_for(struct ind_alerts *alerts, struct ind_watch *watch,
                                            struct ind_slice key, struct ind_clocks now);
void ind_alert_entry_free(struct ind_alerts *alerts, struct ind_alert_entry *entry);
/* Puts it at the end of the list that goes with its state. */
void ind_alert_entry_move(struct ind_alerts *alerts, struct ind_alert_entry *entry,
                          enum ind_alert_state state);
/* Keeps a line of it, of which there are as many as IND_ALERT_LINES. */
void ind_alert_entry_add_line(struct ind_alerts *alerts, struct ind_alert_entry *entry,
                              struct ind_slice line);
void ind_alert_entry_drop_lines(struct ind_alerts *alerts, struct ind_alert_entry *entry);
/* A copy of a text, NULL of nothing. */
char *ind_alert_text(struct ind_slice text);

/* ---- alert_life.c ---- */

/* It has changed, and what happened is told. */
void ind_alert_tell(struct ind_alerts *alerts, enum ind_alert_event event, struct ind_alert_entry *entry,
                    struct ind_clocks now);
void ind_alert_open(struct ind_alerts *alerts, struct ind_alert_entry *entry, struct ind_clocks now);
void ind_alert_open_or_join(struct ind_alerts *alerts, struct ind_alert_entry *entry,
                            const struct ind_alert_cause *cause, struct ind_clocks now);
void ind_alert_end(struct ind_alerts *alerts, struct ind_alert_entry *entry, struct ind_clocks now);
/* One that can be joined no more begins anew. */
void ind_alert_end_joining(struct ind_alerts *alerts, struct ind_alert_entry *entry, struct ind_steady now);

#endif
