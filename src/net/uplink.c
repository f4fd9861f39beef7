#define _DEFAULT_SOURCE
#include "net/uplink.h"

#include "net/steady_ms.h"
#include "net/tls_session.h"
#include "net/unanswered.h"
#include <errno.h>
#include <fcntl.h>
#include <netdb.h>
#include <poll.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

enum {
    PLAIN = 16 << 10, /* bytes in a TLS record (RFC 8446 section 5.1) */
    RECORDS = 1024    /* TLS records that may wait for their acknowledgement */
};

/* A TLS record: up to where it brings what was taken, and what was given to the socket. */
struct record {
    uint64_t taken, given;
};

struct ind_uplink {
    int socket;
    bool stream, counts; /* counts: the system tells what is acknowledged */
    bool local, ended;
    uint64_t taken, acknowledged;
    struct ind_tls_session *session; /* NULL: none */
    char *plain;                     /* the record that is being written */
    size_t plain_length;
    struct record *records; /* a ring */
    size_t first, count;
    char reason[IND_UPLINK_REASON];
};

/* ---- Made ---- */

/* Until the socket is ready, or somebody wants an end of it, or the time is over. */
static bool wait_for(int socket, short events, int stop, int64_t until)
{
    for (;;) {
        struct pollfd pollers[2] = {{socket, events, 0}, {stop, POLLIN, 0}};
        const int64_t left = until - ind_steady_ms();
        if (left <= 0)
            return false;
        const int ready = poll(pollers, stop >= 0 ? 2 : 1, (int)left);
        if (ready < 0 && errno != EINTR)
            return false;
        if (stop >= 0 && pollers[1].revents)
            return false;
        if (ready > 0 && pollers[0].revents)
            return true;
    }
}

static int connect_one(const struct addrinfo *info, const struct ind_uplink_settings *settings, char *reason)
{
    int error = 0;
    socklen_t length = sizeof error;
    const int fd = socket(info->ai_family, info->ai_socktype, 0);
    if (fd < 0) {
        snprintf(reason, IND_UPLINK_REASON, "%s", strerror(errno));
        return -1;
    }
    ind_socket_set_flags(fd);
    if (connect(fd, info->ai_addr, info->ai_addrlen) == 0)
        return fd;
    if (errno == EINPROGRESS || errno == EINTR) {
        if (!wait_for(fd, POLLOUT, settings->stop, ind_steady_ms() + settings->milliseconds))
            error = ETIMEDOUT;
        else if (getsockopt(fd, SOL_SOCKET, SO_ERROR, &error, &length) != 0)
            error = errno;
        if (error == 0)
            return fd;
    } else {
        error = errno;
    }
    snprintf(reason, IND_UPLINK_REASON, "%s", strerror(error));
    close(fd);
    return -1;
}

static int connect_ip(const struct ind_uplink_settings *settings, char *reason)
{
    const struct addrinfo hints = {.ai_socktype = settings->kind == IND_SEND_UDP ? SOCK_DGRAM : SOCK_STREAM};
    struct addrinfo *info;
    int fd = -1;
    const int result = getaddrinfo(settings->host, settings->port, &hints, &info);
    if (result != 0) {
        snprintf(reason, IND_UPLINK_REASON, "%s", gai_strerror(result));
        return -1;
    }
    for (const struct addrinfo *each = info; each && fd < 0; each = each->ai_next)
        fd = connect_one(each, settings, reason);
    freeaddrinfo(info);
    return fd;
}

static int connect_to(const struct ind_uplink_settings *settings, char *reason)
{
    const char *why = "";
    if (settings->kind != IND_SEND_UNIX)
        return connect_ip(settings, reason);
    const int fd = ind_connect(IND_SEND_UNIX, settings->host, NULL, NULL, &why);
    if (fd < 0)
        snprintf(reason, IND_UPLINK_REASON, "%s", why);
    else
        ind_socket_set_flags(fd);
    return fd;
}

static bool shake_hands(struct ind_uplink *link, const struct ind_uplink_settings *settings, char *reason)
{
    const int64_t until = ind_steady_ms() + settings->milliseconds;
    enum ind_tls_step step = IND_TLS_FAILED;
    snprintf(reason, IND_UPLINK_REASON, "out of memory");
    link->plain = malloc(PLAIN);
    link->records = malloc(RECORDS * sizeof *link->records);
    link->session = ind_tls_session_new_to(settings->tls, link->socket, settings->host);
    if (!link->plain || !link->records || !link->session)
        return false;
    while ((step = ind_tls_handshake(link->session)) == IND_TLS_WANTS_TO_READ ||
           step == IND_TLS_WANTS_TO_WRITE)
        if (!wait_for(link->socket, step == IND_TLS_WANTS_TO_READ ? POLLIN : POLLOUT, settings->stop, until))
            break;
    if (step == IND_TLS_DONE)
        return true;
    const char *detail = ind_tls_failure_detail(link->session);
    snprintf(reason, IND_UPLINK_REASON, "%s%s%s",
             ind_tls_failure_text(step == IND_TLS_FAILED ? ind_tls_failure(link->session) : IND_TLS_TOO_SLOW),
             *detail ? ": " : "", detail);
    return false;
}

