/* cli/status_relays.h: the part of `status` that tells of relays. */
#ifndef IND_CLI_STATUS_RELAYS_H
#define IND_CLI_STATUS_RELAYS_H

#include <jansson.h>
#include <stdbool.h>

/* Nothing where there are none. */
void ind_show_relays(const json_t *status);
void ind_show_takers(const json_t *status);

/* Whether nothing can be taken from a message system. */
bool ind_taker_is_down(const json_t *taker);

/* Whether a relay has no target that takes anything; whether it was not able to keep, or to pass on, all that
 * it was given. */
bool ind_relay_is_cut_off(const json_t *relay);
bool ind_relay_has_lost(const json_t *relay);
/* Whether it takes messages, but its oldest has waited for more than a minute. */
bool ind_relay_lags(const json_t *relay);

#endif
