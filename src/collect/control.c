/* collect/control.c: the control thread: signals, the control socket, reloads, and the answers to all of
 * them.
 *
 * It never waits for another thread: what it needs from them it asks for, goes on, and is knocked at when it
 * is there. The control socket speaks HTTP (docs/formats.md):
 *
 *     GET  /status                 the ledger and the rest, as JSON
 *     GET  /follow?when=&layout=   messages as they come
 *     POST /rotate?due=1           rotates live files
 *     POST /reload                 reads the configuration again */
#define _GNU_SOURCE
#include "collect/clock.h"
#include "collect/followers.h"
#include "collect/inside.h"
#include "collect/status.h"
#include "core/message/names.h"
#include "net/socket.h"

#include <errno.h>
#include <event2/buffer.h>
#include <event2/event.h>
#include <event2/keyvalq_struct.h>
#include <event2/listener.h>
#include <signal.h>
#include <stdlib.h>
#include <unistd.h>
#include <utlist.h>

enum { MOST_PENDING = 256, MOST_DIAGNOSTICS = 10, SIGNALS = 3, TELL_AGAIN_SECONDS = 60 };

/* Somebody waits for an answer. `request` is NULL once it has gone away. */
struct pending {
    struct pending *prev, *next;
    struct evhttp_request *request;
};

struct ind_control {
    struct ind_collector *collector;
    struct event_base *base;
    struct event *on_knock, *on_second, *on_signal[SIGNALS];
    int knock[2];
    struct evhttp *http;
    struct evconnlistener *listener; /* its; NULL: none yet */
    struct ind_steady told_accept;
    char *path; /* of the control socket */
    struct ind_followers *followers;

    /* Those that are asked while an answer is under way may know more than it tells: they have the next one.
     */
    struct pending *for_status, *next_status, *for_rotation, *for_reload, *next_reload;
    struct ind_ledger_snapshot *sheets;
    struct ind_marker *sheet_marks, *rule_marks;
    bool sheets_asked, rotation_asked;
    struct ind_rules *before; /* the rules that are being replaced */
    bool reloaded;            /* the new ones are in force; `before` may still be in use by housekeeping */
    bool reload_again;        /* asked for while one was under way */
};

/* ---- Answers ---- */

static void on_gone(struct evhttp_connection *connection, void *context)
{
    struct pending *pending = context;
    (void)connection;
    if (!evhttp_request_get_connection(pending->request))
        evhttp_request_free(pending->request);
    pending->request = NULL;
}

/* False, and answered, where there is no room for it. */
static bool put_off(struct pending **list, struct evhttp_request *request)
{
    struct pending *pending, *other;
    size_t count;
    DL_COUNT(*list, other, count);
    pending = count < MOST_PENDING ? calloc(1, sizeof *pending) : NULL;
    if (!pending) {
        ind_answer(request, HTTP_SERVUNAVAIL, "text/plain", "too many ask at once; try again\n");
        return false;
    }
    pending->request = request;
    evhttp_connection_set_closecb(evhttp_request_get_connection(request), on_gone, pending);
    DL_APPEND(*list, pending);
    return true;
}

static void answer_all(struct pending **list, int code, const char *type, const char *text)
{
    struct pending *pending, *next;
    DL_FOREACH_SAFE(*list, pending, next)
    {
        DL_DELETE(*list, pending);
        if (pending->request) {
            evhttp_connection_set_closecb(evhttp_request_get_connection(pending->request), NULL, NULL);
            ind_answer(pending->request, code, type, text);
        }
        free(pending);
    }
}

/* True where some had the next one to wait for. */
static bool take_next(struct pending **list, struct pending **next)
{
    bool any = *next != NULL;
    DL_CONCAT(*list, *next);
    *next = NULL;
    return any;
}

static bool wants(struct evhttp_request *request, const char *key)
{
    struct evkeyvalq query;
    const char *uri = evhttp_uri_get_query(evhttp_request_get_evhttp_uri(request));
    if (!uri || evhttp_parse_query_str(uri, &query) != 0)
        return false;
    const char *value = evhttp_find_header(&query, key);
    bool wanted = value && strcmp(value, "1") == 0;
    evhttp_clear_headers(&query);
    return wanted;
}

/* ---- Status ---- */

