#define _GNU_SOURCE
#include "collect/output/spawner.h"

#include "collect/runtime/clock.h"
#include <errno.h>
#include <fcntl.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/select.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

/* After the end of its input a program has so long to end by itself, then so long after SIGTERM. */
#define GRACE (3 * IND_SECOND)
#define LAST_GRACE (2 * IND_SECOND)
enum { PROGRAMS = 256, WORDS = IND_SPAWNER_ARGUMENTS / 2 };

struct ind_spawner {
    pid_t process;
    int socket;
};

struct request {
    uint32_t id;
    uint32_t words; /* 0: it is to end */
    char text[IND_SPAWNER_ARGUMENTS];
};
#define REQUEST_HEAD offsetof(struct request, text)

/* ---- The spawner's side ---- */

struct child {
    pid_t process; /* 0: free */
    uint32_t id;
    struct ind_steady end_at; /* not set: it may run on */
    bool asked;               /* by SIGTERM */
};

struct side {
    int socket;
    struct child children[PROGRAMS];
    bool ending;
};

static void on_child(int signal_number)
{
    (void)signal_number; /* to wake pselect */
}

static void send_event(const struct side *side, enum ind_spawner_event_kind kind, uint32_t id, int value,
                       int fd)
{
    struct ind_spawner_event event = {kind, id, value, -1};
    struct iovec part = {&event, sizeof event};
    union {
        struct cmsghdr align;
        char room[CMSG_SPACE(sizeof(int))];
    } control;
    memset(&control, 0, sizeof control);
    struct msghdr message = {.msg_iov = &part, .msg_iovlen = 1};
    if (fd >= 0) {
        message.msg_control = control.room;
        message.msg_controllen = sizeof control.room;
        struct cmsghdr *head = CMSG_FIRSTHDR(&message);
        head->cmsg_level = SOL_SOCKET;
        head->cmsg_type = SCM_RIGHTS;
        head->cmsg_len = CMSG_LEN(sizeof fd);
        memcpy(CMSG_DATA(head), &fd, sizeof fd);
    }
    while (sendmsg(side->socket, &message, MSG_NOSIGNAL) < 0 && errno == EINTR)
        ;
}

/* In the child. It is of a process group of its own, so that an interrupt at the terminal leaves it its time
 * to read what is still to come. */
static _Noreturn void become(char **words, int input, int failed)
{
    sigset_t none;
    sigemptyset(&none);
    (void)setpgid(0, 0);
    for (int number = 1; number < 32; number++)
        (void)signal(number, SIG_DFL);
    (void)sigprocmask(SIG_SETMASK, &none, NULL);
    if (dup2(input, STDIN_FILENO) == STDIN_FILENO)
        execvp(words[0], words);
    int error = errno;
    while (write(failed, &error, sizeof error) < 0 && errno == EINTR)
        ;
    _exit(127);
}

/* Forks; sets *error where the program could not be started. */
static pid_t spawn(char **words, int input, int *error)
{
    int failed[2];
    *error = 0;
    if (pipe2(failed, O_CLOEXEC) != 0) {
        *error = errno;
        return -1;
    }
    pid_t process = fork();
    if (process == 0)
        become(words, input, failed[1]);
    *error = process < 0 ? errno : 0;
    close(failed[1]);
    ssize_t got = 0;
    while (process > 0 && (got = read(failed[0], error, sizeof *error)) < 0 && errno == EINTR)
        ;
    close(failed[0]);
    if (process > 0 && got == (ssize_t)sizeof *error) {
        while (waitpid(process, NULL, 0) < 0 && errno == EINTR)
            ;
        return -1;
    }
    return process;
}

static void start(struct side *side, struct request *request, size_t length)
{
    char *words[WORDS + 1];
    size_t count = 0, at = 0;
    for (; at < length && count < request->words && count < WORDS; at += strlen(request->text + at) + 1)
        words[count++] = request->text + at;
    words[count] = NULL;
    struct child *child = side->children;
    while (child < side->children + PROGRAMS && child->process)
        child++;
    int input[2], error = EAGAIN;
    if (count == 0 || child == side->children + PROGRAMS || pipe2(input, O_CLOEXEC) != 0) {
        send_event(side, IND_SPAWNER_FAILED, request->id, error, -1);
        return;
    }
    pid_t process = spawn(words, input[0], &error);
    close(input[0]);
    if (process > 0) {
        *child = (struct child){process, request->id, IND_STEADY_NEVER, false};
        send_event(side, IND_SPAWNER_STARTED, request->id, (int)process, input[1]);
    } else {
        send_event(side, IND_SPAWNER_FAILED, request->id, error, -1);
    }
    close(input[1]);
}

/* One program, or (`id` 0, which none has) all of them. */
static void stop(struct side *side, uint32_t id)
{
    for (struct child *child = side->children; child < side->children + PROGRAMS; child++)
        if (child->process && (id == 0 || child->id == id) && !ind_steady_is_set(child->end_at))
            child->end_at = ind_steady_after(ind_steady_now(), GRACE);
}

static void read_request(struct side *side)
{
    struct request request;
    ssize_t got = recv(side->socket, &request, sizeof request, 0);
    if (got < 0 && errno == EINTR)
        return;
    if (got < (ssize_t)REQUEST_HEAD) { /* the collector has ended, one way or another */
        side->ending = true;
        stop(side, 0);
        return;
    }
    request.text[sizeof request.text - 1] = '\0';
    if (request.words)
        start(side, &request, (size_t)got - REQUEST_HEAD);
    else
        stop(side, request.id);
}

