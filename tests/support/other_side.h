/* tests/support/other_side.h: whom a relay passes messages on to: a thread that takes octet-counted messages
 * over TCP or TLS, counts each by its id, and cuts, delays or swallows what comes, as a line would.
 *
 * A cut is exact: first nothing that comes is let through to the socket, so that nothing more is
 * acknowledged; then what was acknowledged is read; then the connection is reset. For test programs that
 * include it once. */
#ifndef IND_TESTS_OTHER_SIDE_H
#define IND_TESTS_OTHER_SIDE_H

#include "support/random.h"
#include "support/support.h"

#include "net/tls_session.h"
#include <arpa/inet.h>
#include <errno.h>
#include <fcntl.h>
#include <linux/filter.h>
#include <poll.h>
#include <pthread.h>
#include <stdatomic.h>
#include <stdlib.h>
#include <sys/socket.h>
#include <time.h>
#include <unistd.h>

enum { IND_IDS = 400000, IND_OTHER_ROOM = 2 << 20 };

struct ind_other_side {
    struct ind_tls *tls; /* NULL: none */
    int listener;
    unsigned port;
    pthread_t thread;
    atomic_bool ending, deaf; /* deaf: nothing is read */
    atomic_int cuts;          /* that are still to be made, each after some bytes */
    atomic_int cut_every;     /* bytes, on average */
    atomic_int swallow;       /* of a hundred cuts: those that are told by silence */
    atomic_uint connections, messages, doubles, bad;
    _Atomic unsigned char seen[IND_IDS];
    uint64_t random;
    char *bytes;
    size_t used;
};

static inline void ind_other_nap(int milliseconds)
{
    const struct timespec time = {milliseconds / 1000, milliseconds % 1000 * 1000000L};
    nanosleep(&time, NULL);
}

/* Whole messages at the beginning of what has come. */
static inline void ind_other_take(struct ind_other_side *side)
{
    size_t at = 0;
    for (;;) {
        size_t digits = at, length = 0;
        while (digits < side->used && side->bytes[digits] >= '0' && side->bytes[digits] <= '9')
            length = length * 10 + (size_t)(side->bytes[digits++] - '0');
        if (digits == side->used || digits + 1 + length > side->used)
            break;
        if (side->bytes[digits] != ' ' || digits == at) {
            side->bad++;
            at = side->used;
            break;
        }
        const char *message = side->bytes + digits + 1;
        const char *id = memmem(message, length, "id=", 3);
        const unsigned long number = id ? strtoul(id + 3, NULL, 10) : 0;
        if (id && number < IND_IDS) {
            side->doubles += side->seen[number] > 0;
            if (side->seen[number] < 255)
                side->seen[number]++;
            side->messages++;
        }
        at = digits + 1 + length;
    }
    memmove(side->bytes, side->bytes + at, side->used - at);
    side->used -= at;
}

/* Reads what there is. False: it has ended. */
static inline bool ind_other_read(struct ind_other_side *side, int fd, struct ind_tls_session *session,
                                  size_t *got)
{
    *got = 0;
    for (;;) {
        char *to = side->bytes + side->used;
        const size_t room = IND_OTHER_ROOM - side->used;
        const ssize_t one = session ? ind_tls_read(session, to, room < 65536 ? room : 65536)
                                    : recv(fd, to, room < 65536 ? room : 65536, 0);
        if (one < 0)
            return errno == EAGAIN || errno == EINTR;
        if (one == 0)
            return false;
        *got += (size_t)one;
        side->used += (size_t)one;
        ind_other_take(side);
        if (*got > 512 << 10)
            return true;
    }
}

static inline void ind_other_swallow(int fd)
{
    struct sock_filter drop = {BPF_RET | BPF_K, 0, 0, 0};
    const struct sock_fprog program = {1, &drop};
    (void)setsockopt(fd, SOL_SOCKET, SO_ATTACH_FILTER, &program, sizeof program);
}

