#define _GNU_SOURCE
#include "collect/control/control.h"

#include "collect/control/about.h"
#include "collect/control/answer.h"
#include "collect/control/control_socket.h"
#include "collect/control/followers.h"
#include "collect/control/metrics.h"
#include "collect/control/orders.h"
#include "collect/control/pending.h"
#include "collect/control/query.h"
#include "collect/control/recent.h"
#include "collect/control/rows.h"
#include "collect/runtime/clock.h"
#include "core/message/names.h"
#include "net/socket.h"

#include <errno.h>
#include <event2/event.h>
#include <event2/listener.h>
#include <signal.h>
#include <stdlib.h>
#include <unistd.h>
#include <utlist.h>

/* So old metrics may be: however often they are asked for they cost little. */
#define METRICS_FOR (2 * IND_SECOND)
enum { SIGNALS = 3, REPORT_AGAIN = 60 };

struct ind_control {
    struct ind_control_actions actions;
    struct ind_reporter *reporter;
    struct event_base *base;
    struct event *on_wake, *on_second, *on_quarter, *on_signal[SIGNALS];
    struct ind_waker waker;

    struct evhttp *http;
    struct evconnlistener *listener; /* its; NULL: none yet */
    struct ind_steady accept_reported;
    char *path; /* of the control socket */
    struct ind_followers *followers;
    struct ind_server *server; /* NULL: there is no serve: */

    /* Those that are asked while an answer is under way may know more than it tells: they have the next one.
     */
    struct ind_pending *for_status, *next_status;
    struct ind_orders orders;
    bool snapshot_asked;
    struct ind_rows *rows;
    char *last_status;  /* or NULL */
    char *last_metrics; /* likewise */
    struct ind_steady metrics_made;
};

/* ---- Status ---- */

static void ask_for_snapshot(struct ind_control *control)
{
    control->snapshot_asked = true;
    control->actions.snapshot(control->actions.context);
}

void ind_control_take_snapshot(struct ind_control *control)
{
    if (!control->snapshot_asked)
        ask_for_snapshot(control);
}

static void give_later(struct ind_control *control, struct evhttp_request *request,
                       enum ind_form_of_status form)
{
    if (ind_is_too_late(&control->actions, request))
        return;
    bool asked = control->snapshot_asked;
    if (ind_pending_put_off(asked ? &control->next_status : &control->for_status, request, form) && !asked)
        ask_for_snapshot(control);
}

static void on_status(struct evhttp_request *request, void *context)
{
    give_later(context, request, IND_AS_STATUS);
}

static const char *const metrics_types[] = {
    [IND_AS_METRICS] = IND_METRICS_PLAIN_TYPE, [IND_AS_OPENMETRICS] = IND_METRICS_TYPE};

static void give_metrics(struct ind_control *control, const struct ind_status *status)
{
    if (!ind_pending_waits(control->for_status, IND_AS_METRICS) &&
        !ind_pending_waits(control->for_status, IND_AS_OPENMETRICS))
        return;
    char *text = ind_metrics_text(status, control->rows);
    for (int form = IND_AS_METRICS; form <= IND_AS_OPENMETRICS; form++) {
        struct ind_pending *list = ind_pending_take(&control->for_status, (enum ind_form_of_status)form);
        ind_pending_answer_all(&list, text ? HTTP_OK : HTTP_INTERNAL,
                               text ? metrics_types[form] : "text/plain", text ? text : "out of memory\n");
    }
    free(control->last_metrics);
    control->last_metrics = text;
    control->metrics_made = ind_steady_now();
}

static void ask_for_metrics(struct ind_control *control, struct evhttp_request *request,
                            enum ind_form_of_status form)
{
    if (control->last_metrics && ind_steady_lately(control->metrics_made, ind_steady_now(), METRICS_FOR))
        ind_answer(request, HTTP_OK, metrics_types[form], control->last_metrics);
    else
        give_later(control, request, form);
}

static void on_device(struct evhttp_request *request, void *context)
{
    char *name = ind_query_value(ind_query_of(request), "name");
    if (name && *name)
        give_later(context, request, IND_AS_DEVICE);
    else
        ind_answer(request, HTTP_BADREQUEST, "text/plain", "\"name\" tells which device is asked for\n");
    free(name);
}

