/* collect/followers.h: those who watch messages come in, each with a condition and a layout of its own.
 *
 * All of it happens on the control thread, on copies: what a follower asks costs the receivers nothing but
 * the copying, and one that reads slowly is passed over, and told how much. */
#ifndef IND_COLLECT_FOLLOWERS_H
#define IND_COLLECT_FOLLOWERS_H

#include "collect/inside.h"

#include <event2/http.h>

/* Answers a request whole. */
void ind_answer(struct evhttp_request *request, int code, const char *type, const char *text);

struct ind_followers;
struct ind_followers *ind_followers_new(struct ind_collector *collector);
void ind_followers_free(struct ind_followers *followers);

/* Takes a GET /follow: answers it as long as the other side reads, or with what is wrong with it. */
void ind_followers_add(struct ind_followers *followers, struct evhttp_request *request);

/* The tap has messages. */
void ind_followers_feed(struct ind_followers *followers);

/* Other rules are in force. */
void ind_followers_turn(struct ind_followers *followers);

#endif
