#define _GNU_SOURCE /* F_SETPIPE_SZ */
#include "collect/takers.h"

#include "collect/clock.h"
#include "core/base/escape.h"
#include <errno.h>
#include <fcntl.h>
#include <poll.h>
#include <stdarg.h>
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
#define TELL_AGAIN (60 * IND_SECOND)

struct queued {
    uint32_t length, owner;
};

enum state {
    IDLE,     /* a program that has not been asked for */
    STARTING, /* asked for */
    OPEN,     /* `fd` takes lines */
    ENDING,   /* it takes no more; its end has not been told yet */
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
    bool in_pieces; /* writing might wait: only little, and only where there is room */
    bool terminal;  /* which no message may drive */
    bool wanted;    /* by a route of the present rules */
    struct ind_steady again, started, progress, told;
    int64_t pause;              /* ns */
    struct ind_steady troubled; /* when its end, or that it cannot be started, was last told */
    char *bytes;                /* the queue: a ring of bytes, and one of lines */
    size_t first_byte, byte_count;
    struct queued *lines;
    size_t first_line, line_count;
    size_t sent; /* of the first line */
    uint64_t starts, taken, lost, lost_told;
};

struct ind_sinks {
    struct ind_sinks_settings settings;
    struct ind_sink *list;
    struct ind_sink **of_route; /* NULL: a file's */
    bool *to_taker;             /* by route: also where there was no memory for it */
    size_t route_count;
    uint32_t ids;
    char *shown; /* a line for a terminal */
    bool hurry;
};

static void tell(const struct ind_sinks *takers, const char *format, ...)
    __attribute__((format(printf, 2, 3)));

static void tell(const struct ind_sinks *takers, const char *format, ...)
{
    char text[1200];
    va_list arguments;
    va_start(arguments, format);
    vsnprintf(text, sizeof text, format, arguments);
    va_end(arguments);
    takers->settings.tell(takers->settings.context, text);
}

/* ---- The queue ---- */

static bool has_room(const struct ind_sink *taker, size_t length)
{
    return taker->bytes && taker->line_count < QUEUE_LINES && taker->byte_count + length <= QUEUE_BYTES;
}

static void put(struct ind_sink *taker, struct ind_slice line, uint32_t owner)
{
    size_t at = (taker->first_byte + taker->byte_count) % QUEUE_BYTES;
    size_t head = QUEUE_BYTES - at < line.length ? QUEUE_BYTES - at : line.length;
    memcpy(taker->bytes + at, line.at, head);
    memcpy(taker->bytes, line.at + head, line.length - head);
    taker->byte_count += line.length;
    taker->lines[(taker->first_line + taker->line_count++) % QUEUE_LINES] =
        (struct queued){(uint32_t)line.length, owner};
}

/* The first line leaves the queue. */
static void settle_first(struct ind_sinks *takers, struct ind_sink *taker, bool taken)
{
    const struct queued line = taker->lines[taker->first_line];
    taker->first_line = (taker->first_line + 1) % QUEUE_LINES;
    taker->line_count--;
    taker->first_byte = (taker->first_byte + line.length) % QUEUE_BYTES;
    taker->byte_count -= line.length;
    taker->sent = 0;
    if (taken)
        taker->taken++;
    else
        taker->lost++;
    takers->settings.settle(takers->settings.context, line.owner, taken);
}

static void lose_queue(struct ind_sinks *takers, struct ind_sink *taker)
{
    while (taker->line_count)
        settle_first(takers, taker, false);
}

static void tell_of_loss(struct ind_sinks *takers, struct ind_sink *taker, struct ind_steady now)
{
    if (taker->lost == taker->lost_told || ind_steady_lately(taker->told, now, TELL_AGAIN))
        return;
    taker->told = now;
    taker->lost_told = taker->lost;
    tell(takers, "%s %s does not take what it is given: %llu messages lost so far",
         taker->program ? "the program" : "standard", taker->name, (unsigned long long)taker->lost);
}

