/* collect/queue/causes.h: what concerns alerts, from an intake to whoever keeps them.
 *
 * One thread adds and one takes. Those of one alert, key and second are put together, with the line of the
 * first. An intake never waits: where there is no room, they are counted as missed. */
#ifndef IND_COLLECT_QUEUE_CAUSES_H
#define IND_COLLECT_QUEUE_CAUSES_H

#include "core/alert/alerts.h"

struct ind_causes;

/* New; NULL where memory is out. */
struct ind_causes *ind_causes_new(void);
void ind_causes_free(struct ind_causes *causes);

/* Who takes is called, from the thread that adds, when half of the room is used up; NULL: nobody. */
void ind_causes_wake(struct ind_causes *causes, void (*half_full)(void *context), void *context);

/* Notes a cause of one message: `line` is not looked at. True: its line is wanted, by ind_causes_add_line. */
bool ind_causes_add(struct ind_causes *causes, const struct ind_alert_cause *cause);
void ind_causes_add_line(struct ind_causes *causes, struct ind_slice line);

/* What has come since the last call: `visit` is called for each, in their order, and borrows it. Returns how
 * many messages were missed since. */
uint64_t ind_causes_take(struct ind_causes *causes,
                         void (*visit)(void *context, const struct ind_alert_cause *cause), void *context);

#endif