static void ask_for_sheets(struct ind_control *control)
{
    struct ind_collector *collector = control->collector;
    memset(control->sheets, 0, collector->intakes * sizeof *control->sheets);
    atomic_store(&collector->sheets_out, collector->intakes);
    control->sheets_asked = true;
    for (unsigned i = 0; i < collector->intakes; i++) {
        control->sheet_marks[i] =
            (struct ind_marker){.kind = IND_MARKER_SNAPSHOT, .sheet = &control->sheets[i]};
        ind_receiver_order_snapshot(collector->receivers[i], &control->sheet_marks[i]);
    }
}

static void give_status(struct ind_control *control)
{
    struct ind_collector *collector = control->collector;
    if (!control->sheets_asked || atomic_load(&collector->sheets_out) > 0)
        return;
    control->sheets_asked = false;
    char *text = ind_status_text(collector, control->sheets, ind_now());
    answer_all(&control->for_status, text ? HTTP_OK : HTTP_INTERNAL, "application/json",
               text ? text : "out of memory\n");
    free(text);
    for (unsigned i = 0; i < collector->intakes; i++) {
        free(control->sheets[i].ledgers);
        free(control->sheets[i].last);
        free(control->sheets[i].lags);
        free(control->sheets[i].routes);
        free(control->sheets[i].takers);
        ind_edit_counts_free(&control->sheets[i].edits);
    }
    if (take_next(&control->for_status, &control->next_status))
        ask_for_sheets(control);
}

/* What is asked of the others once they are told to end may never be done. */
static bool too_late(struct ind_control *control, struct evhttp_request *request)
{
    bool late = atomic_load(&control->collector->stop);
    if (late)
        ind_answer(request, HTTP_SERVUNAVAIL, "text/plain", "the collector ends\n");
    return late;
}

static void on_status(struct evhttp_request *request, void *context)
{
    struct ind_control *control = context;
    if (too_late(control, request))
        return;
    bool asked = control->sheets_asked;
    if (put_off(asked ? &control->next_status : &control->for_status, request) && !asked)
        ask_for_sheets(control);
}

static bool may_act(struct ind_control *control, struct evhttp_request *request)
{
    bool post = evhttp_request_get_command(request) == EVHTTP_REQ_POST;
    if (!post)
        ind_answer(request, HTTP_BADMETHOD, "text/plain", "this asks for something to be done: use POST\n");
    return post && !too_late(control, request);
}

/* ---- Rotation ---- */

static void on_rotate(struct evhttp_request *request, void *context)
{
    struct ind_control *control = context;
    struct ind_collector *collector = control->collector;
    if (!may_act(control, request))
        return;
    if (wants(request, "clock-is-right"))
        atomic_store(&collector->clock_is_right, true);
    if (!put_off(&control->for_rotation, request))
        return;
    pthread_mutex_lock(&collector->ordering);
    /* Of two that are asked for at once, the one that does more is done. */
    collector->rotate_only_due =
        wants(request, "due") && (!collector->rotate_asked || collector->rotate_only_due);
    collector->rotate_asked = true;
    pthread_mutex_unlock(&collector->ordering);
    ind_rings_wake(collector->rings);
}

static void give_rotation(struct ind_control *control)
{
    struct ind_collector *collector = control->collector;
    char text[120];
    pthread_mutex_lock(&collector->ordering);
    bool done = collector->rotated && !collector->rotate_asked;
    size_t count = collector->rotated_count, failed = collector->rotated_failed;
    collector->rotated = collector->rotated && !done;
    if (done)
        collector->rotated_count = collector->rotated_failed = 0;
    pthread_mutex_unlock(&collector->ordering);
    if (!done)
        return;
    snprintf(text, sizeof text, "{\"rotated\":%zu,\"failed\":%zu}\n", count, failed);
    answer_all(&control->for_rotation, HTTP_OK, "application/json", text);
}

/* ---- Reload ---- */

static void write_diagnostics(const struct ind_diagnostics *diagnostics, struct evbuffer *out)
{
    char *text = NULL;
    size_t size = 0;
    FILE *memory = open_memstream(&text, &size);
    if (!memory)
        return;
    for (size_t i = 0; i < diagnostics->count; i++)
        if (!diagnostics->list[i].warning)
            ind_diagnostic_print(&diagnostics->list[i], memory);
    fclose(memory);
    evbuffer_add(out, text, size);
    free(text);
}

