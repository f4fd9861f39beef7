#define _GNU_SOURCE /* strcasestr */
#include "collect/control/server.h"

#include "collect/control/answer.h"
#include "net/socket.h"
#include <errno.h>
#include <event2/buffer.h>
#include <event2/bufferevent.h>
#include <event2/event.h>
#include <event2/keyvalq_struct.h>
#include <event2/listener.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <strings.h>
#include <unistd.h>

enum {
    MOST_CONNECTIONS = 128,
    HEADERS = 8192,
    BODY = 1024,     /* which nobody needs */
    TIME_SECONDS = 5 /* for a request, and between two */
};

struct ind_server {
    struct event_base *base;
    struct ind_server_calls calls;
    struct evhttp *http;
    struct evconnlistener *listener;
    unsigned connections;
};

/* ---- Connections ---- */

/* libevent says when a filter's memory goes: then its connection is gone. */
static void on_gone(void *context)
{
    struct ind_server *server = context;
    server->connections--;
    if (server->listener && server->connections < MOST_CONNECTIONS)
        (void)evconnlistener_enable(server->listener);
}

/* A connection's buffers, counted. */
static struct bufferevent *new_buffers(struct event_base *base, void *context)
{
    struct ind_server *server = context;
    struct bufferevent *plain = bufferevent_socket_new(base, -1, BEV_OPT_CLOSE_ON_FREE);
    struct bufferevent *counted =
        plain ? bufferevent_filter_new(plain, NULL, NULL, BEV_OPT_CLOSE_ON_FREE, on_gone, server) : NULL;
    if (!counted) {
        if (plain)
            bufferevent_free(plain);
        return NULL;
    }
    if (++server->connections >= MOST_CONNECTIONS)
        (void)evconnlistener_disable(server->listener);
    return counted;
}

/* ---- Questions ---- */

static void answer(struct evhttp_request *request, int code, const char *text)
{
    ind_answer(request, code, "text/plain; charset=utf-8", text);
}

static void take(struct ind_server *server, enum ind_question question, struct evhttp_request *request)
{
    const enum evhttp_cmd_type method = evhttp_request_get_command(request);
    if (method != EVHTTP_REQ_GET && method != EVHTTP_REQ_HEAD) {
        evhttp_add_header(evhttp_request_get_output_headers(request), "Allow", "GET, HEAD");
        answer(request, HTTP_BADMETHOD, "this can only be read: GET or HEAD\n");
    } else if (evhttp_uri_get_query(evhttp_request_get_evhttp_uri(request))) {
        answer(request, HTTP_BADREQUEST,
               "there is nothing to be chosen here: leave out what follows \"?\"\n");
    } else {
        server->calls.ask(server->calls.context, question, request);
    }
}

static void on_health(struct evhttp_request *request, void *context)
{
    take(context, IND_ASKS_HEALTH, request);
}

static void on_metrics(struct evhttp_request *request, void *context)
{
    take(context, IND_ASKS_METRICS, request);
}

static void on_status(struct evhttp_request *request, void *context)
{
    take(context, IND_ASKS_STATUS, request);
}

static void on_other(struct evhttp_request *request, void *context)
{
    (void)context;
    answer(request, HTTP_NOTFOUND, "there are /health, /metrics and /status\n");
}

bool ind_server_wants_openmetrics(struct evhttp_request *request)
{
    const char *accept = evhttp_find_header(evhttp_request_get_input_headers(request), "Accept");
    return accept && strcasestr(accept, "application/openmetrics-text");
}

/* ---- Made and ended ---- */

int ind_server_listen(const struct ind_serve *serve, char *reason, size_t room)
{
    int socket = ind_tcp_listen(serve->address, serve->port, false);
    if (socket < 0)
        snprintf(reason, room, "cannot serve at %s: %s", serve->text, strerror(errno));
    return socket;
}

static void on_accept_failed(struct evconnlistener *listener, void *http)
{
    (void)http;
    (void)evconnlistener_disable(listener); /* the next second sees further */
}

static bool open_up(struct ind_server *server, int socket)
{
    server->http = evhttp_new(server->base);
    struct evhttp_bound_socket *bound =
        server->http ? evhttp_accept_socket_with_handle(server->http, socket) : NULL;
    if (!bound) {
        close(socket);
        return false;
    }
    server->listener = evhttp_bound_socket_get_listener(bound);
    evconnlistener_set_error_cb(server->listener, on_accept_failed);
    evhttp_set_bevcb(server->http, new_buffers, server);
    evhttp_set_max_headers_size(server->http, HEADERS);
    evhttp_set_max_body_size(server->http, BODY);
    evhttp_set_timeout(server->http, TIME_SECONDS);
    evhttp_set_allowed_methods(server->http, UINT16_MAX); /* to be refused with a word */
    evhttp_set_cb(server->http, "/health", on_health, server);
    evhttp_set_cb(server->http, "/metrics", on_metrics, server);
    evhttp_set_cb(server->http, "/status", on_status, server);
    evhttp_set_gencb(server->http, on_other, server);
    return true;
}

struct ind_server *ind_server_new(struct event_base *base, int socket, const struct ind_server_calls *calls)
{
    struct ind_server *server = calloc(1, sizeof *server);
    if (!server) {
        close(socket);
        return NULL;
    }
    server->base = base;
    server->calls = *calls;
    if (open_up(server, socket))
        return server;
    ind_server_free(server);
    return NULL;
}

void ind_server_free(struct ind_server *server)
{
    if (!server)
        return;
    server->listener = NULL; /* which goes first */
    if (server->http)
        evhttp_free(server->http);
    free(server);
}

void ind_server_look(struct ind_server *server)
{
    if (server && server->listener && server->connections < MOST_CONNECTIONS)
        (void)evconnlistener_enable(server->listener);
}