static void answer_about(void *context, struct evhttp_request *request)
{
    const struct ind_status *status = context;
    char *name = ind_query_value(ind_query_of(request), "name");
    char *text = name ? ind_about_text(status, ind_slice_of(name)) : NULL;
    ind_answer(request, text ? HTTP_OK : HTTP_NOTFOUND, text ? "application/json" : "text/plain",
               text ? text : "nothing is known of it\n");
    free(text);
    free(name);
}

static void give_devices(struct ind_control *control, const struct ind_status *status)
{
    struct ind_pending *list = ind_pending_take(&control->for_status, IND_AS_DEVICE);
    ind_pending_answer_each(&list, answer_about, (void *)(uintptr_t)status);
}

static void on_recent(struct evhttp_request *request, void *context)
{
    give_later(context, request, IND_AS_RECENT);
}

static void give_recent(struct ind_control *control, const struct ind_status *status)
{
    struct ind_pending *list = ind_pending_take(&control->for_status, IND_AS_RECENT);
    char *text = list ? ind_recent_text(status) : NULL;
    ind_pending_answer_all(&list, text ? HTTP_OK : HTTP_INTERNAL, "application/json",
                           text ? text : "out of memory\n");
    free(text);
}

void ind_control_give_status(struct ind_control *control, const struct ind_status *status)
{
    give_devices(control, status);
    give_recent(control, status);
    if (control->for_status && !ind_rows_gather(control->rows, status))
        ind_pending_answer_all(&control->for_status, HTTP_INTERNAL, "text/plain", "out of memory\n");
    give_metrics(control, status);
    char *text = control->for_status ? ind_status_text(status, control->rows) : NULL;
    ind_pending_answer_all(&control->for_status, text ? HTTP_OK : HTTP_INTERNAL, "application/json",
                           text ? text : "out of memory\n");
    if (text) {
        free(control->last_status);
        control->last_status = text;
    }
    control->snapshot_asked = false;
    if (ind_pending_pop(&control->for_status, &control->next_status))
        ask_for_snapshot(control);
}

/* The snapshot is still under way: it is for nobody then. */
void ind_control_give_last_status(struct ind_control *control, const char *trouble)
{
    (void)ind_pending_pop(&control->for_status, &control->next_status);
    for (int form = IND_AS_METRICS; form <= IND_AS_RECENT; form++) {
        struct ind_pending *list = ind_pending_take(&control->for_status, (enum ind_form_of_status)form);
        ind_pending_answer_all(&list, HTTP_SERVUNAVAIL, "text/plain; charset=utf-8", trouble);
    }
    if (!control->for_status)
        return;
    char *text = ind_status_again(control->last_status, ind_now(), trouble);
    ind_pending_answer_all(&control->for_status, text ? HTTP_OK : HTTP_INTERNAL, "application/json",
                           text ? text : "out of memory\n");
    free(text);
}

/* ---- Orders ---- */

void ind_control_give_rotation(struct ind_control *control, size_t rotated, size_t failed)
{
    char text[120];
    snprintf(text, sizeof text, "{\"rotated\":%zu,\"failed\":%zu}\n", rotated, failed);
    ind_pending_answer_all(&control->orders.for_rotation, HTTP_OK, "application/json", text);
}

void ind_control_give_protection(struct ind_control *control)
{
    ind_pending_answer_all(&control->orders.for_protection, HTTP_OK, "application/json", "{\"done\":true}\n");
}

void ind_control_give_reload(struct ind_control *control, int code, const char *text)
{
    ind_pending_answer_all(&control->orders.for_reload, code,
                           code == HTTP_OK ? "application/json" : "text/plain; charset=utf-8", text);
}

bool ind_control_next_reload(struct ind_control *control)
{
    return ind_pending_pop(&control->orders.for_reload, &control->orders.next_reload);
}

/* ---- Over HTTP for anybody ---- */

static void give_health(struct ind_control *control, struct evhttp_request *request)
{
    struct ind_status_reason reasons[IND_STATUS_REASONS];
    size_t count = control->actions.reasons(control->actions.context, reasons);
    if (count == 0) {
        ind_answer(request, HTTP_OK, "text/plain; charset=utf-8", "running\n");
        return;
    }
    char *text = ind_status_reasons_text(reasons, count);
    ind_answer(request, HTTP_SERVUNAVAIL, "application/json", text ? text : "out of memory\n");
    free(text);
}

