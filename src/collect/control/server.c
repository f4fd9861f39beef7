#define _GNU_SOURCE /* strcasestr */
#include "collect/control/server.h"

#include "collect/control/answer.h"
#include "collect/runtime/clock.h"
#include "net/socket.h"
#include <ctype.h>
#include <dirent.h>
#include <errno.h>
#include <event2/bufferevent.h>
#include <event2/event.h>
#include <event2/keyvalq_struct.h>
#include <event2/listener.h>
#include <netinet/in.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <strings.h>
#include <sys/socket.h>
#include <unistd.h>

enum {
    MOST_CONNECTIONS = 128,
    MOST_SEEN = 2 * MOST_CONNECTIONS, /* some are let in before we know that there are enough */
    MOST_DESCRIPTORS = 65536,
    LONGEST_SECONDS = 10,
    HEADERS = 8192,
    BODY = 1024,     /* which nobody needs */
    TIME_SECONDS = 5 /* for a request, and between two */
};

/* A connection, and since when it has been there. */
struct seen {
    int fd;
    uint16_t peer;
    struct ind_steady since;
};

struct ind_server {
    struct event_base *base;
    uint16_t port;
    struct ind_server_calls calls;
    struct evhttp *http;
    struct evconnlistener *listener;
    unsigned connections; /* at most: some may have ended since we looked */
    struct seen seen[MOST_SEEN];
    unsigned seen_count;
};

/* ---- Connections ----
 *
 * libevent keeps them to itself, and says neither how many there are nor when one ends. So those let in are
 * counted, and now and then the descriptors of this process are looked through for what is really open. */

/* Called for each connection that is let in, before it has its socket. */
static struct bufferevent *note_connection(struct event_base *base, void *context)
{
    struct ind_server *server = context;
    if (++server->connections >= MOST_CONNECTIONS)
        (void)evconnlistener_disable(server->listener);
    return bufferevent_socket_new(base, -1, BEV_OPT_CLOSE_ON_FREE);
}

/* Whether a descriptor is one of ours; *peer: the port at its other side. */
static bool is_connection(const struct ind_server *server, int fd, uint16_t *peer)
{
    union {
        struct sockaddr any;
        struct sockaddr_in v4;
        struct sockaddr_in6 v6;
    } name;
    socklen_t length = sizeof name;
    memset(&name, 0, sizeof name);
    if (ind_socket_port(fd) != server->port || getpeername(fd, &name.any, &length) != 0)
        return false;
    *peer = ntohs(name.any.sa_family == AF_INET6 ? name.v6.sin6_port : name.v4.sin_port);
    return name.any.sa_family == AF_INET || name.any.sa_family == AF_INET6;
}

/* Whoever is there for longer than a request may take is ended; libevent hears of it and frees it. */
static void look_at_connection(struct ind_server *server, int fd, struct ind_steady now, struct seen *list,
                               unsigned *count)
{
    uint16_t peer;
    if (!is_connection(server, fd, &peer) || *count == MOST_SEEN)
        return;
    struct seen *seen = &list[(*count)++];
    *seen = (struct seen){fd, peer, now};
    for (unsigned i = 0; i < server->seen_count; i++)
        if (server->seen[i].fd == fd && server->seen[i].peer == peer)
            seen->since = server->seen[i].since;
    if (ind_steady_from(seen->since, now) > LONGEST_SECONDS * IND_SECOND)
        (void)shutdown(fd, SHUT_RDWR);
}

static void look_through(struct ind_server *server)
{
    struct seen list[MOST_SEEN];
    unsigned count = 0;
    const struct ind_steady now = ind_steady_now();
    DIR *folder = opendir("/proc/self/fd");
    const struct dirent *entry;
    while (folder && (entry = readdir(folder)))
        if (isdigit((unsigned char)entry->d_name[0]))
            look_at_connection(server, atoi(entry->d_name), now, list, &count);
    for (int fd = 0; !folder && fd < MOST_DESCRIPTORS; fd++)
        look_at_connection(server, fd, now, list, &count);
    if (folder)
        (void)closedir(folder);
    memcpy(server->seen, list, count * sizeof *list);
    server->seen_count = server->connections = count;
}

void ind_server_look(struct ind_server *server)
{
    if (!server)
        return;
    if (server->connections >= MOST_CONNECTIONS / 2)
        look_through(server);
    if (server->connections < MOST_CONNECTIONS)
        (void)evconnlistener_enable(server->listener);
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
    server->port = ind_socket_port(socket);
    evconnlistener_set_error_cb(server->listener, ind_answer_nobody_now);
    evhttp_set_bevcb(server->http, note_connection, server);
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
    if (server && server->http)
        evhttp_free(server->http);
    free(server);
}
