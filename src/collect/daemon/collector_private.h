/* collect/daemon/collector_private.h: a collector put together.
 *
 *     door ─► receivers (or those who take files apart) ─► rings ─► writer ─► housekeeping
 *
 * and the control thread, which is the one that called ind_collect: signals, the control socket, reloads. It
 * gives orders to the others, who carry them out when they are between two messages, and wake it when they
 * are through. Nobody waits for the control thread.
 *
 * Each thread has a structure of its own with what it needs; this one is the control thread's. */
#ifndef IND_COLLECT_DAEMON_COLLECTOR_PRIVATE_H
#define IND_COLLECT_DAEMON_COLLECTOR_PRIVATE_H

#include "collect/account/notes.h"
#include "collect/alert/desk.h"
#include "collect/control/control.h"
#include "collect/control/history.h"
#include "collect/control/room.h"
#include "collect/daemon/collector.h"
#include "collect/daemon/health.h"
#include "collect/input/door.h"
#include "collect/output/housekeeping.h"
#include "collect/output/writer.h"
#include "collect/runtime/budget.h"
#include "collect/taking/taker.h"

#include <string.h>

/* One configuration with all that was made from it. */
struct ind_rules {
    struct ind_loaded loaded; /* empty: the configuration is borrowed */
    const struct ind_config *config;
    struct ind_plan *plan; /* NULL for the first rules: the store's own */
    struct ind_listener_set listeners;
    int serve; /* a socket under serve: that was opened for these rules; -1: none */
    bool serves_as_before;
    struct ind_receiver_rules
        receivers[IND_MOST_INTAKES]; /* what each receiver, or intake of files, has of them */
};

/* How far a reload is. */
struct ind_reload {
    struct ind_rules *before; /* the rules that are being replaced; NULL: none is under way */
    bool in_force;            /* the new ones are; `before` may still be in use by housekeeping */
    bool quietly;             /* nobody has asked for it: a listener was paused, or taken up again */
    bool again;               /* asked for while one was under way */
};

struct ind_collector {
    const struct ind_collect_settings *settings;
    ind_time began, rules_since; /* when the configuration of the present rules was read */
    unsigned intakes;
    struct ind_identity identity;
    struct ind_budget budget; /* of descriptors */

    struct ind_lifecycle lifecycle;
    struct ind_reporter reporter;
    struct ind_control *control;
    struct ind_listeners listeners;
    struct ind_rules *rules; /* the present ones */
    struct ind_reload reload;
    struct ind_health health;
    struct ind_steady ends_told; /* what certificates of the present rules end soon: once a day */

    /* What the threads share, each part saying how. */
    struct ind_accounts *accounts[IND_MOST_INTAKES];
    struct ind_causes *causes[IND_MOST_INTAKES]; /* of alerts; NULL: messages come from files */
    struct ind_notes *notes[IND_MOST_INTAKES];   /* NULL: messages come from files */
    struct ind_rings *rings;
    struct ind_slabs *slabs; /* NULL: messages come from files */
    struct ind_tap *tap;
    struct ind_edit_states *states; /* NULL as long as no edit remembers anything */

    struct ind_receivers receivers;
    struct ind_door *door; /* NULL: messages come from files */
    struct ind_writer writer;
    struct ind_lanes lanes;          /* of a divided store; otherwise none */
    struct ind_clog clog;            /* who of them is behind */
    struct ind_writer *lane_writers; /* as many; NULL: none */
    struct ind_housekeeping housekeeping;
    struct ind_store *store;
    struct ind_taker *takers[IND_MOST_LISTENERS]; /* of message systems; NULL: none */
    struct ind_reporting *reporting;              /* NULL: there are no reports */
    struct ind_day_book *days;                    /* NULL: messages come from files, or memory is out */
    struct ind_desk *desk;                        /* of alerts; NULL: there are none */
    struct ind_spawner *alert_spawner;            /* for it alone */
    char host[256];
    struct ind_spawner *spawner; /* NULL: there are no programs to be started */

    struct ind_ledger_snapshot *snapshots, *other_snapshots; /* one for each intake, while they are taken */
    struct ind_marker *snapshot_markers;
    bool snapshots_asked;
    struct ind_history history;
    struct ind_device_rates *device_rates;
    struct ind_room room;
    struct ind_history_sample latest; /* as far as the last snapshot knows */
    bool paused[IND_LISTENER_NAMES];  /* listeners by their number: closed, or will be in a moment */
    struct ind_steady pause_due[IND_LISTENER_NAMES]; /* when those that are paused are closed */
    struct ind_steady pause_again;                   /* after that could not be done: not before */
    struct ind_roll_call *roll;
    struct ind_steady roll_called; /* when a snapshot was last taken for it */

    /* Messages from files: where reports of edits go; and files that could not be read, counted by their
     * thread. */
    struct ind_file_source *file_source;
    uint64_t unread_files;
};

/* ---- reporting.c: reports that are made by themselves, as long as there are any ---- */