/* ---- Writing ---- */

static void now_open(struct ind_sink *taker, int fd, struct ind_steady now)
{
    taker->fd = fd;
    taker->state = OPEN;
    taker->started = taker->progress = now;
    taker->starts++;
}

static void pause_it(struct ind_sink *taker, struct ind_steady now)
{
    bool lived = ind_steady_is_set(taker->started) && ind_steady_from(taker->started, now) > LONGEST_PAUSE;
    taker->pause = lived || taker->pause == 0         ? SHORTEST_PAUSE
                   : taker->pause * 2 < LONGEST_PAUSE ? taker->pause * 2
                                                      : LONGEST_PAUSE;
    taker->again = ind_steady_after(now, taker->pause);
    taker->state = PAUSED;
}

/* Nobody reads any more. A line that was not written whole begins again with the next start. */
static void reader_gone(struct ind_sinks *takers, struct ind_sink *taker)
{
    taker->sent = 0;
    if (taker->program) {
        close(taker->fd);
        taker->state = ENDING;
    } else {
        taker->state = CLOSED;
        tell(takers, "standard output takes nothing any more: %s", strerror(errno));
        lose_queue(takers, taker);
    }
    taker->fd = -1;
}

static bool may_write(const struct ind_sink *taker)
{
    struct pollfd poller = {.fd = taker->fd, .events = POLLOUT};
    return !taker->in_pieces ||
           (poll(&poller, 1, 0) == 1 && (poller.revents & (POLLOUT | POLLERR | POLLHUP)));
}

/* As much as is taken at once. */
static void write_on(struct ind_sinks *takers, struct ind_sink *taker, struct ind_steady now)
{
    while (taker->state == OPEN && taker->line_count && may_write(taker)) {
        size_t from = (taker->first_byte + taker->sent) % QUEUE_BYTES, left = taker->byte_count - taker->sent;
        if (taker->in_pieces && left > TERMINAL_PIECE)
            left = TERMINAL_PIECE;
        size_t head = QUEUE_BYTES - from < left ? QUEUE_BYTES - from : left;
        struct iovec parts[2] = {{taker->bytes + from, head}, {taker->bytes, left - head}};
        ssize_t written = writev(taker->fd, parts, left > head ? 2 : 1);
        if (written < 0 && errno == EINTR)
            continue;
        if (written < 0 && (errno == EAGAIN || errno == EWOULDBLOCK))
            return;
        if (written < 0) {
            reader_gone(takers, taker);
            return;
        }
        taker->progress = now;
        taker->sent += (size_t)written;
        while (taker->line_count && taker->sent >= taker->lines[taker->first_line].length) {
            size_t beyond = taker->sent - taker->lines[taker->first_line].length;
            settle_first(takers, taker, true);
            taker->sent = beyond;
        }
    }
}

/* ---- Programs ---- */

static void ask_for_start(struct ind_sinks *takers, struct ind_sink *taker, struct ind_steady now)
{
    taker->id = ++takers->ids;
    taker->state = STARTING;
    taker->started = IND_STEADY_NEVER;
    if (takers->settings.helper && ind_spawner_start(takers->settings.helper, taker->id, taker->program))
        return;
    pause_it(taker, now);
    if (!takers->settings.helper)
        tell(takers, "the program %s cannot be started: there is no process to do it; restart the collector",
             taker->name);
}

/* Once in a while: what we tell may itself be for the program. */
static bool worth_telling(struct ind_sink *taker, struct ind_steady now)
{
    return taker->wanted && !ind_steady_told_lately(&taker->troubled, now, TELL_AGAIN);
}

static void how_it_ended(int status, char text[80])
{
    if (WIFSIGNALED(status))
        snprintf(text, 80, "was ended by signal %d", WTERMSIG(status));
    else
        snprintf(text, 80, "ended with exit code %d", WEXITSTATUS(status));
}

