/* net/unanswered.h: what of a stream the other side's system has not acknowledged. */
#ifndef IND_NET_UNANSWERED_H
#define IND_NET_UNANSWERED_H

#include <stdbool.h>
#include <stdint.h>

/* Bytes written to a TCP socket that are not acknowledged; of a local stream: 0 once all is read. False where
 * the system does not tell. */
bool ind_unanswered(int socket, uint64_t *bytes);

/* Has the system ask an idle connection whether the other side is still there: after half a minute, and given
 * up after another. */
void ind_keep_alive(int socket);

#endif
