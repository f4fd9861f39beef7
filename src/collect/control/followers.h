/* collect/control/followers.h: those who watch messages come in, each with a condition and a layout of its
 * own.
 *
 * All of it happens on the control thread, on copies: what a follower asks costs the receivers nothing but
 * the copying, and one that reads slowly is passed over, and gets to know how much. */
#ifndef IND_COLLECT_CONTROL_FOLLOWERS_H
#define IND_COLLECT_CONTROL_FOLLOWERS_H

#include "collect/queue/tap.h"
#include "config/config.h"

#include <event2/http.h>

struct ind_followers;
/* New; borrows all of it. `names`: of listeners, by their number. NULL where memory is out. */
struct ind_followers *ind_followers_new(struct ind_tap *tap, const struct ind_config *config,
                                        const char *const *names);
void ind_followers_free(struct ind_followers *followers);

/* Takes a GET /follow: answers it as long as the other side reads, or with what is wrong with it. */
void ind_followers_add(struct ind_followers *followers, struct evhttp_request *request);

/* The tap has messages. */
void ind_followers_look(struct ind_followers *followers);

/* Other rules are in force. */
void ind_followers_adopt(struct ind_followers *followers, const struct ind_config *config);

#endif
