#define _GNU_SOURCE /* pipe2 */
#include "collect/reporting/made.h"

#include "collect/runtime/clock.h"

#include <errno.h>
#include <fcntl.h>
#include <poll.h>
#include <signal.h>
#include <spawn.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

enum { LOOK = 200, MOST_SAID = 64 * 1024 };
#define LONGEST (6 * 3600 * IND_SECOND)

extern char **environ;

/* With signals as they are by default, and none of our descriptors but the end of the pipe. */
static int start(char *const *words, int out, pid_t *process)
{
    posix_spawn_file_actions_t actions;
    posix_spawnattr_t attributes;
    sigset_t none, all;
    sigemptyset(&none);
    sigfillset(&all);
    int error = posix_spawn_file_actions_init(&actions);
    if (error)
        return error;
    error = posix_spawnattr_init(&attributes);
    if (!error) {
        error = posix_spawn_file_actions_addopen(&actions, STDIN_FILENO, "/dev/null", O_RDONLY, 0);
        error = error ? error : posix_spawn_file_actions_adddup2(&actions, out, STDOUT_FILENO);
        error = error ? error
                      : posix_spawn_file_actions_addopen(&actions, STDERR_FILENO, "/dev/null", O_WRONLY, 0);
        error = error ? error : posix_spawnattr_setsigmask(&attributes, &none);
        error = error ? error : posix_spawnattr_setsigdefault(&attributes, &all);
        error = error ? error
                      : posix_spawnattr_setflags(&attributes, POSIX_SPAWN_SETSIGMASK | POSIX_SPAWN_SETSIGDEF);
        error = error ? error : posix_spawn(process, words[0], &actions, &attributes, words, environ);
        posix_spawnattr_destroy(&attributes);
    }
    posix_spawn_file_actions_destroy(&actions);
    return error;
}

/* Until its end of the pipe is closed. False where it was to stop, or took too long. */
static bool read_all(int from, const atomic_bool *stop, FILE *said)
{
    const struct ind_steady began = ind_steady_now();
    size_t kept = 0;
    for (;;) {
        char bytes[4096];
        struct pollfd input = {.fd = from, .events = POLLIN};
        if (atomic_load(stop) || ind_steady_from(began, ind_steady_now()) > LONGEST)
            return false;
        if (poll(&input, 1, LOOK) <= 0)
            continue;
        const ssize_t got = read(from, bytes, sizeof bytes);
        if (got == 0 || (got < 0 && errno != EINTR))
            return true;
        const size_t part = got > 0 && kept < MOST_SAID ? (size_t)got : 0;
        kept += fwrite(bytes, 1, part, said);
    }
}

static int end(pid_t process, bool whole, char *reason, size_t room)
{
    int status = 0;
    if (!whole)
        (void)kill(process, SIGKILL);
    while (waitpid(process, &status, 0) < 0 && errno == EINTR)
        ;
    if (!whole)
        snprintf(reason, room, "it took too long, or was to end");
    else if (!WIFEXITED(status))
        snprintf(reason, room, "it was ended by signal %d", WIFSIGNALED(status) ? WTERMSIG(status) : 0);
    else
        return WEXITSTATUS(status);
    return -1;
}

int ind_report_call(char *const *words, const atomic_bool *stop, char **said, char *reason, size_t room)
{
    size_t length = 0;
    int pipes[2], code = -1;
    pid_t process;
    *said = NULL;
    FILE *text = open_memstream(said, &length);
    if (!text || pipe2(pipes, O_CLOEXEC) != 0) {
        snprintf(reason, room, "%s", strerror(errno));
        if (text)
            fclose(text);
        return -1;
    }
    const int error = start(words, pipes[1], &process);
    close(pipes[1]);
    if (error)
        snprintf(reason, room, "%s cannot be called: %s", words[0], strerror(error));
    else
        code = end(process, read_all(pipes[0], stop, text), reason, room);
    close(pipes[0]);
    if (fclose(text) != 0)
        code = -1;
    return code;
}
