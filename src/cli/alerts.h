/* cli/alerts.h: what `alerts` does, a file for what belongs together. */
#ifndef IND_CLI_ALERTS_H
#define IND_CLI_ALERTS_H

#include "cli/cli.h"

/* What was given; NULL where it was not. */
struct ind_alerts_call {
    const char *name, *key; /* of an alert; of `show` the name may be its number */
    bool json;
    const char *note, *span, *since, *until;
    int off;
};

/* Each returns an exit code. */
int ind_alerts_list(const struct ind_config *config, const struct ind_alerts_call *given);
int ind_alerts_history(const struct ind_config *config, const struct ind_alerts_call *given);
int ind_alerts_show(const struct ind_config *config, const struct ind_alerts_call *given);
int ind_alerts_ack(const struct ind_config *config, const struct ind_alerts_call *given);
int ind_alerts_mute(const struct ind_config *config, const struct ind_alerts_call *given);
int ind_alerts_test(const struct ind_config *config, const struct ind_alerts_call *given);

#endif
