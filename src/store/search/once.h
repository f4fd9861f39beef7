/* store/search/once.h: a message that several routes took stands in a file of each, and is one message.
 *
 * Two lines are one where time, device and text are equal and they stand in files of different routes. What a
 * device sent twice within a microsecond stands twice in the files of each route, and stays two: of as many
 * lines as the route with the most has, each counts. */
#ifndef IND_STORE_SEARCH_ONCE_H
#define IND_STORE_SEARCH_ONCE_H

#include "core/message/message.h"

struct ind_once;

/* What tells a line from others, put before it in a sorter. */
struct ind_once_mark {
    uint64_t message[2]; /* a hash of device and text */
    uint64_t route;
};

void ind_once_mark(const struct ind_message *message, uint64_t route, struct ind_once_mark *mark);

/* New, or NULL where memory is out. */
struct ind_once *ind_once_new(void);
void ind_once_free(struct ind_once *once);

/* Whether the line is the first of its message. Lines come in the order of time. `time` IND_TIME_NONE: it is.
 * False with *failed set where memory is out. */
bool ind_once_is_first(struct ind_once *once, ind_time time, const struct ind_once_mark *mark, bool *failed);

#endif