struct ind_uplink *ind_uplink_open(const struct ind_uplink_settings *settings, char reason[IND_UPLINK_REASON])
{
    int type = 0;
    socklen_t length = sizeof type;
    uint64_t bytes;
    struct ind_uplink *link = calloc(1, sizeof *link);
    snprintf(reason, IND_UPLINK_REASON, "out of memory");
    if (!link)
        return NULL;
    link->socket = connect_to(settings, reason);
    if (link->socket < 0) {
        free(link);
        return NULL;
    }
    (void)getsockopt(link->socket, SOL_SOCKET, SO_TYPE, &type, &length);
    link->stream = type == SOCK_STREAM;
    link->local = settings->kind == IND_SEND_UNIX;
    link->counts = link->stream && ind_unanswered(link->socket, &bytes);
    if (link->stream && !link->local)
        ind_keep_alive(link->socket);
    if (settings->kind == IND_SEND_TLS && !shake_hands(link, settings, reason)) {
        ind_uplink_close(link);
        return NULL;
    }
    return link;
}

void ind_uplink_close(struct ind_uplink *link)
{
    if (!link)
        return;
    ind_tls_session_free(link->session);
    close(link->socket);
    free(link->plain);
    free(link->records);
    free(link);
}

int ind_uplink_socket(const struct ind_uplink *link)
{
    return link->socket;
}

bool ind_uplink_is_stream(const struct ind_uplink *link)
{
    return link->stream;
}

const char *ind_uplink_reason(const struct ind_uplink *link)
{
    return link->reason;
}

uint64_t ind_uplink_taken(const struct ind_uplink *link)
{
    return link->taken;
}

/* ---- Writing ---- */

static bool end(struct ind_uplink *link, const char *reason)
{
    if (!link->ended)
        snprintf(link->reason, sizeof link->reason, "%s", reason);
    link->ended = true;
    return false;
}

/* The record under way, as far as it goes. False where the link has ended. */
static bool write_record(struct ind_uplink *link)
{
    if (link->plain_length == 0)
        return true;
    const ssize_t written = ind_tls_write(link->session, link->plain, link->plain_length);
    if (written > 0) {
        link->plain_length = 0;
        link->records[(link->first + link->count++) % RECORDS] =
            (struct record){link->taken, ind_tls_given(link->session)};
        return true;
    }
    if (written < 0 && errno == EAGAIN)
        return true;
    const char *detail = ind_tls_failure_detail(link->session);
    return end(link, *detail ? detail : strerror(errno));
}

static ptrdiff_t write_under_tls(struct ind_uplink *link, const char *bytes, size_t length)
{
    if (!write_record(link))
        return -1;
    if (link->plain_length || link->count == RECORDS)
        return 0;
    link->plain_length = length < PLAIN ? length : PLAIN;
    memcpy(link->plain, bytes, link->plain_length);
    link->taken += link->plain_length;
    const size_t taken = link->plain_length;
    return write_record(link) ? (ptrdiff_t)taken : -1;
}

ptrdiff_t ind_uplink_write(struct ind_uplink *link, const char *bytes, size_t length)
{
    if (link->ended)
        return -1;
    if (link->session)
        return write_under_tls(link, bytes, length);
    const ssize_t sent = send(link->socket, bytes, length, MSG_NOSIGNAL);
    if (sent >= 0) {
        link->taken += (uint64_t)sent;
        return sent;
    }
    if (errno == EAGAIN || errno == EWOULDBLOCK || errno == EINTR || errno == ENOBUFS)
        return 0;
    (void)end(link, strerror(errno));
    return -1;
}

bool ind_uplink_holds(const struct ind_uplink *link)
{
    return link->plain_length > 0;
}

/* ---- What the other side says ---- */

static bool look_under_tls(struct ind_uplink *link)
{
    char rest[4096];
    ssize_t got;
    while ((got = ind_tls_read(link->session, rest, sizeof rest)) > 0)
        if (!ind_tls_has_more(link->session))
            return write_record(link);
    if (got == 0)
        return end(link, "the other side has ended the connection");
    return errno == EAGAIN ? write_record(link) : end(link, strerror(errno));
}

bool ind_uplink_look(struct ind_uplink *link)
{
    char rest[4096];
    if (link->ended)
        return false;
    if (link->session)
        return look_under_tls(link);
    const ssize_t got = recv(link->socket, rest, sizeof rest, MSG_DONTWAIT);
    if (got > 0 || (got == 0 && !link->stream))
        return true; /* nothing that is of interest */
    if (got == 0)
        return end(link, "the other side has ended the connection");
    return errno == EAGAIN || errno == EWOULDBLOCK || errno == EINTR ? true : end(link, strerror(errno));
}

/* ---- Acknowledgements ---- */

uint64_t ind_uplink_acknowledged(struct ind_uplink *link)
{
    uint64_t left = 0;
    if (!link->stream || !link->counts) {
        link->acknowledged = link->taken - link->plain_length;
        return link->acknowledged;
    }
    if (!ind_unanswered(link->socket, &left))
        return link->acknowledged;
    if (link->local) {
        link->acknowledged = left == 0 ? link->taken : link->acknowledged;
        return link->acknowledged;
    }
    if (!link->session) {
        link->acknowledged = link->taken > left ? link->taken - left : 0;
        return link->acknowledged;
    }
    const uint64_t given = ind_tls_given(link->session), known = given > left ? given - left : 0;
    while (link->count && link->records[link->first].given <= known) {
        link->acknowledged = link->records[link->first].taken;
        link->first = (link->first + 1) % RECORDS;
        link->count--;
    }
    return link->acknowledged;
}
