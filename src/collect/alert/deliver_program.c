/* A program, which gets an object on its standard input; and terminals. */
#include "collect/alert/courier.h"

#include "collect/output/terminals.h"
#include "collect/runtime/clock.h"

#include <errno.h>
#include <fcntl.h>
#include <poll.h>
#include <stdio.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

#define MINUTE (60 * IND_SECOND)
enum { LOOK_MILLISECONDS = 2 };

/* The next that has become of it, within the minute. */
static bool next_event(struct ind_programs *programs, uint32_t id, struct ind_steady began, atomic_bool *stop,
                       struct ind_spawner_event *event)
{
    const struct timespec moment = {0, LOOK_MILLISECONDS * 1000000L};
    while (!ind_programs_next(programs, id, event)) {
        if (atomic_load(stop) || ind_steady_from(began, ind_steady_now()) > MINUTE)
            return false;
        nanosleep(&moment, NULL);
    }
    return true;
}

/* As much of it as it reads: one that does not, and ends well, has its reasons. */
static void write_object(int file, const char *text, struct ind_steady began, atomic_bool *stop)
{
    size_t left = strlen(text);
    (void)fcntl(file, F_SETFL, fcntl(file, F_GETFL) | O_NONBLOCK);
    while (left && !atomic_load(stop) && ind_steady_from(began, ind_steady_now()) < MINUTE) {
        struct pollfd poller = {file, POLLOUT, 0};
        const ssize_t written = write(file, text, left);
        if (written > 0) {
            text += written;
            left -= (size_t)written;
        } else if (errno == EAGAIN) {
            (void)poll(&poller, 1, LOOK_MILLISECONDS);
        } else if (errno != EINTR) {
            break;
        }
    }
    close(file);
}

static void say_how_it_ended(int status, char *reason, size_t room)
{
    if (WIFSIGNALED(status))
        snprintf(reason, room, "it was ended by signal %d", WTERMSIG(status));
    else
        snprintf(reason, room, "it ended with exit code %d", WEXITSTATUS(status));
}

/* One that takes longer is ended; what becomes of it then is waited for, so that its end is not taken for
 * that of the next. */
static bool wait_for_end(struct ind_programs *programs, uint32_t id, struct ind_steady began,
                         atomic_bool *stop, char *reason, size_t room)
{
    struct ind_spawner_event event;
    atomic_bool never = false;
    const bool in_time = next_event(programs, id, began, stop, &event);
    if (!in_time) {
        ind_programs_stop(programs, id);
        if (!next_event(programs, id, ind_steady_now(), &never, &event)) {
            snprintf(reason, room, "it does not end");
            return false;
        }
        snprintf(reason, room, "it took longer than a minute, and was ended");
        return false;
    }
    if (event.kind == IND_SPAWNER_ENDED && event.value == 0)
        return true;
    say_how_it_ended(event.value, reason, room);
    return false;
}

bool ind_deliver_program(struct ind_programs *programs, const struct ind_parcel *parcel, atomic_bool *stop,
                         char *reason, size_t room)
{
    struct ind_spawner_event event;
    const struct ind_steady began = ind_steady_now();
    snprintf(reason, room, "no program can be started");
    const uint32_t id = ind_programs_start(programs, parcel->program);
    if (!id || !next_event(programs, id, began, stop, &event))
        return false;
    if (event.kind == IND_SPAWNER_FAILED) {
        snprintf(reason, room, "it cannot be started: %s", strerror(event.value));
        return false;
    }
    if (event.kind != IND_SPAWNER_STARTED) {
        say_how_it_ended(event.value, reason, room);
        return false;
    }
    write_object(event.fd, parcel->object, began, stop);
    return wait_for_end(programs, id, began, stop, reason, room);
}

bool ind_deliver_terminals(const struct ind_parcel *parcel, char *reason, size_t room)
{
    const struct ind_slice text = ind_slice_of(parcel->text);
    return ind_terminals_write(NULL, parcel->to, text, reason, room);
}
