#include "collect/control/answer.h"

#include <event2/buffer.h>
#include <string.h>

void ind_answer(struct evhttp_request *request, int code, const char *type, const char *text)
{
    struct evbuffer *body = evbuffer_new();
    if (body)
        evbuffer_add(body, text, strlen(text));
    evhttp_add_header(evhttp_request_get_output_headers(request), "Content-Type", type);
    evhttp_send_reply(request, code, NULL, body);
    if (body)
        evbuffer_free(body);
}

void ind_answer_nobody_now(struct evconnlistener *listener, void *unused)
{
    (void)unused;
    (void)evconnlistener_disable(listener);
}
