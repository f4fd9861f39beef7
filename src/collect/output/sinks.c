#define _GNU_SOURCE /* F_SETPIPE_SZ */
#include "collect/output/sinks.h"

#include "collect/output/people.h"
#include "collect/runtime/clock.h"
#include "core/base/escape.h"
#include "core/message/names.h"
#include <errno.h>
#include <fcntl.h>
#include <poll.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/uio.h>
#include <sys/wait.h>
#include <unistd.h>

enum { QUEUE_BYTES = 4 << 20, QUEUE_LINES = 1 << 15, PIPE_BYTES = 1 << 20, TERMINAL_PIECE = 4096 };
#define SHORTEST_PAUSE IND_SECOND
#define LONGEST_PAUSE (60 * IND_SECOND)
#define PATIENCE (5 * IND_SECOND)
#define REPORT_AGAIN (60 * IND_SECOND)

struct queued {
    uint32_t length, owner;
};

enum state {
    IDLE,     /* a program that has not been asked for */
    STARTING, /* asked for */
    OPEN,     /* `fd` takes lines */
    ENDING,   /* it takes no more; its end has not been reported yet */
    PAUSED,   /* not before `again` */
    CLOSED    /* for good */
};

struct ind_sink {
    struct ind_sink *next;
    char *name;
    char **program; /* NULL: standard output */
    uint32_t id;
    enum state state;
    int fd, process;
    bool in_pieces;            /* writing might wait: only little, and only where there is room */
    bool terminal;             /* which no message may drive */
    struct ind_people *people; /* terminals: it has no queue; NULL: it is something else */
    bool wanted;               /* by a route of the present rules */
    struct ind_steady again, started, progress, reported;
    int64_t pause;              /* ns */
    struct ind_steady troubled; /* when its end, or that it cannot be started, was last reported */
    char *bytes;                /* the queue: a ring of bytes, and one of lines */
    size_t first_byte, byte_count;
    struct queued *lines;
    size_t first_line, line_count;
    size_t sent; /* of the first line */
    uint64_t starts, taken, lost, lost_reported;
};

struct ind_sinks {
    struct ind_sinks_settings settings;
    struct ind_sink *list;
    struct ind_sink **of_route; /* NULL: a file's */
    bool *to_sink;              /* by route: also where there was no memory for it */
    size_t route_count;
    uint32_t ids;
    char *shown; /* a line for a terminal */
    bool hurry;
};

/* ---- The queue ---- */

static bool has_room(const struct ind_sink *sink, size_t length)
{
    return sink->bytes && sink->line_count < QUEUE_LINES && sink->byte_count + length <= QUEUE_BYTES;
}

static void put(struct ind_sink *sink, struct ind_slice line, uint32_t owner)
{
    size_t at = (sink->first_byte + sink->byte_count) % QUEUE_BYTES;
    size_t head = QUEUE_BYTES - at < line.length ? QUEUE_BYTES - at : line.length;
    memcpy(sink->bytes + at, line.at, head);
    memcpy(sink->bytes, line.at + head, line.length - head);
    sink->byte_count += line.length;
    sink->lines[(sink->first_line + sink->line_count++) % QUEUE_LINES] =
        (struct queued){(uint32_t)line.length, owner};
}

/* The first line leaves the queue. */
static void settle_first(struct ind_sinks *sinks, struct ind_sink *sink, bool taken)
{
    const struct queued line = sink->lines[sink->first_line];
    sink->first_line = (sink->first_line + 1) % QUEUE_LINES;
    sink->line_count--;
    sink->first_byte = (sink->first_byte + line.length) % QUEUE_BYTES;
    sink->byte_count -= line.length;
    sink->sent = 0;
    if (taken)
        sink->taken++;
    else
        sink->lost++;
    sinks->settings.settle(sinks->settings.context, line.owner, taken);
}

static void lose_queue(struct ind_sinks *sinks, struct ind_sink *sink)
{
    while (sink->line_count)
        settle_first(sinks, sink, false);
}

static void report_loss(struct ind_sinks *sinks, struct ind_sink *sink, struct ind_steady now)
{
    if (sink->lost == sink->lost_reported || ind_steady_lately(sink->reported, now, REPORT_AGAIN))
        return;
    sink->reported = now;
    sink->lost_reported = sink->lost;
    ind_report(sinks->settings.reporter, IND_OWN_PROGRAM_FAILED,
               IND_WITH({"program", ind_slice_of(sink->name)}),
               "%s %s does not take what it is given: %llu messages lost so far",
               sink->program ? "the program" : "standard", sink->name, (unsigned long long)sink->lost);
}

