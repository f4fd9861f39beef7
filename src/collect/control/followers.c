#include "collect/control/followers.h"

#include "collect/control/answer.h"
#include "collect/intake/viewer.h"

#include <event2/buffer.h>
#include <event2/bufferevent.h>
#include <event2/event.h>
#include <event2/keyvalq_struct.h>
#include <stdlib.h>
#include <utlist.h>

enum { MOST_FOLLOWERS = 32, MOST_UNREAD = 1 << 20, ROOM = 1 + IND_LINE_MOST };

struct follower {
    struct follower *prev, *next;
    struct ind_followers *all;
    struct evhttp_request *request;
    char *when, *line; /* as asked */
    struct ind_conditions *set;
    ind_condition condition;
    struct ind_answers answers;
    enum ind_layout layout;
    bool by_template;
    struct ind_template template;
    struct ind_path_clock clock;
    struct ind_line_clock line_clock;
    struct evbuffer *lines;
    uint64_t skipped;
};

struct ind_followers {
    struct ind_tap *tap;
    const struct ind_config *config; /* of the present rules */
    const char *const *names;
    struct follower *list;
    size_t count;
    char *room;                /* for a line */
    struct ind_viewer *viewer; /* by the present rules; NULL: not made yet */
};

struct ind_followers *ind_followers_new(struct ind_tap *tap, const struct ind_config *config,
                                        const char *const *names)
{
    struct ind_followers *followers = calloc(1, sizeof *followers);
    if (!followers || !(followers->room = malloc(ROOM))) {
        free(followers);
        return NULL;
    }
    followers->tap = tap;
    followers->config = config;
    followers->names = names;
    return followers;
}

static void follower_free(struct follower *follower)
{
    ind_conditions_free(follower->set);
    ind_answers_free(&follower->answers);
    free(follower->when);
    free(follower->line);
    if (follower->lines)
        evbuffer_free(follower->lines);
    free(follower);
}

/* Says which messages can be of use to those that are there now. */
static void want(struct ind_followers *followers)
{
    struct ind_pris pris = {{0}};
    struct follower *follower;
    ind_edits_pris(&followers->config->edits, &pris);
    DL_FOREACH(followers->list, follower)
    ind_condition_pris(follower->set, follower->condition, &pris);
    ind_tap_want(followers->tap, &pris);
}

static void leave(struct follower *follower)
{
    struct ind_followers *all = follower->all;
    DL_DELETE(all->list, follower);
    all->count--;
    ind_tap_open(all->tap, false);
    follower_free(follower);
}

/* A request whose answer was under way is ours once libevent has taken it off its connection. */
static void on_close(struct evhttp_connection *connection, void *context)
{
    struct follower *follower = context;
    (void)connection;
    if (!evhttp_request_get_connection(follower->request))
        evhttp_request_free(follower->request);
    struct ind_followers *all = follower->all;
    leave(follower);
    want(all);
}

void ind_followers_free(struct ind_followers *followers)
{
    if (!followers)
        return;
    while (followers->list) {
        struct follower *follower = followers->list;
        evhttp_connection_set_closecb(evhttp_request_get_connection(follower->request), NULL, NULL);
        evhttp_send_reply_end(follower->request);
        leave(follower);
    }
    ind_viewer_free(followers->viewer);
    free(followers->room);
    free(followers);
}

/* Compiles what was asked against the present rules. False with *mistake made, or memory out. */
static bool compile(struct follower *follower, struct ind_mistake *mistake)
{
    const struct ind_config *config = follower->all->config;
    struct ind_conditions *set = NULL;
    ind_condition condition;
    if (!ind_config_condition(config, ind_slice_of(follower->when), &set, &condition, mistake)) {
        ind_conditions_free(set);
        return false;
    }
    struct ind_answers answers;
    if (!ind_answers_begin(&answers, set)) {
        ind_answers_free(&answers);
        ind_conditions_free(set);
        return false;
    }
    ind_conditions_free(follower->set);
    ind_answers_free(&follower->answers);
    follower->set = set;
    follower->condition = condition;
    follower->answers = answers;
    follower->clock = (struct ind_path_clock){.zone = config->zone, .times = config->times};
    follower->line_clock = (struct ind_line_clock){.zone = config->times};
    return true;
}

