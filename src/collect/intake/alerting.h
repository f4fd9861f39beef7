/* collect/intake/alerting.h: which alerts a message concerns, and under which key. Of one thread. */
#ifndef IND_COLLECT_INTAKE_ALERTING_H
#define IND_COLLECT_INTAKE_ALERTING_H

#include "config/config.h"
#include "core/alert/alerts.h"

struct ind_alerting {
    const struct ind_config *config;
    uint32_t *concerned; /* tests of config->alerts; NULL: there are no alerts */
    struct ind_path_clock clock;
};

/* Whoever is told of it. `cause` returns whether the line is wanted, which is then given; `line` may be NULL.
 * `rule` is the alert's. */
struct ind_alerting_call {
    bool (*cause)(void *context, const struct ind_alert_rule *rule, const struct ind_alert_cause *cause);
    void (*line)(void *context, struct ind_slice line);
    void *context;
};

/* Borrows the configuration, whose conditions the answers are for. False where memory is out; then, too, it
 * is to be ended. */
bool ind_alerting_begin(struct ind_alerting *alerting, const struct ind_config *config,
                        struct ind_answers *answers);
void ind_alerting_end(struct ind_alerting *alerting);

/* A message as the edits left it, which they have not dropped. */
void ind_alerting_look(struct ind_alerting *alerting, struct ind_message *message,
                       struct ind_answers *answers, const struct ind_alerting_call *call);

/* The key of a rule for a message; written into `room`, which has IND_ALERT_KEY bytes. */
struct ind_slice ind_alerting_key(struct ind_alerting *alerting, const struct ind_alert_rule *rule,
                                  const struct ind_message *message, char *room);

/* Configured devices for which the conditions of rules hold that wait for messages, as far as what is known
 * of a device decides that: `watch` is called with the rule's name and the key of each. */
void ind_alerting_configured(struct ind_alerting *alerting, struct ind_answers *answers,
                             void (*watch)(void *context, struct ind_slice alert, struct ind_slice key),
                             void *context);

#endif
