/* collect/input/listener_tls.h: the certificates of listeners, read from the files that the configuration
 * names; and what is wrong with them, or will be soon, at its place there. */
#ifndef IND_COLLECT_INPUT_LISTENER_TLS_H
#define IND_COLLECT_INPUT_LISTENER_TLS_H

#include "config/config.h"
#include "net/tls.h"

/* Of an item that has TLS. New; NULL with `reason` filled in: "indagator.yaml:12:10: tls/collector.key: …".
 */
struct ind_tls *ind_listener_tls_new(const struct ind_listen_item *item, char *reason, size_t room);

/* Whether this process can read all of them, which it may have done with more rights than it has now, and
 * will do again at a reload. False with `reason` filled in. */
bool ind_listener_tls_readable(const struct ind_config *config, char *reason, size_t room);

/* Adds a mistake for each file that cannot be used, and a warning for what ends within thirty days of `now`.
 */
void ind_listener_tls_check(const struct ind_config *config, ind_time now,
                            struct ind_diagnostics *diagnostics);

/* "its certificate \"collector\" ends on 2026-12-03" into `text`. */
void ind_tls_end_write(const struct ind_tls_expiries *expiries, enum ind_tls_part part, ind_time now,
                       struct ind_buffer *text);

#endif