static bool read_layout(struct follower *follower, struct ind_mistake *mistake)
{
    follower->layout = IND_LAYOUT_PLAIN;
    if (!follower->line)
        return true;
    int layout = ind_layout_read(ind_slice_of(follower->line));
    if (layout >= 0) {
        follower->layout = (enum ind_layout)layout;
        return true;
    }
    follower->by_template = true;
    if (!strchr(follower->line, '{')) {
        ind_mistake_say(
            mistake, 0, 0, "unknown layout \"", ind_slice_of(follower->line),
            "\"; expected plain, json, rfc5424, raw, or a template such as \"{time} {device} {text}\"",
            IND_NOTHING, "");
        return false;
    }
    return ind_template_read(ind_slice_of(follower->line), IND_TEMPLATE_LINE, &follower->template, mistake);
}

static struct follower *new_follower(struct ind_followers *followers, struct evhttp_request *request)
{
    struct evkeyvalq query;
    const char *uri = evhttp_uri_get_query(evhttp_request_get_evhttp_uri(request));
    struct follower *follower = calloc(1, sizeof *follower);
    if (!follower)
        return NULL;
    follower->all = followers;
    follower->request = request;
    follower->lines = evbuffer_new();
    if (uri && evhttp_parse_query_str(uri, &query) == 0) {
        const char *when = evhttp_find_header(&query, "when"), *line = evhttp_find_header(&query, "layout");
        follower->when = when ? strdup(when) : NULL;
        follower->line = line ? strdup(line) : NULL;
        evhttp_clear_headers(&query);
    }
    return follower;
}

void ind_followers_add(struct ind_followers *followers, struct evhttp_request *request)
{
    struct ind_mistake mistake = {0};
    if (followers->count == MOST_FOLLOWERS) {
        ind_answer(request, HTTP_SERVUNAVAIL, "text/plain", "too many follow already; end one\n");
        return;
    }
    struct follower *follower = new_follower(followers, request);
    if (!follower || !follower->lines || !read_layout(follower, &mistake) || !compile(follower, &mistake)) {
        char why[sizeof mistake.text + 1];
        snprintf(why, sizeof why, "%s\n", mistake.made ? mistake.text : "out of memory");
        ind_answer(request, HTTP_BADREQUEST, "text/plain", why);
        if (follower)
            follower_free(follower);
        return;
    }
    DL_APPEND(followers->list, follower);
    followers->count++;
    want(followers);
    ind_tap_open(followers->tap, true);
    struct evhttp_connection *connection = evhttp_request_get_connection(request);
    evhttp_connection_set_closecb(connection, on_close, follower);
    evhttp_add_header(evhttp_request_get_output_headers(request), "Content-Type",
                      "text/plain; charset=utf-8");
    evhttp_send_reply_start(request, HTTP_OK, "OK");
    /* So that an end at the other side is seen also while nothing is sent. */
    struct bufferevent *stream = evhttp_connection_get_bufferevent(connection);
    bufferevent_set_timeouts(stream, NULL, NULL); /* however long nothing comes */
    bufferevent_enable(stream, EV_READ);
}

static void offer(struct follower *follower, struct ind_message *message)
{
    struct ind_followers *all = follower->all;
    ind_answers_next(&follower->answers);
    if (!ind_condition_holds(follower->set, follower->condition, message, &follower->answers))
        return;
    struct ind_buffer line = ind_buffer_on(all->room, ROOM);
    bool fields = follower->by_template ? follower->template.has_field : follower->layout == IND_LAYOUT_JSON;
    message->payload = fields ? ind_answers_payload(&follower->answers, message) : NULL;
    ind_buffer_byte(&line, '=');
    if (follower->by_template) {
        (void)ind_line_write_template(&follower->template, message, &follower->clock, &line);
    } else {
        (void)ind_line_write(follower->layout, message, &follower->line_clock, &line);
    }
    evbuffer_add(follower->lines, line.at, line.length);
}

