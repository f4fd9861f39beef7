#define _GNU_SOURCE
#include "net/outlet.h"

#include "net/tls_session.h"
#include <errno.h>
#include <netinet/in.h>
#include <netinet/udp.h>
#include <poll.h>
#include <stdio.h>
#include <stdlib.h>
#include <sys/time.h>
#include <unistd.h>

enum { GATHERED = 256 << 10, TRAIN = 64, TRAIN_BYTES = 65000 };

#if defined(UDP_SEGMENT) && defined(SOL_UDP)
#define IND_TRAINS 1
#endif

struct ind_outlet {
    int socket;
    struct ind_tls_session *session; /* NULL: none */
    bool stream, lines, trains;
    char *gathered;
    size_t used;
    size_t car, cars; /* of a train: the length of each but the last, and how many there are */
};

/* The socket waits, so that each step is taken to its end. */
static bool begin_tls(struct ind_outlet *outlet, const struct ind_outlet_settings *settings,
                      const char **reason)
{
    enum { SECONDS = 10 };
    const struct timeval most = {SECONDS, 0}, none = {0, 0};
    *reason = "out of memory";
    (void)setsockopt(outlet->socket, SOL_SOCKET, SO_RCVTIMEO, &most, sizeof most);
    outlet->session = ind_tls_session_new_to(settings->tls, outlet->socket, settings->host);
    enum ind_tls_step step = outlet->session ? ind_tls_handshake(outlet->session) : IND_TLS_FAILED;
    (void)setsockopt(outlet->socket, SOL_SOCKET, SO_RCVTIMEO, &none, sizeof none);
    if (outlet->session && step != IND_TLS_DONE)
        *reason = ind_tls_failure_text(step == IND_TLS_FAILED ? ind_tls_failure(outlet->session)
                                                              : IND_TLS_TOO_SLOW);
    return step == IND_TLS_DONE;
}

struct ind_outlet *ind_outlet_open(const struct ind_outlet_settings *settings, const char **reason)
{
    struct ind_outlet *outlet = calloc(1, sizeof *outlet);
    int type = 0;
    socklen_t length = sizeof type;
    *reason = "out of memory";
    if (!outlet || !(outlet->gathered = malloc(GATHERED))) {
        free(outlet);
        return NULL;
    }
    outlet->socket = ind_connect(settings->kind, settings->host, settings->port, settings->from, reason);
    if (outlet->socket < 0) {
        free(outlet->gathered);
        free(outlet);
        return NULL;
    }
    if (settings->kind == IND_SEND_TLS && !begin_tls(outlet, settings, reason)) {
        ind_outlet_close(outlet);
        return NULL;
    }
    (void)getsockopt(outlet->socket, SOL_SOCKET, SO_TYPE, &type, &length);
    outlet->stream = type == SOCK_STREAM;
    outlet->lines = settings->lines;
#ifdef IND_TRAINS
    outlet->trains = settings->trains && settings->kind == IND_SEND_UDP;
#endif
    return outlet;
}

void ind_outlet_close(struct ind_outlet *outlet)
{
    if (!outlet)
        return;
    ind_tls_session_free(outlet->session);
    close(outlet->socket);
    free(outlet->gathered);
    free(outlet);
}

/* A local socket whose reader is slow, or a full queue of the network device: it will be better soon. */
static bool wait_for_room(struct ind_outlet *outlet)
{
    struct pollfd ready = {outlet->socket, POLLOUT, 0};
    if (errno == EINTR)
        return true;
    if (errno != ENOBUFS && errno != EAGAIN)
        return false;
    (void)poll(&ready, 1, 10);
    return true;
}

static bool send_datagram(struct ind_outlet *outlet, const char *bytes, size_t length)
{
    while (send(outlet->socket, bytes, length, 0) < 0)
        if (!wait_for_room(outlet))
            return false;
    return true;
}