void ind_reports_follow(struct ind_collector *collector);

/* ---- days.c: what became of messages, by days ---- */

void ind_days_begin(struct ind_collector *collector);
/* What the snapshots of all receivers say by now. */
void ind_days_note(struct ind_collector *collector, const struct ind_ledger_snapshot *snapshots);
/* What there was at the end is saved. */
void ind_days_end(struct ind_collector *collector, const struct ind_collect_result *result);

static inline bool ind_is_from_files(const struct ind_collector *collector)
{
    return collector->settings->file_count > 0;
}

/* Either may be NULL. */
static inline bool ind_are_same_texts(const char *one, const char *other)
{
    return one && other ? strcmp(one, other) == 0 : one == other;
}

/* ---- rules.c ---- */

/* Makes rules ready to be used: sockets opened, intakes and, once there is a store, its plan made. Touches
 * nothing that runs. `loaded`, which holds `config`, is taken over, unless NULL. NULL with `reason` filled
 * in. */
struct ind_rules *ind_rules_prepare(struct ind_collector *collector, struct ind_loaded *loaded,
                                    const struct ind_config *config, char *reason, size_t room);
/* Serves at the socket of these rules from now on, where they have one. */
void ind_rules_serve(struct ind_collector *collector, struct ind_rules *rules);
void ind_rules_free(struct ind_rules *rules);

/* ---- divide.c ---- */

/* The store is open: where it is divided, a lane and a writer for each file system, before there are threads.
 * False where memory is out. */
bool ind_collector_divide(struct ind_collector *collector);
/* The same for intakes. */
void ind_collector_divide_intakes(struct ind_collector *collector, struct ind_rules *rules);
void ind_collector_end_lanes(struct ind_collector *collector);
/* The end of lines that went into a lane. `collector` as context; any thread. */
void ind_collector_settle_aside(void *collector, uint32_t owner, uint32_t lines, bool written);

/* Rules that all writers are to adopt have been handed out; and whether they have adopted them. */
void ind_collector_await_writers(struct ind_collector *collector);
bool ind_collector_writers_are_behind(const struct ind_collector *collector);
/* True once all rotations that were asked for are done since the last call: how many files. */
bool ind_collector_rotation_done(struct ind_collector *collector, size_t *rotated, size_t *failed);

/* ---- doubts.c ---- */

/* Warnings of a configuration, as messages of our own: the first few, and how many there are. NULL: none. */
void ind_tell_doubts(struct ind_reporter *reporter, const struct ind_diagnostics *diagnostics);

/* ---- reload.c ---- */

/* Reads the configuration again, and hands its rules out, unless one is under way: then once more after it.
 */
void ind_reload_begin(struct ind_collector *collector);
/* Looks how far it is, and answers when the new rules are in force. */
void ind_reload_look(struct ind_collector *collector);

/* Hands rules out that were prepared. `quietly`: it is no reload that anybody asked for. */
void ind_reload_commit(struct ind_collector *collector, struct ind_rules *rules, bool quietly);

/* ---- alerting.c ---- */

/* Where the present rules have alerts, or there were some: the desk goes by them. False where memory is out.
 */
bool ind_alerts_follow(struct ind_collector *collector);
/* What is asked of alerts: the code of an answer over HTTP, with its text. */
int ind_alerts_order(struct ind_collector *collector, enum ind_alert_order order,
                     const struct ind_alert_query *query, char *text, size_t room);

/* ---- pause.c ---- */

/* Pauses listeners, or takes them up again: those named, or all. Returns the code of an answer over HTTP,
 * with its text (of 200: JSON). `after`: nanoseconds until they close. */
int ind_pause(struct ind_collector *collector, const char *const *names, size_t count, int64_t after,
              char *text, size_t room);
int ind_resume(struct ind_collector *collector, const char *const *names, size_t count, char *text,
               size_t room);
/* Closes those that are due. */
void ind_pause_look(struct ind_collector *collector);

/* ---- takers.c ---- */

/* Takes from the message systems that the present rules name, and from no others; those that were taken from
 * in another way end first: to be called from time to time. */
void ind_takers_look(struct ind_collector *collector);
/* Fills a list with room for IND_MOST_LISTENERS; returns how many there are. */
size_t ind_takers_count(const struct ind_collector *collector, struct ind_taker_count *list);
/* Waits until all have seen what they have taken through. */
void ind_takers_end(struct ind_collector *collector);

/* ---- actions.c ---- */

/* What the control socket can ask for. */
struct ind_control_actions ind_collector_actions(struct ind_collector *collector);

/* ---- from_files.c ---- */

/* The thread that reads files. `collector` as argument; returns NULL. */
void *ind_read_files(void *collector);

/* engine.c: the identity in version 3 of SNMP, where rules have users of it, once the state is this process's
 * alone and before a receiver has these rules. */
void ind_engine_begin(struct ind_collector *collector, const struct ind_config *config);

#endif