static void heard(struct ind_sinks *takers, struct ind_sink *taker, const struct ind_spawner_event *news,
                  struct ind_steady now)
{
    char how[80];
    switch (news->kind) {
    case IND_SPAWNER_STARTED:
        taker->process = news->value;
        (void)fcntl(news->fd, F_SETFL, O_NONBLOCK);
#ifdef F_SETPIPE_SZ
        (void)fcntl(news->fd, F_SETPIPE_SZ, PIPE_BYTES);
#endif
        now_open(taker, news->fd, now);
        return;
    case IND_SPAWNER_FAILED:
        pause_it(taker, now);
        if (worth_telling(taker, now))
            tell(takers, "the program %s cannot be started: %s; it is tried again, after growing pauses",
                 taker->name, strerror(news->value));
        return;
    default:
        if (taker->state == OPEN)
            close(taker->fd);
        taker->fd = -1;
        taker->process = 0;
        taker->sent = 0;
        pause_it(taker, now);
        how_it_ended(news->value, how);
        if (worth_telling(taker, now))
            tell(
                takers,
                "the program %s %s; it is started again when there is something for it, after growing pauses",
                taker->name, how);
    }
}

static void hear(struct ind_sinks *takers, struct ind_steady now)
{
    struct ind_spawner_event news = {.fd = -1};
    while (takers->settings.helper && ind_spawner_next(takers->settings.helper, &news)) {
        struct ind_sink *taker = takers->list;
        while (taker && (taker->id != news.id || !taker->program || taker->state == CLOSED))
            taker = taker->next;
        if (taker)
            heard(takers, taker, &news, now);
        else if (news.fd >= 0)
            close(news.fd);
    }
}

/* A program that no route names any more, and that has been given all it was to get. */
static void part_from(struct ind_sinks *takers, struct ind_sink *taker)
{
    lose_queue(takers, taker);
    if (taker->state == OPEN) {
        close(taker->fd);
        ind_spawner_stop(takers->settings.helper, taker->id);
    }
    free(taker->bytes);
    free(taker->lines);
    taker->bytes = NULL;
    taker->lines = NULL;
    taker->fd = -1;
    taker->process = 0;
    taker->state = CLOSED;
}

static void see_to(struct ind_sinks *takers, struct ind_sink *taker, struct ind_steady now)
{
    bool ready = taker->state == IDLE || (taker->state == PAUSED && ind_steady_from(taker->again, now) >= 0);
    if (ready && taker->program && taker->line_count)
        ask_for_start(takers, taker, now);
    write_on(takers, taker, now);
    if (!taker->wanted && taker->state != CLOSED && taker->program &&
        (taker->line_count == 0 || ind_steady_from(taker->progress, now) > PATIENCE))
        part_from(takers, taker);
    if (taker->state != CLOSED)
        tell_of_loss(takers, taker, now);
}

size_t ind_sinks_run(struct ind_sinks *takers, struct ind_steady now)
{
    size_t waiting = 0;
    if (!takers->list)
        return 0; /* the rule: no route needs one */
    hear(takers, now);
    for (struct ind_sink *taker = takers->list; taker; taker = taker->next) {
        see_to(takers, taker, now);
        waiting += taker->line_count;
    }
    return waiting;
}

size_t ind_sinks_wait(struct ind_sinks *takers, int milliseconds)
{
    enum { MOST = 64 };
    struct pollfd pollers[MOST];
    nfds_t count = 0;
    for (struct ind_sink *taker = takers->list; taker && count < MOST; taker = taker->next)
        if (taker->state == OPEN && taker->line_count)
            pollers[count++] = (struct pollfd){.fd = taker->fd, .events = POLLOUT};
    /* News of starts and ends comes another way: not longer than a moment without a look at it. */
    (void)poll(pollers, count, milliseconds < 10 || count ? milliseconds : 10);
    return ind_sinks_run(takers, ind_steady_now());
}

/* ---- Adding ---- */