static void on_question(void *context, enum ind_question question, struct evhttp_request *request)
{
    struct ind_control *control = context;
    if (question == IND_ASKS_HEALTH)
        give_health(control, request);
    else if (question == IND_ASKS_STATUS)
        give_later(control, request, IND_AS_STATUS);
    else
        ask_for_metrics(control, request,
                        ind_server_wants_openmetrics(request) ? IND_AS_OPENMETRICS : IND_AS_METRICS);
}

bool ind_control_serve(struct ind_control *control, int socket)
{
    const struct ind_server_calls calls = {control, on_question};
    ind_server_free(control->server);
    control->server = socket >= 0 ? ind_server_new(control->base, socket, &calls) : NULL;
    return socket < 0 || control->server;
}

/* ---- Follow, and the rest ---- */

static void on_follow(struct evhttp_request *request, void *context)
{
    ind_followers_add(((struct ind_control *)context)->followers, request);
}

/* Of those that are in force, or will be in a moment. */
static void on_rules(struct evhttp_request *request, void *context)
{
    const struct ind_control *control = context;
    ind_answer(request, HTTP_OK, "text/plain; charset=utf-8",
               control->actions.outline(control->actions.context));
}

static void on_other(struct evhttp_request *request, void *context)
{
    (void)context;
    ind_answer(request, HTTP_NOTFOUND, "text/plain",
               "there are /status, /device, /recent, /rules, /follow, /rotate, /protect, /reload, /pause and "
               "/resume\n");
}

void ind_control_adopt(struct ind_control *control, const struct ind_config *config)
{
    if (control->followers)
        ind_followers_adopt(control->followers, config);
}

static void on_wake(evutil_socket_t socket, short what, void *context)
{
    struct ind_control *control = context;
    (void)socket;
    (void)what;
    ind_waker_drain(&control->waker);
    bool goes_on = control->actions.look(control->actions.context);
    if (control->followers)
        ind_followers_look(control->followers);
    if (!goes_on)
        event_base_loopbreak(control->base);
}

/* Takes up listening again, and reports where nobody can be let in. */
static void look_after_listener(struct ind_control *control)
{
    if (!control->listener)
        return;
    int probe = ind_socket_copy(control->waker.read_end), error = errno;
    (void)evconnlistener_enable(control->listener);
    if (probe >= 0) {
        close(probe);
    } else if (!ind_steady_reported_lately(&control->accept_reported, ind_steady_now(),
                                           REPORT_AGAIN * IND_SECOND)) {
        ind_report(control->reporter, IND_OWN_CONTROL_FAILED, NULL,
                   "the control socket takes nobody just now: %s; it is tried again every second",
                   strerror(error));
    }
}

static void on_quarter(evutil_socket_t socket, short what, void *context)
{
    struct ind_control *control = context;
    (void)socket;
    (void)what;
    control->actions.often(control->actions.context);
}

static void on_second(evutil_socket_t socket, short what, void *context)
{
    struct ind_control *control = context;
    (void)socket;
    (void)what;
    look_after_listener(control);
    ind_server_look(control->server);
    control->actions.second(control->actions.context);
}

static void on_signal(evutil_socket_t number, short what, void *context)
{
    const struct ind_control *control = context;
    const struct ind_control_actions *actions = &control->actions;
    (void)what;
    if (number != SIGHUP)
        actions->stop(actions->context);
    else if (!actions->ending(actions->context))
        actions->reload(actions->context);
}

/* ---- Made, opened, run, ended ---- */

const struct ind_waker *ind_control_waker(const struct ind_control *control)
{
    return &control->waker;
}

/* False with `reason` filled in. */
static bool listen_on(struct ind_control *control, const char *path, char *reason, size_t room)
{
    int socket = ind_unix_listen_stream(path, 0660);
    if (socket < 0) {
        snprintf(reason, room,
                 "cannot listen on %s: %s; status, follow, rotate and reload cannot "
                 "reach this collector",
                 path, strerror(errno));
        return false;
    }
    control->path = strdup(path);
    control->http = evhttp_new(control->base);
    struct evhttp_bound_socket *bound = control->http && control->path && control->followers
                                            ? evhttp_accept_socket_with_handle(control->http, socket)
                                            : NULL;
    if (!bound) {
        close(socket);
        snprintf(reason, room, "out of memory");
        return false;
    }
    control->listener = evhttp_bound_socket_get_listener(bound);
    evconnlistener_set_error_cb(control->listener, ind_answer_nobody_now);
    return true;
}