static void report_diagnostics(struct ind_control *control, const struct ind_diagnostics *diagnostics)
{
    size_t told = 0;
    for (size_t i = 0; i < diagnostics->count && told < MOST_DIAGNOSTICS; i++) {
        const struct ind_diagnostic *diagnostic = &diagnostics->list[i];
        if (diagnostic->warning)
            continue;
        told++;
        if (diagnostic->source)
            ind_collect_tell(control->collector, IND_SEVERITY_ERROR, "reload: %s:%zu:%zu: %s",
                             diagnostic->source->path, diagnostic->line, diagnostic->column, diagnostic->text);
        else
            ind_collect_tell(control->collector, IND_SEVERITY_ERROR, "reload: %s", diagnostic->text);
    }
}

/* What cannot change while we run. NULL: nothing of it does. */
static const char *needs_restart(const struct ind_config *now, const struct ind_config *then)
{
    return strcmp(now->store, then->store) != 0      ? "store"
           : strcmp(now->state, then->state) != 0    ? "state"
           : now->threads != then->threads           ? "threads"
           : now->open_files != then->open_files     ? "open files"
           : now->burst_buffer != then->burst_buffer ? "burst buffer"
                                                     : NULL;
}

static void fail_reload(struct ind_control *control, const char *reason)
{
    char text[1600];
    ind_collect_tell(control->collector, IND_SEVERITY_ERROR, "reload: %s; the rules stay as they were",
                     reason);
    snprintf(text, sizeof text, "%s\n", reason);
    answer_all(&control->for_reload, 409, "text/plain; charset=utf-8", text);
}

static struct ind_rules *prepare_rules(struct ind_control *control, char *reason, size_t room)
{
    struct ind_collector *collector = control->collector;
    struct ind_loaded loaded;
    ind_config_load(collector->settings->config_path, &loaded);
    struct ind_rules *rules = NULL;
    *reason = '\0';
    if (!loaded.config) {
        struct evbuffer *text = evbuffer_new();
        write_diagnostics(&loaded.diagnostics, text);
        evbuffer_add(text, "", 1);
        report_diagnostics(control, &loaded.diagnostics);
        ind_collect_tell(collector, IND_SEVERITY_ERROR, "reload: the rules stay as they were");
        answer_all(&control->for_reload, 409, "text/plain; charset=utf-8", (char *)evbuffer_pullup(text, -1));
        evbuffer_free(text);
    } else if (needs_restart(collector->rules->config, loaded.config)) {
        snprintf(reason, room, "\"%s\" has changed: this needs a restart",
                 needs_restart(collector->rules->config, loaded.config));
    } else {
        rules = ind_rules_prepare(collector, &loaded, loaded.config, reason, room);
    }
    ind_loaded_free(&loaded);
    return rules;
}

/* From here on nothing can fail. */
static void commit_rules(struct ind_control *control, struct ind_rules *rules)
{
    struct ind_collector *collector = control->collector;
    control->before = collector->rules;
    control->reloaded = false;
    collector->rules = rules;
    for (size_t i = 0; i < rules->port_count; i++)
        atomic_store(&rules->ports[i]->drop, rules->config->listeners[rules->listener_of[i]].drop);
    atomic_store(&collector->receivers_behind, collector->intakes);
    atomic_store(&collector->writer_behind, true);
    atomic_store(&collector->keeper_behind, true);
    for (unsigned i = 0; i < collector->intakes; i++) {
        control->rule_marks[i] = (struct ind_marker){.kind = IND_MARKER_RULES, .rules = rules};
        ind_receiver_order_rules(collector->receivers[i], &control->rule_marks[i]);
    }
    ind_followers_turn(control->followers);
}

static void reload(struct ind_control *control)
{
    char reason[1400];
    if (control->before) {
        control->reload_again = true;
        return;
    }
    struct ind_rules *rules = prepare_rules(control, reason, sizeof reason);
    if (rules)
        commit_rules(control, rules);
    else if (*reason)
        fail_reload(control, reason);
}

