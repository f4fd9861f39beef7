/* collect/intake/edit_states.h: core/edit/edit_state.h for several threads: tables that are each locked for a
 * moment, and only where an edit that remembers acts. They outlive reloads: an edit is known by its name. */
#ifndef IND_COLLECT_INTAKE_EDIT_STATES_H
#define IND_COLLECT_INTAKE_EDIT_STATES_H

#include "core/edit/edit_state.h"

/* Devices (and texts) that are known at once, over all edits. */
enum { IND_EDIT_STATE_ENTRIES = 65536 };

struct ind_edit_states;

/* New. `report` is called with report that are due, from whichever thread found that out, with no lock held.
 * NULL where memory is out. */
struct ind_edit_states *
ind_edit_states_new(void (*report)(void *context, const struct ind_edit_report *report), void *context);
void ind_edit_states_free(struct ind_edit_states *states);

/* Whether the message may go on; any thread. Messages of our own always may. *key is for settling. */
bool ind_edit_states_ask(struct ind_edit_states *states, const struct ind_edit *edit,
                         const struct ind_message *message, struct ind_steady now, uint64_t *key);
/* See ind_edit_state_settle. */
void ind_edit_states_settle(struct ind_edit_states *states, uint64_t key, const struct ind_message *message);

/* Tells report that are due at `now` (`all`: or would be later), so many at most. Returns how many. */
size_t ind_edit_states_report(struct ind_edit_states *states, struct ind_steady now, bool all, size_t most);

void ind_edit_states_count(struct ind_edit_states *states, uint64_t *entries, uint64_t *evicted);

#endif