void ind_control_open(struct ind_control *control, struct ind_tap *tap, const struct ind_config *config,
                      const char *const *names)
{
    char path[4096], reason[4400];
    snprintf(path, sizeof path, "%s/" IND_CONTROL_SOCKET, config->state);
    control->followers = ind_followers_new(tap, config, names);
    if (!listen_on(control, path, reason, sizeof reason)) {
        ind_report(control->reporter, IND_OWN_CONTROL_FAILED, NULL, "no control socket: %s", reason);
        return;
    }
    evhttp_set_max_headers_size(control->http, 65536);
    evhttp_set_max_body_size(control->http, 65536);
    evhttp_set_cb(control->http, "/status", on_status, control);
    evhttp_set_cb(control->http, "/device", on_device, control);
    evhttp_set_cb(control->http, "/recent", on_recent, control);
    evhttp_set_cb(control->http, "/rules", on_rules, control);
    ind_orders_listen(&control->orders, control->http);
    evhttp_set_cb(control->http, "/follow", on_follow, control);
    evhttp_set_gencb(control->http, on_other, control);
}

void ind_control_run(struct ind_control *control)
{
    static const char ends[] = "the collector ends\n";
    /* What was done before counts as well. */
    ind_waker_wake(&control->waker);
    (void)event_base_dispatch(control->base);
    (void)ind_pending_pop(&control->for_status, &control->next_status);
    ind_pending_answer_all(&control->for_status, HTTP_SERVUNAVAIL, "text/plain", ends);
    ind_orders_end(&control->orders, ends);
    /* What was just answered is still to be sent. */
    (void)event_base_loop(control->base, EVLOOP_NONBLOCK);
}

static bool make(struct ind_control *control)
{
    static const int signals[SIGNALS] = {SIGTERM, SIGINT, SIGHUP};
    static const struct timeval second = {1, 0}, quarter = {0, 250000};
    control->base = event_base_new();
    if (!control->base || !ind_waker_open(&control->waker))
        return false;
    control->on_wake =
        event_new(control->base, control->waker.read_end, EV_READ | EV_PERSIST, on_wake, control);
    control->on_second = event_new(control->base, -1, EV_PERSIST, on_second, control);
    control->on_quarter = event_new(control->base, -1, EV_PERSIST, on_quarter, control);
    bool good = control->on_quarter && event_add(control->on_quarter, &quarter) == 0 && control->on_wake &&
                event_add(control->on_wake, NULL) == 0 && control->on_second &&
                event_add(control->on_second, &second) == 0;
    for (int i = 0; i < SIGNALS; i++) {
        control->on_signal[i] = evsignal_new(control->base, signals[i], on_signal, control);
        good &= control->on_signal[i] && event_add(control->on_signal[i], NULL) == 0;
    }
    return good;
}

struct ind_control *ind_control_new(const struct ind_control_actions *actions, struct ind_reporter *reporter)
{
    struct ind_control *control = calloc(1, sizeof *control);
    if (!control)
        return NULL;
    control->actions = *actions;
    control->orders.actions = &control->actions;
    control->reporter = reporter;
    control->waker = IND_WAKER_CLOSED;
    control->rows = ind_rows_new();
    if (control->rows && make(control))
        return control;
    ind_control_free(control);
    return NULL;
}

void ind_control_free(struct ind_control *control)
{
    if (!control)
        return;
    ind_followers_free(control->followers);
    ind_server_free(control->server);
    ind_rows_free(control->rows);
    if (control->http)
        evhttp_free(control->http);
    for (int i = 0; i < SIGNALS; i++)
        if (control->on_signal[i])
            event_free(control->on_signal[i]);
    if (control->on_wake)
        event_free(control->on_wake);
    free(control->last_status);
    free(control->last_metrics);
    if (control->on_second)
        event_free(control->on_second);
    if (control->on_quarter)
        event_free(control->on_quarter);
    if (control->base)
        event_base_free(control->base);
    if (control->path)
        (void)unlink(control->path);
    ind_waker_close(&control->waker);
    free(control->path);
    free(control);
}