/* ---- Writing ---- */

static void now_open(struct ind_sink *sink, int fd, struct ind_steady now)
{
    sink->fd = fd;
    sink->state = OPEN;
    sink->started = sink->progress = now;
    sink->starts++;
}

static void pause_it(struct ind_sink *sink, struct ind_steady now)
{
    bool lived = ind_steady_is_set(sink->started) && ind_steady_from(sink->started, now) > LONGEST_PAUSE;
    sink->pause = lived || sink->pause == 0         ? SHORTEST_PAUSE
                  : sink->pause * 2 < LONGEST_PAUSE ? sink->pause * 2
                                                    : LONGEST_PAUSE;
    sink->again = ind_steady_after(now, sink->pause);
    sink->state = PAUSED;
}

/* Nobody reads any more. A line that was not written whole begins again with the next start. */
static void reader_gone(struct ind_sinks *sinks, struct ind_sink *sink, int error)
{
    sink->sent = 0;
    if (sink->program) {
        close(sink->fd);
        sink->state = ENDING;
    } else {
        sink->state = CLOSED;
        ind_report(sinks->settings.reporter, IND_OWN_PROGRAM_FAILED,
                   IND_WITH({"program", ind_slice_of(sink->name)}),
                   "standard output takes nothing any more: %s", strerror(error));
        lose_queue(sinks, sink);
    }
    sink->fd = -1;
}

static bool may_write(const struct ind_sink *sink)
{
    struct pollfd poller = {.fd = sink->fd, .events = POLLOUT};
    return !sink->in_pieces || (poll(&poller, 1, 0) == 1 && (poller.revents & (POLLOUT | POLLERR | POLLHUP)));
}

/* As much as is taken at once. */
static void write_on(struct ind_sinks *sinks, struct ind_sink *sink, struct ind_steady now)
{
    while (sink->state == OPEN && sink->line_count && may_write(sink)) {
        size_t from = (sink->first_byte + sink->sent) % QUEUE_BYTES, left = sink->byte_count - sink->sent;
        if (sink->in_pieces && left > TERMINAL_PIECE)
            left = TERMINAL_PIECE;
        size_t head = QUEUE_BYTES - from < left ? QUEUE_BYTES - from : left;
        struct iovec parts[2] = {{sink->bytes + from, head}, {sink->bytes, left - head}};
        ssize_t written = writev(sink->fd, parts, left > head ? 2 : 1);
        if (written < 0 && errno == EINTR)
            continue;
        if (written < 0 && (errno == EAGAIN || errno == EWOULDBLOCK))
            return;
        if (written < 0) {
            reader_gone(sinks, sink, errno);
            return;
        }
        sink->progress = now;
        sink->sent += (size_t)written;
        while (sink->line_count && sink->sent >= sink->lines[sink->first_line].length) {
            size_t beyond = sink->sent - sink->lines[sink->first_line].length;
            settle_first(sinks, sink, true);
            sink->sent = beyond;
        }
    }
}

/* ---- Programs ---- */

static void ask_for_start(struct ind_sinks *sinks, struct ind_sink *sink, struct ind_steady now)
{
    sink->id = ++sinks->ids;
    sink->state = STARTING;
    sink->started = IND_STEADY_NEVER;
    if (sinks->settings.spawner && ind_spawner_start(sinks->settings.spawner, sink->id, sink->program))
        return;
    pause_it(sink, now);
    if (!sinks->settings.spawner)
        ind_report(sinks->settings.reporter, IND_OWN_PROGRAM_FAILED,
                   IND_WITH({"program", ind_slice_of(sink->name)}),
                   "the program %s cannot be started: there is no process to do it; restart the collector",
                   sink->name);
}

/* Once in a while: what we tell may itself be for the program. */
static bool worth_telling(struct ind_sink *sink, struct ind_steady now)
{
    return sink->wanted && !ind_steady_reported_lately(&sink->troubled, now, REPORT_AGAIN);
}

static void how_it_ended(int status, char text[80])
{
    if (WIFSIGNALED(status))
        snprintf(text, 80, "was ended by signal %d", WTERMSIG(status));
    else
        snprintf(text, 80, "ended with exit code %d", WEXITSTATUS(status));
}

