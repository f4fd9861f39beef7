/* collect/control/answer.h: an answer over HTTP. */
#ifndef IND_COLLECT_CONTROL_ANSWER_H
#define IND_COLLECT_CONTROL_ANSWER_H

#include <event2/http.h>
#include <event2/listener.h>

/* For a listener that cannot let anybody in, for want of a descriptor: trying again at once would only fill
 * the processor. Whoever owns it enables it again, once a second. */
void ind_answer_nobody_now(struct evconnlistener *listener, void *unused);

/* Answers a request whole. */
void ind_answer(struct evhttp_request *request, int code, const char *type, const char *text);

#endif