bool ind_sinks_have(const struct ind_sinks *takers, uint32_t route)
{
    return takers && route < takers->route_count && takers->to_taker[route];
}

void ind_sinks_lose(struct ind_sinks *takers, uint32_t route, uint32_t owner)
{
    if (takers->of_route[route])
        takers->of_route[route]->lost++;
    takers->settings.settle(takers->settings.context, owner, false);
}

/* Standard output is waited for as long as anybody reads it; a program only while it takes something. */
static bool worth_waiting(const struct ind_sinks *takers, const struct ind_sink *taker, struct ind_steady now)
{
    if (!takers->settings.hold || taker->state == CLOSED)
        return false;
    return (!taker->program && !takers->hurry) || ind_steady_from(taker->progress, now) < PATIENCE;
}

bool ind_sinks_worth_waiting(const struct ind_sinks *takers)
{
    for (const struct ind_sink *taker = takers->list; taker; taker = taker->next)
        if (!taker->program && taker->line_count && worth_waiting(takers, taker, ind_steady_now()))
            return true;
    return false;
}

/* As it may be shown on a terminal; what cannot be, for want of memory, is not shown. */
static struct ind_slice shown(struct ind_sinks *takers, struct ind_slice line)
{
    char *room = realloc(takers->shown, 4 * line.length + 1);
    if (!room)
        return IND_SLICE("\n");
    struct ind_buffer out = ind_buffer_on(room, 4 * line.length + 1);
    takers->shown = room;
    ind_escape_shown(&out, (struct ind_slice){line.at, line.length - 1});
    ind_buffer_byte(&out, '\n');
    return ind_buffer_view(&out);
}

bool ind_sinks_add(struct ind_sinks *takers, uint32_t route, struct ind_slice line, uint32_t owner,
                   struct ind_steady now)
{
    struct ind_sink *taker = takers->of_route[route];
    if (!taker || taker->state == CLOSED) {
        ind_sinks_lose(takers, route, owner);
        return true;
    }
    if (taker->terminal)
        line = shown(takers, line);
    if (!has_room(taker, line.length)) {
        write_on(takers, taker, now);
        if (!has_room(taker, line.length)) {
            if (worth_waiting(takers, taker, now))
                return false;
            ind_sinks_lose(takers, route, owner);
            return true;
        }
    }
    if (taker->line_count == 0)
        taker->progress = now;
    put(taker, line, owner);
    return true;
}

void ind_sinks_hurry(struct ind_sinks *takers)
{
    takers->hurry = true;
}

void ind_sinks_give_up(struct ind_sinks *takers)
{
    for (struct ind_sink *taker = takers->list; taker; taker = taker->next) {
        lose_queue(takers, taker);
        taker->told = IND_STEADY_NEVER;
        tell_of_loss(takers, taker, ind_steady_now());
    }
}

void ind_sinks_waiting(const struct ind_sinks *takers,
                       void (*take)(void *context, uint32_t owner, uint32_t lines), void *context)
{
    for (const struct ind_sink *taker = takers->list; taker; taker = taker->next)
        for (size_t i = 0; i < taker->line_count; i++)
            take(context, taker->lines[(taker->first_line + i) % QUEUE_LINES].owner, 1);
}

/* ---- Which there are ---- */

