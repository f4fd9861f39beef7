#include "cli/watch_ask.h"

#include "cli/control_client.h"
#include "cli/grown.h"
#include "collect/runtime/clock.h"
#include "thread/mutex.h"

#include <curl/curl.h>
#include <signal.h>
#include <stdatomic.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

/* MOST_WAITING: bytes of lines that nobody has taken yet; more are counted only. */
enum { MOST_WAITING = 256 * 1024, MOST_LINE = 4096, AGAIN = 500, EVERY = 1000, A_SECOND = 512 * 1024 };

struct ind_watch_ask {
    const struct ind_config *config;
    pthread_t threads[2];
    unsigned thread_count;
    atomic_bool stop;
    atomic_uint question; /* how many there were */

    struct ind_mutex mutex;
    struct ind_condition_variable changed;
    char *status IND_GUARDED_BY(mutex); /* the last answer; NULL: none, or taken */
    bool answered IND_GUARDED_BY(mutex), none IND_GUARDED_BY(mutex);
    char *when IND_GUARDED_BY(mutex);
    struct ind_grown lines IND_GUARDED_BY(mutex);
    uint64_t skipped IND_GUARDED_BY(mutex);

    struct ind_grown line; /* of the thread that follows */
    unsigned asked;
    struct ind_steady before; /* of whoever takes: the answer before */
};

/* ---- The status ---- */

/* Until then, or until it is to end. */
static void rest(struct ind_watch_ask *ask, long milliseconds)
{
    const struct timespec deadline = ind_deadline((int)milliseconds);
    const unsigned question = atomic_load(&ask->question);
    ind_mutex_lock(&ask->mutex);
    while (!atomic_load(&ask->stop) && question == atomic_load(&ask->question) &&
           ind_condition_variable_wait_until(&ask->changed, &ask->mutex, &deadline))
        ;
    ind_mutex_unlock(&ask->mutex);
}

/* The more devices there are, the less often they are asked for: it costs the collector 20 ms for ten
 * thousand. */
static long pause_after(const char *text)
{
    return EVERY * (1 + (long)((text ? strlen(text) : 0) / A_SECOND));
}

static void *ask_status(void *context)
{
    struct ind_watch_ask *ask = context;
    while (!atomic_load(&ask->stop)) {
        char *text = NULL;
        const enum ind_control_client_result asked =
            ind_control_client_ask(ask->config, false, "/status", &text);
        const long pause = pause_after(text);
        ind_mutex_lock(&ask->mutex);
        free(ask->status);
        ask->status = asked == IND_CONTROL_CLIENT_ANSWERED ? text : NULL;
        ask->answered = true;
        ask->none = ask->status == NULL;
        ind_mutex_unlock(&ask->mutex);
        if (asked != IND_CONTROL_CLIENT_ANSWERED)
            free(text);
        rest(ask, pause);
    }
    return NULL;
}

/* ---- Messages ---- */

static void keep_line(struct ind_watch_ask *ask)
{
    const struct ind_grown *line = &ask->line;
    if (line->length < 2 || line->at[0] != '=')
        return;
    ind_mutex_lock(&ask->mutex);
    if (ask->lines.length + line->length > MOST_WAITING ||
        !ind_grown_add(&ask->lines, line->at + 1, line->length - 1) || !ind_grown_add(&ask->lines, "\n", 1))
        ask->skipped++;
    ind_mutex_unlock(&ask->mutex);
}

static bool goes_on(const struct ind_watch_ask *ask)
{
    return !atomic_load(&ask->stop) && ask->asked == atomic_load(&ask->question);
}

static bool receive(void *context, const char *bytes, size_t length)
{
    struct ind_watch_ask *ask = context;
    while (length > 0 && goes_on(ask)) {
        const char *newline = memchr(bytes, '\n', length);
        const size_t part = newline ? (size_t)(newline - bytes) : length;
        const size_t room = MOST_LINE - ask->line.length;
        (void)ind_grown_add(&ask->line, bytes, part < room ? part : room);
        bytes += part + (newline != NULL);
        length -= part + (newline != NULL);
        if (newline) {
            keep_line(ask);
            ask->line.length = 0;
        }
    }
    return goes_on(ask);
}

static bool tick(void *context)
{
    return goes_on(context);
}

