/* collect/control/answer.h: an answer over HTTP. */
#ifndef IND_COLLECT_CONTROL_ANSWER_H
#define IND_COLLECT_CONTROL_ANSWER_H

#include <event2/http.h>

/* Answers a request whole. */
void ind_answer(struct evhttp_request *request, int code, const char *type, const char *text);

#endif