static void finish_reload(struct ind_control *control)
{
    struct ind_collector *collector = control->collector;
    if (!control->before)
        return;
    if (!control->reloaded && atomic_load(&collector->receivers_behind) == 0 &&
        !atomic_load(&collector->writer_behind)) {
        char text[160];
        control->reloaded = true;
        if (!atomic_load(&collector->stop)) /* see may_turn in receiver.c */
            ind_ports_close_old(collector, collector->rules);
        ind_collect_tell(collector, IND_SEVERITY_INFO, "reloaded: the new rules are in force");
        snprintf(text, sizeof text, "{\"listeners\":%zu,\"devices\":%zu,\"routes\":%zu}\n",
                 collector->rules->config->listener_count,
                 ind_devices_count(collector->rules->config->devices), collector->rules->config->route_count);
        answer_all(&control->for_reload, HTTP_OK, "application/json", text);
    }
    if (!control->reloaded || atomic_load(&collector->keeper_behind))
        return;
    ind_rules_free(collector, control->before);
    control->before = NULL;
    if (take_next(&control->for_reload, &control->next_reload) || control->reload_again) {
        control->reload_again = false;
        reload(control);
    }
}

static void on_reload(struct evhttp_request *request, void *context)
{
    struct ind_control *control = context;
    if (!may_act(control, request))
        return;
    bool under_way = control->before != NULL;
    if (put_off(under_way ? &control->next_reload : &control->for_reload, request) && !under_way)
        reload(control);
}

/* ---- Follow, and the rest ---- */

static void on_follow(struct evhttp_request *request, void *context)
{
    ind_followers_add(((struct ind_control *)context)->followers, request);
}

static void on_other(struct evhttp_request *request, void *context)
{
    (void)context;
    ind_answer(request, HTTP_NOTFOUND, "text/plain", "there are /status, /follow, /rotate and /reload\n");
}

static void on_knock(evutil_socket_t socket, short what, void *context)
{
    struct ind_control *control = context;
    char bytes[256];
    (void)what;
    while (read(socket, bytes, sizeof bytes) == (ssize_t)sizeof bytes)
        ;
    give_status(control);
    give_rotation(control);
    finish_reload(control);
    if (control->followers)
        ind_followers_feed(control->followers);
    if (atomic_load(&control->collector->written))
        event_base_loopbreak(control->base);
}

/* Without a descriptor for whoever knocks: asking again at once would only fill the processor. The next
 * second sees further. */
static void on_accept_failed(struct evconnlistener *listener, void *http)
{
    (void)http;
    (void)evconnlistener_disable(listener);
}

/* Takes up listening again, and tells where nobody can be let in. */
static void look_after_listener(struct ind_control *control)
{
    if (!control->listener)
        return;
    int probe = ind_socket_copy(control->knock[0]), error = errno;
    (void)evconnlistener_enable(control->listener);
    if (probe >= 0) {
        close(probe);
    } else if (!ind_steady_told_lately(&control->told_accept, ind_steady_now(),
                                       TELL_AGAIN_SECONDS * IND_SECOND)) {
        ind_collect_tell(control->collector, IND_SEVERITY_WARNING,
                         "the control socket takes nobody just now: %s; it is tried again every second",
                         strerror(error));
    }
}

/* So many at once that they find room; the others have their turn a second later. */
static void on_second(evutil_socket_t socket, short what, void *context)
{
    enum { MOST_NEWS = 256 };
    struct ind_control *control = context;
    (void)socket;
    (void)what;
    look_after_listener(control);
    if (control->collector->recalls && control->collector->settings->file_count == 0)
        (void)ind_edit_states_report(control->collector->recalls, ind_steady_now(), false, MOST_NEWS);
}

static void on_signal(evutil_socket_t number, short what, void *context)
{
    struct ind_control *control = context;
    struct ind_collector *collector = control->collector;
    (void)what;
    if (number == SIGHUP && collector->settings->file_count == 0) {
        if (!atomic_load(&collector->stop))
            reload(control);
        return;
    }
    atomic_store(&collector->stop, true);
    for (unsigned i = 0; i < collector->intakes; i++)
        if (collector->receivers[i])
            ind_receiver_wake(collector->receivers[i]);
}

void ind_control_wake(struct ind_control *control)
{
    while (write(control->knock[1], "", 1) < 0 && errno == EINTR)
        ;
}

