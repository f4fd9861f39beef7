/* store/alert/alert_file.h: STATE/alerts.sqlite: alerts that outlive a restart, those that are over, what
 * waits to be told, and what is muted (docs/alerts.md tells its tables).
 *
 * A collector writes; whoever calls `indagator alerts` reads, and writes where no collector runs. Of one
 * thread. Everything between ind_alert_file_begin and ind_alert_file_end is on disk as a whole, or not at
 * all. */
#ifndef IND_STORE_ALERT_ALERT_FILE_H
#define IND_STORE_ALERT_ALERT_FILE_H

#include "core/alert/alerts.h"

#define IND_ALERT_FILE_NAME "alerts.sqlite"

struct ind_alert_file;

enum ind_alert_file_status {
    IND_ALERT_FILE_GOOD,
    IND_ALERT_FILE_NONE,    /* to read: there is none */
    IND_ALERT_FILE_DAMAGED, /* or that of something else */
    IND_ALERT_FILE_FAILED
};

/* Opens it below the folder `state`, or makes it; with `to_read` neither makes nor changes it. New in *file,
 * NULL where that cannot be done; `reason` says why. */
enum ind_alert_file_status ind_alert_file_open(const char *state, bool to_read, struct ind_alert_file **file,
                                               char *reason, size_t room);
/* Accepts NULL. */
void ind_alert_file_close(struct ind_alert_file *file);
/* A damaged one gets another name, "alerts.sqlite.damaged", instead of one that had it before. */
bool ind_alert_file_set_aside(const char *state);
/* Why the last call has failed. */
const char *ind_alert_file_reason(const struct ind_alert_file *file);

bool ind_alert_file_begin(struct ind_alert_file *file);
/* `good`: what was done since is to hold. False where it does not. */
bool ind_alert_file_end(struct ind_alert_file *file, bool good);

/* ---- Alerts ---- */

/* As they are in the file. Texts are good for the call. */
struct ind_saved_alert {
    const char *name;
    struct ind_alert alert; /* its rule is NULL; state of one that is over: IND_ALERT_WATCHED */
};

bool ind_alert_file_save(struct ind_alert_file *file, const struct ind_alert *alert);
bool ind_alert_file_watch(struct ind_alert_file *file, const struct ind_alert *alert);
/* Keys that rules wait for, which are in it no more. */
bool ind_alert_file_forget_watched(struct ind_alert_file *file);
/* What is over for longer than so, and more than `most` of them, go. */
bool ind_alert_file_prune(struct ind_alert_file *file, ind_time before, uint64_t most);

typedef void ind_visit_saved(void *context, const struct ind_saved_alert *saved);

/* `over`: those that are over, the last first; otherwise the open ones, then the acknowledged, the oldest
 * first. `name`, `key`: only those; or NULL. At most `most`. */
bool ind_alert_file_list(struct ind_alert_file *file, bool over, const char *name, const char *key,
                         uint64_t most, ind_visit_saved *visit, void *context);
/* The one of that number. */
bool ind_alert_file_one(struct ind_alert_file *file, uint64_t number, ind_visit_saved *visit, void *context);
bool ind_alert_file_watched(struct ind_alert_file *file, ind_visit_saved *visit, void *context);

/* What has been counted of a key that is not open, in place of what was saved of it before; saving one that
 * is open takes it away. `until`: later it counts no more. */
bool ind_alert_file_count(struct ind_alert_file *file, const struct ind_alert *alert,
                          const struct ind_alert_counted *counted, ind_time until);
/* Those that count at `now`, with the text of their rule's keys. */
bool ind_alert_file_counted(struct ind_alert_file *file, ind_time now,
                            void (*visit)(void *context, const struct ind_saved_alert *saved, const char *by,
                                          const struct ind_alert_counted *counted),
                            void *context);
/* Those that do not go. */
bool ind_alert_file_prune_counted(struct ind_alert_file *file, ind_time now);
/* The number of the next that opens. */
uint64_t ind_alert_file_next(struct ind_alert_file *file);

/* Somebody has seen to those open of that name and key (NULL: all its keys), while no collector runs. Returns
 * how many; -1: it could not be done. */
int64_t ind_alert_file_acknowledge(struct ind_alert_file *file, const char *name, const char *key,
                                   const char *who, const char *note, ind_time now);

/* ---- Mutes ---- */

/* `key` NULL: all keys. `until` in the past: no more. */
bool ind_alert_file_mute(struct ind_alert_file *file, const char *name, const char *key, ind_time until,
                         const char *who);
bool ind_alert_file_mutes(struct ind_alert_file *file, ind_time now,
                          void (*visit)(void *context, const char *name, const char *key, ind_time until,
                                        const char *who),
                          void *context);

/* ---- What waits to be told ---- */

struct ind_notice {
    uint64_t id, alert; /* of the notice, and the number of its alert */
    enum ind_alert_event event;
    bool held; /* it was held back */
    ind_time at;
};

/* `way`: who is told, and how, as one text; "": it is held back. */
bool ind_alert_file_add_notice(struct ind_alert_file *file, const char *way, const struct ind_notice *notice);
bool ind_alert_file_notices(struct ind_alert_file *file,
                            void (*visit)(void *context, const char *way, const struct ind_notice *notice),
                            void *context);
/* Those up to that id are told to `way`, or given up. */
bool ind_alert_file_told(struct ind_alert_file *file, const char *way, uint64_t upto);
bool ind_alert_file_drop_notice(struct ind_alert_file *file, uint64_t id);
/* The id of the next. */
uint64_t ind_alert_file_next_notice(struct ind_alert_file *file);

#endif