static inline void ind_other_cut(struct ind_other_side *side, int fd, struct ind_tls_session *session)
{
    const struct linger reset = {1, 0};
    size_t got;
    const bool swallow = (int)(ind_random(&side->random, 100003) % 100) < side->swallow;
    if (!swallow && ind_random(&side->random, 100003) % 3 == 0) { /* an orderly end */
        (void)shutdown(fd, SHUT_WR);
        for (int i = 0; i < 1000 && ind_other_read(side, fd, session, &got); i++)
            ind_other_nap(1);
        return;
    }
    ind_other_swallow(fd);
    for (int i = 0; i < 3; i++) {
        while (ind_other_read(side, fd, session, &got) && got)
            ;
        ind_other_nap(1);
    }
    if (swallow)
        for (int i = 0; i < 150 && !side->ending; i++)
            ind_other_nap(10);
    (void)setsockopt(fd, SOL_SOCKET, SO_LINGER, &reset, sizeof reset);
}

static inline void ind_other_serve(struct ind_other_side *side, int fd)
{
    struct ind_tls_session *session = side->tls ? ind_tls_session_new(side->tls, fd) : NULL;
    size_t got, all = 0;
    const int every = side->cut_every > 0 ? side->cut_every : 1;
    const size_t limit = ind_random(&side->random, 2u * (unsigned)every);
    bool goes_on = true;
    side->used = 0;
    enum ind_tls_step step = session ? IND_TLS_WANTS_TO_READ : IND_TLS_DONE;
    while (session && (step = ind_tls_handshake(session)) != IND_TLS_DONE && step != IND_TLS_FAILED &&
           !side->ending) {
        struct pollfd poller = {fd, step == IND_TLS_WANTS_TO_READ ? POLLIN : POLLOUT, 0};
        (void)poll(&poller, 1, 50);
    }
    while (goes_on && !side->ending && step == IND_TLS_DONE) {
        struct pollfd poller = {fd, POLLIN, 0};
        if (side->deaf) {
            ind_other_nap(5);
            continue;
        }
        (void)poll(&poller, 1, 20);
        goes_on = ind_other_read(side, fd, session, &got);
        all += got;
        if (goes_on && side->cuts > 0 && all >= limit) {
            side->cuts--;
            ind_other_cut(side, fd, session);
            break;
        }
        if (ind_random(&side->random, 100003) % 200 == 0)
            ind_other_nap(20);
    }
    ind_tls_session_free(session);
    close(fd);
}

static inline void *ind_other_run(void *argument)
{
    struct ind_other_side *side = argument;
    while (!side->ending) {
        struct pollfd poller = {side->listener, POLLIN, 0};
        if (poll(&poller, 1, 20) != 1)
            continue;
        const int fd = accept4(side->listener, NULL, NULL, SOCK_NONBLOCK | SOCK_CLOEXEC);
        if (fd < 0)
            continue;
        side->connections++;
        ind_other_serve(side, fd);
    }
    return NULL;
}

/* New, at a port of its own (0: any). */
static inline struct ind_other_side *ind_other_side_new(struct ind_tls *tls, unsigned port)
{
    struct ind_other_side *side = calloc(1, sizeof *side);
    struct sockaddr_in name = {
        .sin_family = AF_INET, .sin_port = htons((uint16_t)port), .sin_addr.s_addr = htonl(INADDR_LOOPBACK)};
    socklen_t length = sizeof name;
    const int yes = 1, window = 128 << 10;
    assert_non_null(side);
    side->tls = tls;
    side->random = IND_RANDOM_START;
    side->bytes = malloc(IND_OTHER_ROOM);
    side->listener = socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
    (void)setsockopt(side->listener, SOL_SOCKET, SO_REUSEADDR, &yes, sizeof yes);
    (void)setsockopt(side->listener, SOL_SOCKET, SO_RCVBUF, &window, sizeof window);
    assert_int_equal(bind(side->listener, (struct sockaddr *)&name, sizeof name), 0);
    assert_int_equal(listen(side->listener, 16), 0);
    assert_int_equal(getsockname(side->listener, (struct sockaddr *)&name, &length), 0);
    side->port = ntohs(name.sin_port);
    assert_int_equal(pthread_create(&side->thread, NULL, ind_other_run, side), 0);
    return side;
}

static inline void ind_other_side_free(struct ind_other_side *side)
{
    if (!side)
        return;
    side->ending = true;
    pthread_join(side->thread, NULL);
    close(side->listener);
    free(side->bytes);
    free(side);
}

#endif
