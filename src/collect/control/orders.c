#include "collect/control/orders.h"

#include "collect/control/answer.h"
#include "collect/control/query.h"

bool ind_is_too_late(const struct ind_control_actions *actions, struct evhttp_request *request)
{
    bool late = actions->ending(actions->context);
    if (late)
        ind_answer(request, HTTP_SERVUNAVAIL, "text/plain", "the collector ends\n");
    return late;
}

static bool may_act(const struct ind_orders *orders, struct evhttp_request *request)
{
    bool post = evhttp_request_get_command(request) == EVHTTP_REQ_POST;
    if (!post)
        ind_answer(request, HTTP_BADMETHOD, "text/plain", "this asks for something to be done: use POST\n");
    return post && !ind_is_too_late(orders->actions, request);
}

static void on_rotate(struct evhttp_request *request, void *context)
{
    struct ind_orders *orders = context;
    const char *query = ind_query_of(request);
    if (may_act(orders, request) && ind_pending_put_off(&orders->for_rotation, request, IND_AS_STATUS))
        orders->actions->rotate(orders->actions->context, ind_query_wants(query, "due"),
                                ind_query_wants(query, "clock-is-right"));
}

static void on_protect(struct evhttp_request *request, void *context)
{
    struct ind_orders *orders = context;
    struct ind_protect_query query;
    if (!may_act(orders, request))
        return;
    if (!ind_protect_query_read(ind_query_of(request), &query)) {
        ind_answer(request, HTTP_BADREQUEST, "text/plain",
                   "there are \"archive\", 64 times at most, \"why\" and \"off=1\"\n");
        return;
    }
    if (ind_pending_put_off(&orders->for_protection, request, IND_AS_STATUS))
        for (size_t i = 0; i < query.count; i++)
            orders->actions->protect(orders->actions->context, query.archives[i], !query.off, query.why);
    ind_protect_query_clear(&query);
}

static void on_reload(struct evhttp_request *request, void *context)
{
    struct ind_orders *orders = context;
    if (!may_act(orders, request))
        return;
    bool under_way = orders->actions->reloading(orders->actions->context);
    if (ind_pending_put_off(under_way ? &orders->next_reload : &orders->for_reload, request, IND_AS_STATUS) &&
        !under_way)
        orders->actions->reload(orders->actions->context);
}

static void pause_or_resume(struct ind_orders *orders, struct evhttp_request *request, bool pause)
{
    struct ind_pause_query query;
    const struct ind_control_actions *actions = orders->actions;
    const char *reason;
    char text[8192];
    if (!may_act(orders, request))
        return;
    if (!ind_pause_query_read(ind_query_of(request), &query, &reason)) {
        ind_answer(request, HTTP_BADREQUEST, "text/plain", reason);
        return;
    }
    int code =
        pause ? actions->pause(actions->context, query.listeners, query.count, query.after, text, sizeof text)
              : actions->resume(actions->context, query.listeners, query.count, text, sizeof text);
    ind_answer(request, code, code == HTTP_OK ? "application/json" : "text/plain; charset=utf-8", text);
    ind_pause_query_clear(&query);
}

static void on_pause(struct evhttp_request *request, void *context)
{
    pause_or_resume(context, request, true);
}

static void on_resume(struct evhttp_request *request, void *context)
{
    pause_or_resume(context, request, false);
}

static void ask_of_alerts(struct ind_orders *orders, struct evhttp_request *request,
                          enum ind_alert_order order)
{
    struct ind_alert_query query;
    const struct ind_control_actions *actions = orders->actions;
    char text[400];
    if (!may_act(orders, request))
        return;
    if (!ind_alert_query_read(ind_query_of(request), &query)) {
        ind_answer(request, HTTP_BADREQUEST, "text/plain",
                   "there are \"alert\", \"key\", \"who\", \"note\" and \"for\", in milliseconds\n");
        return;
    }
    const int code = actions->alert(actions->context, order, &query, text, sizeof text);
    ind_answer(request, code, code == HTTP_OK ? "application/json" : "text/plain; charset=utf-8", text);
    ind_alert_query_clear(&query);
}

static void on_ack(struct evhttp_request *request, void *context)
{
    ask_of_alerts(context, request, IND_ALERT_ORDER_ACK);
}

static void on_mute(struct evhttp_request *request, void *context)
{
    ask_of_alerts(context, request, IND_ALERT_ORDER_MUTE);
}

static void on_test(struct evhttp_request *request, void *context)
{
    ask_of_alerts(context, request, IND_ALERT_ORDER_TEST);
}

void ind_orders_listen(struct ind_orders *orders, struct evhttp *http)
{
    evhttp_set_cb(http, "/rotate", on_rotate, orders);
    evhttp_set_cb(http, "/protect", on_protect, orders);
    evhttp_set_cb(http, "/reload", on_reload, orders);
    evhttp_set_cb(http, "/pause", on_pause, orders);
    evhttp_set_cb(http, "/resume", on_resume, orders);
    evhttp_set_cb(http, "/alerts/ack", on_ack, orders);
    evhttp_set_cb(http, "/alerts/mute", on_mute, orders);
    evhttp_set_cb(http, "/alerts/test", on_test, orders);
}

void ind_orders_end(struct ind_orders *orders, const char *text)
{
    (void)ind_pending_pop(&orders->for_reload, &orders->next_reload);
    ind_pending_answer_all(&orders->for_rotation, HTTP_SERVUNAVAIL, "text/plain", text);
    ind_pending_answer_all(&orders->for_protection, HTTP_SERVUNAVAIL, "text/plain", text);
    ind_pending_answer_all(&orders->for_reload, HTTP_SERVUNAVAIL, "text/plain", text);
}