/* How many still run. */
static int see_to_children(struct side *side)
{
    int running = 0, status;
    for (struct child *child = side->children; child < side->children + PROGRAMS; child++) {
        if (!child->process)
            continue;
        if (waitpid(child->process, &status, WNOHANG) == child->process) {
            if (!side->ending)
                send_event(side, IND_SPAWNER_ENDED, child->id, status, -1);
            child->process = 0;
            continue;
        }
        running++;
        if (!ind_steady_is_set(child->end_at) || ind_steady_from(ind_steady_now(), child->end_at) > 0)
            continue;
        (void)kill(-child->process, child->asked ? SIGKILL : SIGTERM);
        child->asked = true;
        child->end_at = ind_steady_after(ind_steady_now(), LAST_GRACE);
    }
    return running;
}

static _Noreturn void help(int socket)
{
    struct side side = {.socket = socket};
    sigset_t blocked, waiting;
    struct sigaction action = {.sa_handler = on_child};
    for (int number = 1; number < 32; number++)
        if (number != SIGCHLD && number != SIGKILL && number != SIGSTOP && number != SIGSEGV &&
            number != SIGBUS && number != SIGILL && number != SIGFPE && number != SIGABRT)
            (void)signal(number, SIG_IGN); /* it ends when the collector has ended, and not before */
    sigemptyset(&blocked);
    sigaddset(&blocked, SIGCHLD);
    (void)sigprocmask(SIG_SETMASK, &blocked, NULL);
    (void)sigaction(SIGCHLD, &action, NULL);
    sigemptyset(&waiting);
    /* It holds neither the input nor the output of the collector: whoever waits for their end waits for the
     * collector only. */
    int nothing = open("/dev/null", O_RDONLY);
    if (nothing >= 0)
        (void)dup2(nothing, STDIN_FILENO);
    (void)dup2(STDERR_FILENO, STDOUT_FILENO);
    if (nothing > STDERR_FILENO)
        close(nothing);
    for (;;) {
        int running = see_to_children(&side);
        if (side.ending && running == 0)
            _exit(0);
        fd_set readable;
        struct timespec wait = {0, 100000000};
        FD_ZERO(&readable);
        if (!side.ending)
            FD_SET(socket, &readable);
        int ready = pselect(socket + 1, &readable, NULL, NULL, running ? &wait : NULL, &waiting);
        if (ready > 0 && FD_ISSET(socket, &readable))
            read_request(&side);
    }
}

/* ---- The collector's side ---- */

/* Programs get nothing that the collector keeps for itself. */
static void give_up_rights(const struct ind_identity *identity)
{
    char reason[200];
    if (!ind_identity_take_on(identity, false, reason, sizeof reason))
        _exit(1);
}

struct ind_spawner *ind_spawner_new(const struct ind_identity *identity)
{
    struct ind_spawner *spawner = calloc(1, sizeof *spawner);
    int ends[2];
    if (!spawner || socketpair(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC, 0, ends) != 0) {
        free(spawner);
        return NULL;
    }
    spawner->process = fork();
    if (spawner->process == 0) {
        close(ends[0]);
        give_up_rights(identity);
        help(ends[1]);
    }
    close(ends[1]);
    spawner->socket = ends[0];
    if (spawner->process > 0)
        return spawner;
    close(ends[0]);
    free(spawner);
    return NULL;
}

void ind_spawner_free(struct ind_spawner *spawner)
{
    if (!spawner)
        return;
    close(spawner->socket);
    while (waitpid(spawner->process, NULL, 0) < 0 && errno == EINTR)
        ;
    free(spawner);
}

static bool request(struct ind_spawner *spawner, const struct request *request, size_t length)
{
    ssize_t sent;
    while ((sent = send(spawner->socket, request, REQUEST_HEAD + length, MSG_DONTWAIT | MSG_NOSIGNAL)) < 0 &&
           errno == EINTR)
        ;
    return sent >= 0;
}

bool ind_spawner_start(struct ind_spawner *spawner, uint32_t id, char *const *program)
{
    struct request asked = {.id = id};
    size_t used = 0;
    for (; program[asked.words]; asked.words++) {
        size_t length = strlen(program[asked.words]) + 1;
        if (used + length > sizeof asked.text)
            return false;
        memcpy(asked.text + used, program[asked.words], length);
        used += length;
    }
    return request(spawner, &asked, used);
}

void ind_spawner_stop(struct ind_spawner *spawner, uint32_t id)
{
    struct request asked = {.id = id};
    (void)request(spawner, &asked, 0);
}

bool ind_spawner_next(struct ind_spawner *spawner, struct ind_spawner_event *event)
{
    struct iovec part = {event, sizeof *event};
    union {
        struct cmsghdr align;
        char room[CMSG_SPACE(sizeof(int))];
    } control;
    struct msghdr message = {.msg_iov = &part,
                             .msg_iovlen = 1,
                             .msg_control = control.room,
                             .msg_controllen = sizeof control.room};
    ssize_t got;
    int flags = MSG_DONTWAIT;
#ifdef MSG_CMSG_CLOEXEC
    flags |= MSG_CMSG_CLOEXEC;
#endif
    while ((got = recvmsg(spawner->socket, &message, flags)) < 0 && errno == EINTR)
        ;
    if (got != (ssize_t)sizeof *event)
        return false;
    event->fd = -1;
    struct cmsghdr *head = CMSG_FIRSTHDR(&message);
    if (head && head->cmsg_type == SCM_RIGHTS)
        memcpy(&event->fd, CMSG_DATA(head), sizeof event->fd);
    return true;
}
