/* collect/alert/desk.h: the alerts of a running collector: a thread that takes what intakes have noted, keeps
 * alerts in the file of store/alert/, and has them told.
 *
 * It holds nobody up: intakes only note, and whoever asks it something waits for a table in memory at most.
 */
#ifndef IND_COLLECT_ALERT_DESK_H
#define IND_COLLECT_ALERT_DESK_H

#include "collect/alert/courier.h"
#include "collect/queue/causes.h"
#include "collect/runtime/clock.h"
#include "collect/runtime/reporter.h"

/* Everything is borrowed for as long as the desk. */
struct ind_desk_settings {
    const char *state, *store;        /* folders */
    const char *host;                 /* of this machine */
    struct ind_causes *const *causes; /* of each intake */
    unsigned cause_count;
    struct ind_reporter *reporter;
    struct ind_spawner *spawner; /* for this desk alone; NULL: programs cannot be started */
    const struct ind_clock *clock;
};

struct ind_desk;

/* New; NULL where memory is out. */
struct ind_desk *ind_desk_new(const struct ind_desk_settings *settings);
/* Saves what is to be saved, and ends the threads. What is not told yet stays in the file. Accepts NULL. */
void ind_desk_free(struct ind_desk *desk);

/* Goes by these rules from now on, which it copies; of the first call also what was saved is taken up. False
 * where memory is out: the rules are as before. */
bool ind_desk_adopt(struct ind_desk *desk, const struct ind_config *config);
/* Its thread begins. False where it cannot. */
bool ind_desk_start(struct ind_desk *desk);

/* Any thread: those open of that name and key (NULL: all its keys) are acknowledged. Returns how many; -1:
 * there is no such rule. */
int64_t ind_desk_acknowledge(struct ind_desk *desk, const char *name, const char *key, const char *who,
                             const char *note);
/* They are not told before `until`, which in the past ends it. False where there is no such rule. */
bool ind_desk_mute(struct ind_desk *desk, const char *name, const char *key, ind_time until, const char *who);
/* Tells all ways of a rule, as if it had opened just now. False where there is no such rule. */
bool ind_desk_test(struct ind_desk *desk, const char *name);

enum { IND_DESK_WAYS = 64 };

/* What there is now; any thread. */
struct ind_desk_count {
    struct ind_alerts_counts alerts;
    uint64_t missed, held, mutes;
    bool file_failed; /* it cannot be written */
    char file_reason[200];
    size_t way_count;
    struct ind_desk_way {
        char id[120]; /* what is longer is cut */
        uint64_t waiting, delivered, failed;
        bool failing;
        char reason[200];
    } ways[IND_DESK_WAYS];
};
void ind_desk_read_count(struct ind_desk *desk, struct ind_desk_count *count);

#endif
