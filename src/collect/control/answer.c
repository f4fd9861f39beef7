#include "collect/control/answer.h"

#include <event2/buffer.h>
#include <event2/bufferevent.h>
#include <event2/event.h>
#include <string.h>

void ind_answer(struct evhttp_request *request, int code, const char *type, const char *text)
{
    struct evbuffer *body = evbuffer_new();
    if (body)
        evbuffer_add(body, text, strlen(text));
    evhttp_add_header(evhttp_request_get_output_headers(request), "Content-Type", type);
    struct evhttp_connection *connection = evhttp_request_get_connection(request);
    struct bufferevent *buffers = connection ? evhttp_connection_get_bufferevent(connection) : NULL;
    evhttp_send_reply(request, code, NULL, body);
    /* Through a filter (server.c) what is added before writing is enabled would wait for more. */
    if (buffers)
        (void)bufferevent_flush(buffers, EV_WRITE, BEV_NORMAL);
    if (body)
        evbuffer_free(body);
}