static char *name_of(const struct ind_route *route)
{
    size_t room = 8;
    for (size_t i = 0; route->program && route->program[i]; i++)
        room += strlen(route->program[i]) + 1;
    char *name = calloc(room, 1);
    struct ind_buffer buffer = ind_buffer_on(name, name ? room - 1 : 0);
    if (!route->program)
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

static char **copy_program(char *const *program)
{
    size_t count = 0;
    while (program[count])
        count++;
    char **copy = calloc(count + 1, sizeof *copy);
    for (size_t i = 0; copy && i < count; i++)
        if (!(copy[i] = strdup(program[i]))) {
            while (i-- > 0)
                free(copy[i]);
            free(copy);
            return NULL;
        }
    return copy;
}

static void taker_free(struct ind_sink *taker)
{
    for (size_t i = 0; taker->program && taker->program[i]; i++)
        free(taker->program[i]);
    free(taker->program);
    free(taker->name);
    free(taker->bytes);
    free(taker->lines);
    free(taker);
}

static struct ind_sink *new_taker(struct ind_sinks *takers, const struct ind_route *route)
{
    struct ind_sink *taker = calloc(1, sizeof *taker);
    if (!taker)
        return NULL;
    taker->fd = -1;
    taker->name = name_of(route);
    taker->bytes = malloc(QUEUE_BYTES);
    taker->lines = malloc(QUEUE_LINES * sizeof *taker->lines);
    taker->program = route->program ? copy_program(route->program) : NULL;
    if (!taker->name || !taker->bytes || !taker->lines || (route->program && !taker->program)) {
        taker_free(taker);
        return NULL;
    }
    if (!taker->program) {
        struct stat status;
        taker->in_pieces = fstat(STDOUT_FILENO, &status) != 0 || !S_ISREG(status.st_mode);
        taker->terminal = isatty(STDOUT_FILENO) == 1;
        now_open(taker, STDOUT_FILENO, ind_steady_now());
    }
    taker->next = takers->list;
    takers->list = taker;
    return taker;
}

static struct ind_sink *taker_for(struct ind_sinks *takers, const struct ind_route *route)
{
    for (struct ind_sink *taker = takers->list; taker; taker = taker->next)
        if (taker->bytes && same_program(taker->program, route->program))
            return taker;
    return new_taker(takers, route);
}

bool ind_sinks_adopt(struct ind_sinks *takers, const struct ind_config *config)
{
    bool good = true;
    free(takers->of_route);
    free(takers->to_taker);
    takers->of_route = calloc(config->route_count + 1, sizeof *takers->of_route);
    takers->to_taker = calloc(config->route_count + 1, sizeof *takers->to_taker);
    takers->route_count = takers->of_route && takers->to_taker ? config->route_count : 0;
    for (struct ind_sink *taker = takers->list; taker; taker = taker->next)
        taker->wanted = false;
    for (size_t i = 0; i < takers->route_count; i++) {
        const struct ind_route *route = &config->routes[i];
        if (route->to == IND_TO_FILE)
            continue;
        takers->to_taker[i] = true;
        takers->of_route[i] = taker_for(takers, route);
        good &= takers->of_route[i] != NULL;
        if (takers->of_route[i])
            takers->of_route[i]->wanted = true;
    }
    return good && takers->route_count == config->route_count;
}

struct ind_sinks *ind_sinks_new(const struct ind_sinks_settings *settings)
{
    struct ind_sinks *takers = calloc(1, sizeof *takers);
    if (takers)
        takers->settings = *settings;
    return takers;
}

void ind_sinks_free(struct ind_sinks *takers)
{
    if (!takers)
        return;
    while (takers->list) {
        struct ind_sink *next = takers->list->next;
        if (takers->list->program && takers->list->state == OPEN)
            close(takers->list->fd);
        taker_free(takers->list);
        takers->list = next;
    }
    free(takers->of_route);
    free(takers->to_taker);
    free(takers->shown);
    free(takers);
}

size_t ind_sinks_count(const struct ind_sinks *takers, struct ind_sink_count **counts)
{
    size_t count = 0;
    for (const struct ind_sink *taker = takers->list; taker; taker = taker->next)
        count++;
    *counts = count ? calloc(count, sizeof **counts) : NULL;
    count = 0;
    for (const struct ind_sink *taker = takers->list; taker && *counts; taker = taker->next)
        (*counts)[count++] =
            (struct ind_sink_count){taker->name,   taker->wanted, taker->state == OPEN, taker->process,
                                    taker->starts, taker->taken,  taker->lost,          taker->line_count};
    return count;
}
