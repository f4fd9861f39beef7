/* trial/alerts_trial.h: which alerts messages of files would have raised, and when: what a message concerns
 * is noted as it is read, by any thread's own notes, and played in the order of time afterwards. */
#ifndef IND_TRIAL_ALERTS_TRIAL_H
#define IND_TRIAL_ALERTS_TRIAL_H

#include "collect/intake/alerting.h"

enum { IND_RAISED_KEY = IND_ALERT_KEY, IND_MOST_RAISED = 10000 };

/* One that would have been open. */
struct ind_raised_alert {
    const struct ind_alert_rule *rule;
    char key[IND_RAISED_KEY];
    uint64_t number, messages;
    ind_time opened, over; /* over: IND_TIME_NONE: it still is open */
    unsigned reopened;
};

struct ind_raised_alerts {
    struct ind_raised_alert *list; /* in the order in which they opened */
    size_t count;
    uint64_t left_out; /* causes for which there was no room, and alerts */
};

struct ind_alert_trial;

/* New; borrows the configuration. `answers`: of its conditions. NULL where memory is out. */
struct ind_alert_trial *ind_alert_trial_new(const struct ind_config *config, struct ind_answers *answers);
void ind_alert_trial_free(struct ind_alert_trial *trial);
/* Notes a message as the edits left it. */
void ind_alert_trial_note(struct ind_alert_trial *trial, const struct ind_message *message,
                          struct ind_answers *answers);
/* Plays what several have noted. False where memory is out. */
bool ind_alert_trials_play(struct ind_alert_trial *const *trials, size_t count,
                           struct ind_raised_alerts *raised);
void ind_raised_alerts_free(struct ind_raised_alerts *raised);

#endif