static void heard(struct ind_sinks *sinks, struct ind_sink *sink, const struct ind_spawner_event *event,
                  struct ind_steady now)
{
    char how[80];
    switch (event->kind) {
    case IND_SPAWNER_STARTED:
        sink->process = event->value;
        (void)fcntl(event->fd, F_SETFL, O_NONBLOCK);
#ifdef F_SETPIPE_SZ
        (void)fcntl(event->fd, F_SETPIPE_SZ, PIPE_BYTES);
#endif
        now_open(sink, event->fd, now);
        return;
    case IND_SPAWNER_FAILED:
        pause_it(sink, now);
        if (worth_telling(sink, now))
            ind_report(sinks->settings.reporter, IND_OWN_PROGRAM_FAILED,
                       IND_WITH({"program", ind_slice_of(sink->name)}),
                       "the program %s cannot be started: %s; it is tried again, after growing pauses",
                       sink->name, strerror(event->value));
        return;
    default:
        if (sink->state == OPEN)
            close(sink->fd);
        sink->fd = -1;
        sink->process = 0;
        sink->sent = 0;
        pause_it(sink, now);
        how_it_ended(event->value, how);
        if (worth_telling(sink, now))
            ind_report(
                sinks->settings.reporter, IND_OWN_PROGRAM_FAILED,
                IND_WITH({"program", ind_slice_of(sink->name)}),
                "the program %s %s; it is started again when there is something for it, after growing pauses",
                sink->name, how);
    }
}

static void hear(struct ind_sinks *sinks, struct ind_steady now)
{
    struct ind_spawner_event event = {.fd = -1};
    while (sinks->settings.spawner && ind_spawner_next(sinks->settings.spawner, &event)) {
        struct ind_sink *sink = sinks->list;
        while (sink && (sink->id != event.id || !sink->program || sink->state == CLOSED))
            sink = sink->next;
        if (sink)
            heard(sinks, sink, &event, now);
        else if (event.fd >= 0)
            close(event.fd);
    }
}

/* A program that no route names any more, and that has been given all it was to get. */
static void part_from(struct ind_sinks *sinks, struct ind_sink *sink)
{
    lose_queue(sinks, sink);
    if (sink->state == OPEN) {
        close(sink->fd);
        ind_spawner_stop(sinks->settings.spawner, sink->id);
    }
    free(sink->bytes);
    free(sink->lines);
    sink->bytes = NULL;
    sink->lines = NULL;
    sink->fd = -1;
    sink->process = 0;
    sink->state = CLOSED;
}

static void see_to(struct ind_sinks *sinks, struct ind_sink *sink, struct ind_steady now)
{
    if (sink->people) {
        ind_people_look(sink->people, now);
        return;
    }
    bool ready = sink->state == IDLE || (sink->state == PAUSED && ind_steady_from(sink->again, now) >= 0);
    if (ready && sink->program && sink->line_count)
        ask_for_start(sinks, sink, now);
    write_on(sinks, sink, now);
    if (!sink->wanted && sink->state != CLOSED && sink->program &&
        (sink->line_count == 0 || ind_steady_from(sink->progress, now) > PATIENCE))
        part_from(sinks, sink);
    if (sink->state != CLOSED)
        report_loss(sinks, sink, now);
}

size_t ind_sinks_run(struct ind_sinks *sinks, struct ind_steady now)
{
    size_t waiting = 0;
    if (!sinks->list)
        return 0; /* the rule: no route needs one */
    hear(sinks, now);
    for (struct ind_sink *sink = sinks->list; sink; sink = sink->next) {
        see_to(sinks, sink, now);
        waiting += sink->line_count;
    }
    return waiting;
}

size_t ind_sinks_wait(struct ind_sinks *sinks, int milliseconds)
{
    enum { MOST = 64 };
    struct pollfd pollers[MOST];
    nfds_t count = 0;
    for (struct ind_sink *sink = sinks->list; sink && count < MOST; sink = sink->next)
        if (sink->state == OPEN && sink->line_count)
            pollers[count++] = (struct pollfd){.fd = sink->fd, .events = POLLOUT};
    /* News of starts and ends comes another way: not longer than a moment without a look at it. */
    (void)poll(pollers, count, milliseconds < 10 || count ? milliseconds : 10);
    return ind_sinks_run(sinks, ind_steady_now());
}

/* ---- Adding ---- */

bool ind_sinks_have(const struct ind_sinks *sinks, uint32_t route)
{
    return sinks && route < sinks->route_count && sinks->to_sink[route];
}