/* Reads the message as the receivers do, on this thread. All edits but those that remember, and past a drop:
 * whoever follows sees what arrives, but nothing that a mask hides. Without memory for that nothing is shown.
 */
static void show(void *context, const struct ind_record *record, const char *bytes)
{
    static const struct ind_edit_call call = {.go_on = true, .keep_original = true};
    struct ind_followers *followers = context;
    if (!followers->viewer && !(followers->viewer = ind_viewer_new(followers->config)))
        return;
    struct ind_sender *sender = ind_viewer_sender(followers->viewer, &record->sender);
    if (!sender->allowed)
        return;
    const struct ind_origin origin = {.transport = (enum ind_transport)record->transport,
                                      .cut = record->cut,
                                      .listener = ind_slice_of(followers->names[record->listener]),
                                      .certificate = ind_record_certificate(record, bytes),
                                      .sender = sender,
                                      .received = record->received,
                                      .now = record->received};
    const enum ind_line_form form = record->transport == IND_TRANSPORT_NATS ? IND_LINES_JSON : IND_LINES_RAW;
    struct ind_message *message =
        ind_viewer_read(followers->viewer, form, (struct ind_slice){bytes, record->length}, &origin);
    if (message->original.length == 0)
        return;
    ind_viewer_edit(followers->viewer, &origin, &call);
    struct follower *follower;
    DL_FOREACH(followers->list, follower)
    offer(follower, message);
}

static void send_lines(struct follower *follower, uint64_t skipped)
{
    struct evhttp_connection *connection = evhttp_request_get_connection(follower->request);
    struct evbuffer *output = bufferevent_get_output(evhttp_connection_get_bufferevent(connection));
    follower->skipped += skipped;
    if (evbuffer_get_length(output) > MOST_UNREAD) {
        /* It does not read as fast as messages come. */
        size_t length = evbuffer_get_length(follower->lines);
        char *line;
        while (length > 0 && (line = evbuffer_readln(follower->lines, NULL, EVBUFFER_EOL_LF))) {
            follower->skipped++;
            free(line);
        }
        return;
    }
    if (follower->skipped) {
        evbuffer_add_printf(follower->lines, "!%llu\n", (unsigned long long)follower->skipped);
        follower->skipped = 0;
    }
    if (evbuffer_get_length(follower->lines) > 0)
        evhttp_send_reply_chunk(follower->request, follower->lines);
}

void ind_followers_look(struct ind_followers *followers)
{
    struct follower *follower, *next;
    if (!followers->list)
        return;
    uint64_t skipped = ind_tap_read(followers->tap, show, followers);
    DL_FOREACH_SAFE(followers->list, follower, next)
    send_lines(follower, skipped);
}

void ind_followers_adopt(struct ind_followers *followers, const struct ind_config *config)
{
    ind_viewer_free(followers->viewer);
    followers->viewer = NULL;
    followers->config = config;
    struct follower *follower, *next;
    DL_FOREACH_SAFE(followers->list, follower, next)
    {
        struct ind_mistake mistake = {0};
        if (compile(follower, &mistake))
            continue;
        /* A named condition it used is gone. */
        evhttp_connection_set_closecb(evhttp_request_get_connection(follower->request), NULL, NULL);
        evbuffer_add_printf(follower->lines, "?%s\n", mistake.made ? mistake.text : "out of memory");
        evhttp_send_reply_chunk(follower->request, follower->lines);
        evhttp_send_reply_end(follower->request);
        leave(follower);
    }
    want(followers);
}