/* Without it the collector does its work all the same. */
void ind_control_open(struct ind_control *control)
{
    struct ind_collector *collector = control->collector;
    char path[4096];
    snprintf(path, sizeof path, "%s/" IND_CONTROL_SOCKET, collector->rules->config->state);
    int fd = ind_unix_listen_stream(path);
    if (fd < 0) {
        ind_collect_tell(
            collector, IND_SEVERITY_WARNING,
            "no control socket: cannot listen on %s: %s; status, follow, rotate and reload cannot "
            "reach this collector",
            path, strerror(errno));
        return;
    }
    control->path = strdup(path);
    control->http = evhttp_new(control->base);
    control->followers = ind_followers_new(collector);
    struct evhttp_bound_socket *bound =
        control->http && control->followers ? evhttp_accept_socket_with_handle(control->http, fd) : NULL;
    if (!bound) {
        close(fd);
        ind_collect_tell(collector, IND_SEVERITY_WARNING, "no control socket: out of memory");
        return;
    }
    control->listener = evhttp_bound_socket_get_listener(bound);
    evconnlistener_set_error_cb(control->listener, on_accept_failed);
    evhttp_set_max_headers_size(control->http, 65536);
    evhttp_set_max_body_size(control->http, 65536);
    evhttp_set_cb(control->http, "/status", on_status, control);
    evhttp_set_cb(control->http, "/rotate", on_rotate, control);
    evhttp_set_cb(control->http, "/reload", on_reload, control);
    evhttp_set_cb(control->http, "/follow", on_follow, control);
    evhttp_set_gencb(control->http, on_other, control);
}

void ind_control_run(struct ind_control *control)
{
    /* What had been knocked before counts as well. */
    ind_control_wake(control);
    (void)event_base_dispatch(control->base);
    (void)take_next(&control->for_status, &control->next_status);
    (void)take_next(&control->for_reload, &control->next_reload);
    answer_all(&control->for_status, HTTP_SERVUNAVAIL, "text/plain", "the collector ends\n");
    answer_all(&control->for_rotation, HTTP_SERVUNAVAIL, "text/plain", "the collector ends\n");
    answer_all(&control->for_reload, HTTP_SERVUNAVAIL, "text/plain", "the collector ends\n");
    /* What was just answered is still to be sent. */
    (void)event_base_loop(control->base, EVLOOP_NONBLOCK);
}

static bool make(struct ind_control *control)
{
    static const int signals[SIGNALS] = {SIGTERM, SIGINT, SIGHUP};
    unsigned intakes = control->collector->intakes;
    if (pipe(control->knock) != 0)
        return false;
    ind_socket_set_flags(control->knock[0]);
    ind_socket_set_flags(control->knock[1]);
    control->base = event_base_new();
    control->sheets = calloc(intakes, sizeof *control->sheets);
    control->sheet_marks = calloc(intakes, sizeof *control->sheet_marks);
    control->rule_marks = calloc(intakes, sizeof *control->rule_marks);
    if (!control->base || !control->sheets || !control->sheet_marks || !control->rule_marks)
        return false;
    control->on_knock = event_new(control->base, control->knock[0], EV_READ | EV_PERSIST, on_knock, control);
    static const struct timeval second = {1, 0};
    control->on_second = event_new(control->base, -1, EV_PERSIST, on_second, control);
    bool good = control->on_knock && event_add(control->on_knock, NULL) == 0 && control->on_second &&
                event_add(control->on_second, &second) == 0;
    for (int i = 0; i < SIGNALS; i++) {
        control->on_signal[i] = evsignal_new(control->base, signals[i], on_signal, control);
        good &= control->on_signal[i] && event_add(control->on_signal[i], NULL) == 0;
    }
    return good;
}

struct ind_control *ind_control_new(struct ind_collector *collector)
{
    struct ind_control *control = calloc(1, sizeof *control);
    if (!control)
        return NULL;
    control->collector = collector;
    control->knock[0] = control->knock[1] = -1;
    if (make(control))
        return control;
    ind_control_free(control);
    return NULL;
}

void ind_control_free(struct ind_control *control)
{
    if (!control)
        return;
    ind_followers_free(control->followers);
    if (control->http)
        evhttp_free(control->http);
    for (int i = 0; i < SIGNALS; i++)
        if (control->on_signal[i])
            event_free(control->on_signal[i]);
    if (control->on_knock)
        event_free(control->on_knock);
    if (control->on_second)
        event_free(control->on_second);
    if (control->base)
        event_base_free(control->base);
    if (control->path)
        (void)unlink(control->path);
    for (int i = 0; i < 2; i++)
        if (control->knock[i] >= 0)
            close(control->knock[i]);
    ind_rules_free(control->collector, control->before);
    free(control->path);
    free(control->sheets);
    free(control->sheet_marks);
    free(control->rule_marks);
    free(control);
}