void ind_sinks_lose(struct ind_sinks *sinks, uint32_t route, uint32_t owner)
{
    if (sinks->of_route[route])
        sinks->of_route[route]->lost++;
    sinks->settings.settle(sinks->settings.context, owner, false);
}

/* Standard output is waited for as long as anybody reads it; a program only while it takes something. */
static bool worth_waiting(const struct ind_sinks *sinks, const struct ind_sink *sink, struct ind_steady now)
{
    if (!sinks->settings.hold || sink->state == CLOSED)
        return false;
    return (!sink->program && !sinks->hurry) || ind_steady_from(sink->progress, now) < PATIENCE;
}

bool ind_sinks_worth_waiting(const struct ind_sinks *sinks)
{
    for (const struct ind_sink *sink = sinks->list; sink; sink = sink->next)
        if (!sink->program && sink->line_count && worth_waiting(sinks, sink, ind_steady_now()))
            return true;
    return false;
}

/* As it may be shown on a terminal; what cannot be, for want of memory, is not shown. */
static struct ind_slice shown(struct ind_sinks *sinks, struct ind_slice line)
{
    char *room = realloc(sinks->shown, 4 * line.length + 1);
    if (!room)
        return IND_SLICE("\n");
    struct ind_buffer out = ind_buffer_on(room, 4 * line.length + 1);
    sinks->shown = room;
    ind_escape_shown(&out, (struct ind_slice){line.at, line.length - 1});
    ind_buffer_byte(&out, '\n');
    return ind_buffer_view(&out);
}

bool ind_sinks_add(struct ind_sinks *sinks, uint32_t route, struct ind_slice line, uint32_t owner,
                   struct ind_steady now)
{
    struct ind_sink *sink = sinks->of_route[route];
    if (!sink || sink->state == CLOSED) {
        ind_sinks_lose(sinks, route, owner);
        return true;
    }
    if (sink->terminal || sink->people)
        line = shown(sinks, line);
    if (sink->people) {
        ind_people_show(sink->people, line, now); /* taken in any case: it was shown, or counted */
        sink->taken++;
        sinks->settings.settle(sinks->settings.context, owner, true);
        return true;
    }
    if (!has_room(sink, line.length)) {
        write_on(sinks, sink, now);
        if (!has_room(sink, line.length)) {
            if (worth_waiting(sinks, sink, now))
                return false;
            ind_sinks_lose(sinks, route, owner);
            return true;
        }
    }
    if (sink->line_count == 0)
        sink->progress = now;
    put(sink, line, owner);
    return true;
}

void ind_sinks_hurry(struct ind_sinks *sinks)
{
    sinks->hurry = true;
}

void ind_sinks_give_up(struct ind_sinks *sinks)
{
    for (struct ind_sink *sink = sinks->list; sink; sink = sink->next) {
        lose_queue(sinks, sink);
        sink->reported = IND_STEADY_NEVER;
        report_loss(sinks, sink, ind_steady_now());
    }
}

void ind_sinks_waiting(const struct ind_sinks *sinks,
                       void (*visit)(void *context, uint32_t owner, uint32_t lines), void *context)
{
    for (const struct ind_sink *sink = sinks->list; sink; sink = sink->next)
        for (size_t i = 0; i < sink->line_count; i++)
            visit(context, sink->lines[(sink->first_line + i) % QUEUE_LINES].owner, 1);
}

/* ---- Which there are ---- */

static char *name_of(const struct ind_route *route)
{
    size_t room = 8;
    for (size_t i = 0; route->program && route->program[i]; i++)
        room += strlen(route->program[i]) + 1;
    room += route->to == IND_TO_TERMINALS ? 40 + strlen(route->users ? route->users : "") : 0;
    char *name = calloc(room, 1);
    struct ind_buffer buffer = ind_buffer_on(name, name ? room - 1 : 0);
    if (route->to == IND_TO_TERMINALS)
        ind_route_describe(route, &buffer);
    else if (!route->program)
        ind_buffer_text(&buffer, "output");
    for (size_t i = 0; route->program && route->program[i]; i++) {
        ind_buffer_text(&buffer, i ? " " : "");
        ind_buffer_text(&buffer, route->program[i]);
    }
    return name;
}

static bool same_program(char *const *a, char *const *b)
{
    if (!a || !b)
        return a == b;
    while (*a && *b && strcmp(*a, *b) == 0) {
        a++;
        b++;
    }
    return !*a && !*b;
}

