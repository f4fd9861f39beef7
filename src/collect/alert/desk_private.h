/* collect/alert/desk_private.h: what the files of the desk share. */
#ifndef IND_COLLECT_ALERT_DESK_PRIVATE_H
#define IND_COLLECT_ALERT_DESK_PRIVATE_H

#include "collect/alert/desk.h"
#include "collect/alert/way.h"
#include "store/alert/alert_file.h"

enum { IND_DESK_HELD = 1000, IND_DESK_OPS = 50000, IND_DESK_MUTES = 256 };

/* What the desk needs of a rule beyond what the core keeps. */
struct ind_desk_rule {
    char *name, *reason, *when;
    bool unusual, by_device; /* unusual: it goes by the volumes of the catalog */
    struct ind_tell *tells;  /* copies */
    size_t tell_count;
    struct ind_conditions *set; /* of `not_during`; NULL: there is none */
    ind_condition not_during;
    struct ind_answers answers;
};

struct ind_desk_rules {
    struct ind_desk_rule *list; /* by name */
    size_t count;
    struct ind_mail mail;  /* texts are its own */
    struct ind_zone *zone; /* of the collector; NULL: UTC */
    char *zone_text;
};

/* What is to be written to the file. */
enum ind_desk_op_kind {
    IND_OP_SAVE,
    IND_OP_WATCH,
    IND_OP_COUNT,
    IND_OP_NOTICE,
    IND_OP_TOLD,
    IND_OP_DROP,
    IND_OP_MUTE
};
struct ind_desk_op {
    enum ind_desk_op_kind kind;
    struct ind_news *news; /* SAVE, WATCH, COUNT */
    char *way, *who;       /* way: of a mute its key, or NULL; of COUNT the text of the rule's keys */
    struct ind_alert_counted *counted;
    struct ind_notice notice;
    ind_time until;
};

struct ind_desk_ops {
    struct ind_desk_op *list;
    size_t count, room;
    uint64_t lost;
};

struct ind_desk_mute {
    char *name, *key; /* key NULL: all */
    ind_time until;
};

struct ind_desk_held {
    struct ind_news *news;
    uint64_t id; /* of its notice */
};

struct ind_desk {
    struct ind_desk_settings settings;
    pthread_t thread;
    bool running, taken_up, has_begun_couriers;
    atomic_bool stop;

    struct ind_mutex mutex;
    struct ind_alerts *alerts IND_GUARDED_BY(mutex);
    struct ind_desk_rules *next_rules IND_GUARDED_BY(mutex); /* which its thread takes over; NULL: none */
    struct ind_desk_rules *rules; /* replaced by its thread alone, with the mutex; read by it without */
    struct ind_news **events IND_GUARDED_BY(mutex); /* to be told */
    size_t event_count IND_GUARDED_BY(mutex), event_room IND_GUARDED_BY(mutex);
    struct ind_desk_ops asked IND_GUARDED_BY(mutex);
    struct ind_desk_mute mutes[IND_DESK_MUTES] IND_GUARDED_BY(mutex);
    size_t mute_count IND_GUARDED_BY(mutex);
    bool save_now IND_GUARDED_BY(mutex);
    struct ind_desk_count count IND_GUARDED_BY(mutex);

    /* Of the thread; before it is started, of whoever starts it. */
    struct ind_alert_file *file;
    struct ind_desk_ops ops;
    struct ind_steady saved, watched_saved, counted_saved, pruned, file_tried, file_told, missed_told;
    bool told_file_failed;
    char file_reason[300];
    uint64_t missed, missed_at_last, next_notice;
    struct ind_way *ways[IND_DESK_WAYS];
    struct ind_courier *couriers[IND_DESK_WAYS];
    size_t way_count;
    ind_time begun;
    int64_t looked_at; /* the hour whose volumes were looked at last */
    struct ind_steady volumes_tried, volumes_told;
    struct ind_desk_held held[IND_DESK_HELD];
    size_t held_count;
    struct ind_programs *programs;

    struct ind_mutex resting; /* guards the next: whether there is something to do at once */
    struct ind_condition_variable bell;
    bool rung IND_GUARDED_BY(resting);
};

/* ---- desk_rules.c ---- */

/* New; NULL where memory is out. */
struct ind_desk_rules *ind_desk_rules_new(const struct ind_config *config);
void ind_desk_rules_free(struct ind_desk_rules *rules);
struct ind_desk_rule *ind_desk_rule_find(const struct ind_desk_rules *rules, const char *name);
/* Whether it is not to be told at that time, by its rule. */
bool ind_desk_rule_is_silent(struct ind_desk_rule *rule, ind_time now);

/* ---- desk_ops.c ---- */

/* Adds to what is to be written; takes over what is in it. */
void ind_desk_ops_add(struct ind_desk_ops *ops, struct ind_desk_op op);
void ind_desk_ops_free(struct ind_desk_ops *ops);
/* The thread need not rest on; `desk` is one. Any thread. */
void ind_desk_ring(void *desk);
/* Until then, or a tenth of a second. */
void ind_desk_rest(struct ind_desk *desk);

/* ---- desk_file.c ---- */

/* Writes what waits; false where it cannot, and waits on. */
bool ind_desk_write(struct ind_desk *desk, struct ind_clocks now);
/* What has been counted since it was saved last is to be written, 5,000 keys at most; with `all` until
 * nothing is left. Without the mutex. */
void ind_desk_save_counted(struct ind_desk *desk, bool all, struct ind_clocks now);
/* Takes up what is in the file, before there is a thread. */
void ind_desk_take_up(struct ind_desk *desk, struct ind_clocks now);

/* ---- desk_tell.c ---- */

/* Ways of the present rules. `mail_changed`: mails go otherwise from now on. */
void ind_desk_make_ways(struct ind_desk *desk, bool mail_changed);
/* News goes to all ways of its rule, or is held back. */
void ind_desk_tell(struct ind_desk *desk, struct ind_news *news, struct ind_clocks now);
/* What was held back, and is no more. */
void ind_desk_release(struct ind_desk *desk, struct ind_clocks now);
/* A notice that was saved. */
void ind_desk_take_notice(struct ind_desk *desk, const char *way, const struct ind_notice *notice,
                          struct ind_news *news);
/* What has come to its end, and with `begin` what may go now. */
void ind_desk_send(struct ind_desk *desk, bool begin, struct ind_clocks now);
void ind_desk_end_ways(struct ind_desk *desk);

/* ---- desk_unusual.c ---- */

/* Once an hour, ten minutes after its end: volumes that are unusual open alerts, others end them. */
void ind_desk_look_at_volumes(struct ind_desk *desk, struct ind_clocks now);

/* ---- parcels.c ---- */

/* What is under way of a way, as it goes there. */
struct ind_parcel ind_desk_parcel(struct ind_desk *desk, const struct ind_way *way, uint64_t left_out,
                                  struct ind_clocks now);

#endif
