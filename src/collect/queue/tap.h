/* collect/queue/tap.h: copies of messages for those who follow, as they are received.
 *
 * The receivers never wait: they copy a message into a buffer of fixed size while anyone follows, and where
 * that is full they count it as skipped. */
#ifndef IND_COLLECT_QUEUE_TAP_H
#define IND_COLLECT_QUEUE_TAP_H

#include "collect/queue/burst.h"
#include "core/message/pris.h"
#include "net/waker.h"

struct ind_tap;

/* `waker` is woken when the first message comes into an empty buffer. NULL where memory is out. */
struct ind_tap *ind_tap_new(const struct ind_waker *waker);
void ind_tap_free(struct ind_tap *tap);

/* Opens it for one more follower, or one less. */
void ind_tap_open(struct ind_tap *tap, bool open);

/* Which messages those who follow can want, by their PRI; all, until it is said. */
void ind_tap_want(struct ind_tap *tap, const struct ind_pris *pris);

/* Any receiver: whether anyone follows at all, whether messages with that PRI are wanted, and a message for
 * them. */
bool ind_tap_is_open(const struct ind_tap *tap);
bool ind_tap_wants(const struct ind_tap *tap, unsigned pri);
void ind_tap_offer(struct ind_tap *tap, const struct ind_record *record, const char *certificate,
                   const char *bytes);

/* What has come since the last call, borrowed until the next: `visit` is called for each message, with
 * its certificate before it (ind_record_certificate). Returns how
 * many were skipped since. */
uint64_t ind_tap_read(struct ind_tap *tap,
                      void (*visit)(void *context, const struct ind_record *record, const char *bytes),
                      void *context);

#endif