static bool send_train(struct ind_outlet *outlet)
{
#ifdef IND_TRAINS
    union {
        char bytes[CMSG_SPACE(sizeof(uint16_t))];
        struct cmsghdr align;
    } control = {{0}};
    struct iovec piece = {outlet->gathered, outlet->used};
    struct msghdr header = {.msg_iov = &piece,
                            .msg_iovlen = 1,
                            .msg_control = control.bytes,
                            .msg_controllen = sizeof control.bytes};
    struct cmsghdr *part = CMSG_FIRSTHDR(&header);
    uint16_t car = (uint16_t)outlet->car;
    part->cmsg_level = SOL_UDP;
    part->cmsg_type = UDP_SEGMENT;
    part->cmsg_len = CMSG_LEN(sizeof car);
    memcpy(CMSG_DATA(part), &car, sizeof car);
    while (outlet->used > 0 && sendmsg(outlet->socket, &header, 0) < 0)
        if (!wait_for_room(outlet))
            return false;
#endif
    outlet->used = outlet->cars = 0;
    return true;
}

/* All datagrams of a train but the last are of one length, and the last is no longer. */
static bool add_to_train(struct ind_outlet *outlet, struct ind_slice message)
{
    enum { LONGEST = 1400 }; /* a segment must fit the way to the other side in one piece */
    bool fits = outlet->cars < TRAIN && outlet->used + message.length <= TRAIN_BYTES &&
                (outlet->cars == 0 || message.length <= outlet->car) && message.length <= LONGEST;
    if (!fits && outlet->cars > 0 && !send_train(outlet))
        return false;
    if (message.length > LONGEST || message.length == 0)
        return send_datagram(outlet, message.at, message.length);
    if (outlet->cars == 0)
        outlet->car = message.length;
    memcpy(outlet->gathered + outlet->used, message.at, message.length);
    outlet->used += message.length;
    outlet->cars++;
    return message.length == outlet->car ? true : send_train(outlet);
}

static bool write_all(struct ind_outlet *outlet, const char *bytes, size_t length)
{
    while (length > 0) {
        ssize_t sent = send(outlet->socket, bytes, length, MSG_NOSIGNAL);
        if (sent < 0 && !wait_for_room(outlet))
            return false;
        if (sent > 0) {
            bytes += sent;
            length -= (size_t)sent;
        }
    }
    return true;
}

bool ind_outlet_flush(struct ind_outlet *outlet)
{
    if (outlet->used == 0)
        return true;
    if (!outlet->stream)
        return send_train(outlet);
    size_t used = outlet->used;
    outlet->used = 0;
    if (outlet->session)
        return ind_tls_write_all(outlet->session, outlet->gathered, used);
    return write_all(outlet, outlet->gathered, used);
}

bool ind_outlet_finish(struct ind_outlet *outlet)
{
    return ind_outlet_flush(outlet) && (!outlet->session || ind_tls_say_goodbye(outlet->session));
}

const char *ind_outlet_reason(const struct ind_outlet *outlet)
{
    if (!outlet->session)
        return strerror(errno);
    const char *detail = ind_tls_failure_detail(outlet->session);
    return *detail ? detail : "the other side broke off; what was sent last may not have been taken";
}

static bool add_to_stream(struct ind_outlet *outlet, struct ind_slice message)
{
    enum { AROUND = 24 }; /* a count, a line end */
    if (GATHERED - outlet->used < message.length + AROUND && !ind_outlet_flush(outlet))
        return false;
    struct ind_buffer buffer = ind_buffer_on(outlet->gathered + outlet->used, GATHERED - outlet->used);
    if (!outlet->lines) {
        ind_buffer_number(&buffer, message.length);
        ind_buffer_byte(&buffer, ' ');
    }
    ind_buffer_slice(&buffer, message);
    if (outlet->lines)
        ind_buffer_byte(&buffer, '\n');
    outlet->used += buffer.length;
    return true;
}

bool ind_outlet_send(struct ind_outlet *outlet, struct ind_slice message, bool *cut)
{
    *cut = message.length > IND_OUTLET_DATAGRAM;
    if (*cut)
        message.length = IND_OUTLET_DATAGRAM;
    if (outlet->stream)
        return add_to_stream(outlet, message);
    return outlet->trains ? add_to_train(outlet, message) : send_datagram(outlet, message.at, message.length);
}
