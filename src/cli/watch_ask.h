/* cli/watch_ask.h: two threads that ask a collector for its status once a second, and for messages as they
 * come; both go on when it comes back after its end. */
#ifndef IND_CLI_WATCH_ASK_H
#define IND_CLI_WATCH_ASK_H

#include "cli/watch_model.h"
#include "config/config.h"

struct ind_watch_ask;

/* New, with its threads; NULL where that fails. `config` is borrowed. */
struct ind_watch_ask *ind_watch_ask_new(const struct ind_config *config);
void ind_watch_ask_free(struct ind_watch_ask *ask);

/* From now on messages for which that holds. */
void ind_watch_ask_for(struct ind_watch_ask *ask, const char *when);

/* Takes what has come into the model; messages only unless `still`. True where there was a status, or that
 * there is none any more. */
bool ind_watch_ask_take(struct ind_watch_ask *ask, bool still, struct ind_watch_model *model);

#endif