static void sink_free(struct ind_sink *sink)
{
    ind_program_free(sink->program);
    ind_people_free(sink->people);
    free(sink->name);
    free(sink->bytes);
    free(sink->lines);
    free(sink);
}

static struct ind_sink *new_sink(struct ind_sinks *sinks, const struct ind_route *route)
{
    struct ind_sink *sink = calloc(1, sizeof *sink);
    if (!sink)
        return NULL;
    sink->fd = -1;
    sink->name = name_of(route);
    const bool people = route->to == IND_TO_TERMINALS;
    if (people)
        sink->people = ind_people_new(route->users, sinks->settings.hold, sinks->settings.reporter);
    sink->bytes = malloc(people ? 1 : QUEUE_BYTES);
    sink->lines = malloc(people ? 1 : QUEUE_LINES * sizeof *sink->lines);
    sink->program = route->program ? ind_program_copy(route->program) : NULL;
    if (!sink->name || !sink->bytes || !sink->lines || (people && !sink->people) ||
        (route->program && !sink->program)) {
        sink_free(sink);
        return NULL;
    }
    if (sink->people) {
        sink->state = OPEN;
    } else if (!sink->program) {
        struct stat status;
        sink->in_pieces = fstat(STDOUT_FILENO, &status) != 0 || !S_ISREG(status.st_mode);
        sink->terminal = isatty(STDOUT_FILENO) == 1;
        now_open(sink, STDOUT_FILENO, ind_steady_now());
    }
    sink->next = sinks->list;
    sinks->list = sink;
    return sink;
}

static struct ind_sink *sink_for(struct ind_sinks *sinks, const struct ind_route *route)
{
    for (struct ind_sink *sink = sinks->list; sink; sink = sink->next)
        if (sink->bytes && same_program(sink->program, route->program) &&
            ind_people_are(sink->people, route->to == IND_TO_TERMINALS, route->users))
            return sink;
    return new_sink(sinks, route);
}

bool ind_sinks_adopt(struct ind_sinks *sinks, const struct ind_config *config)
{
    bool good = true;
    free(sinks->of_route);
    free(sinks->to_sink);
    sinks->of_route = calloc(config->route_count + 1, sizeof *sinks->of_route);
    sinks->to_sink = calloc(config->route_count + 1, sizeof *sinks->to_sink);
    sinks->route_count = sinks->of_route && sinks->to_sink ? config->route_count : 0;
    for (struct ind_sink *sink = sinks->list; sink; sink = sink->next)
        sink->wanted = false;
    for (size_t i = 0; i < sinks->route_count; i++) {
        const struct ind_route *route = &config->routes[i];
        if (route->to == IND_TO_FILE || route->to == IND_TO_RELAY)
            continue;
        sinks->to_sink[i] = true;
        sinks->of_route[i] = sink_for(sinks, route);
        good &= sinks->of_route[i] != NULL;
        if (sinks->of_route[i])
            sinks->of_route[i]->wanted = true;
    }
    return good && sinks->route_count == config->route_count;
}

struct ind_sinks *ind_sinks_new(const struct ind_sinks_settings *settings)
{
    struct ind_sinks *sinks = calloc(1, sizeof *sinks);
    if (sinks)
        sinks->settings = *settings;
    return sinks;
}

void ind_sinks_free(struct ind_sinks *sinks)
{
    if (!sinks)
        return;
    while (sinks->list) {
        struct ind_sink *next = sinks->list->next;
        if (sinks->list->program && sinks->list->state == OPEN)
            close(sinks->list->fd);
        sink_free(sinks->list);
        sinks->list = next;
    }
    free(sinks->of_route);
    free(sinks->to_sink);
    free(sinks->shown);
    free(sinks);
}

size_t ind_sinks_count(const struct ind_sinks *sinks, struct ind_sink_count **counts)
{
    size_t count = 0;
    for (const struct ind_sink *sink = sinks->list; sink; sink = sink->next)
        count++;
    *counts = count ? calloc(count, sizeof **counts) : NULL;
    count = 0;
    for (const struct ind_sink *sink = sinks->list; sink && *counts; sink = sink->next)
        (*counts)[count++] =
            (struct ind_sink_count){sink->name,   sink->wanted, sink->state == OPEN, sink->process,
                                    sink->starts, sink->taken,  sink->lost,          sink->line_count};
    return count;
}