static char *path_of(struct ind_watch_ask *ask)
{
    static const char layout[] = "{time}\t{severity}\t{device}\t{app}: {text}";
    ind_mutex_lock(&ask->mutex);
    ask->asked = atomic_load(&ask->question);
    char *when = ind_query_text(ask->when ? ask->when : ""), *form = ind_query_text(layout);
    ind_mutex_unlock(&ask->mutex);
    const size_t room = (when ? strlen(when) : 0) + (form ? strlen(form) : 0) + 40;
    char *path = when && form ? malloc(room) : NULL;
    if (path)
        snprintf(path, room, "/follow?when=%s&layout=%s", when, form);
    free(when);
    free(form);
    return path;
}

static void *follow(void *context)
{
    struct ind_watch_ask *ask = context;
    while (!atomic_load(&ask->stop)) {
        bool broken;
        char *path = path_of(ask);
        ask->line.length = 0;
        if (path)
            (void)ind_ask_on(ask->config, path, NULL, receive, tick, ask, &broken);
        free(path);
        if (ask->asked == atomic_load(&ask->question))
            rest(ask, AGAIN);
    }
    return NULL;
}

/* ---- All of it ---- */

IND_NOT_SHARED struct ind_watch_ask *ind_watch_ask_new(const struct ind_config *config)
{
    static void *(*const work[])(void *) = {ask_status, follow};
    struct ind_watch_ask *ask = calloc(1, sizeof *ask);
    sigset_t all, before; /* signals are for whoever draws */
    if (!ask)
        return NULL;
    (void)curl_global_init(CURL_GLOBAL_DEFAULT);
    ask->config = config;
    ind_mutex_begin(&ask->mutex);
    ind_condition_variable_begin(&ask->changed);
    sigfillset(&all);
    pthread_sigmask(SIG_BLOCK, &all, &before);
    while (ask->thread_count < 2 &&
           pthread_create(&ask->threads[ask->thread_count], NULL, work[ask->thread_count], ask) == 0)
        ask->thread_count++;
    pthread_sigmask(SIG_SETMASK, &before, NULL);
    if (ask->thread_count == 2)
        return ask;
    ind_watch_ask_free(ask);
    return NULL;
}

IND_NOT_SHARED void ind_watch_ask_free(struct ind_watch_ask *ask)
{
    if (!ask)
        return;
    ind_mutex_lock(&ask->mutex);
    atomic_store(&ask->stop, true);
    ind_condition_variable_broadcast(&ask->changed);
    ind_mutex_unlock(&ask->mutex);
    for (unsigned i = 0; i < ask->thread_count; i++)
        pthread_join(ask->threads[i], NULL);
    ind_condition_variable_end(&ask->changed);
    ind_mutex_end(&ask->mutex);
    free(ask->status);
    free(ask->when);
    free(ask->lines.at);
    free(ask->line.at);
    free(ask);
}

void ind_watch_ask_for(struct ind_watch_ask *ask, const char *when)
{
    ind_mutex_lock(&ask->mutex);
    free(ask->when);
    ask->when = strdup(when);
    ask->lines.length = 0;
    atomic_fetch_add(&ask->question, 1);
    ind_condition_variable_broadcast(&ask->changed);
    ind_mutex_unlock(&ask->mutex);
}

static void take_lines(struct ind_watch_model *model, struct ind_grown *lines)
{
    struct ind_slice rest = {lines->at, lines->length}, line;
    while (rest.length && ind_slice_line(&rest, &line))
        ind_watch_take_message(model, line);
    lines->length = 0;
}

bool ind_watch_ask_take(struct ind_watch_ask *ask, bool still, struct ind_watch_model *model)
{
    const struct ind_steady now = ind_steady_now();
    json_error_t error;
    ind_mutex_lock(&ask->mutex);
    char *text = still ? NULL : ask->status;
    const bool answered = ask->answered && !still, none = ask->none;
    if (!still) {
        ask->status = NULL;
        ask->answered = false;
        model->skipped += ask->skipped;
        ask->skipped = 0;
        take_lines(model, &ask->lines);
    }
    ind_mutex_unlock(&ask->mutex);
    if (!answered)
        return false;
    json_t *status = text && !none ? json_loads(text, 0, &error) : NULL;
    ind_watch_take_status(model, status,
                          ind_steady_is_set(ask->before) ? ind_steady_from(ask->before, now) : 0);
    if (status)
        ask->before = now;
    json_decref(status);
    free(text);
    return true;
}
