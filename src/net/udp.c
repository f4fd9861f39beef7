#define _GNU_SOURCE /* recvmmsg, SO_MEMINFO */
#include "net/udp.h"

#include <arpa/inet.h>
#include <errno.h>
#include <fcntl.h>
#include <netdb.h>
#include <netinet/in.h>
#include <stdio.h>
#include <stdlib.h>
#include <sys/socket.h>
#include <unistd.h>
#ifdef __linux__
#include <linux/sock_diag.h>
#endif

enum { BATCH = 64, LARGEST = 65536, KERNEL_BUFFER = 32 << 20 };

struct ind_udp_batch {
    char *bytes; /* BATCH times LARGEST; only what is written to takes memory */
    struct iovec pieces[BATCH];
    struct sockaddr_storage senders[BATCH];
    struct {
        _Alignas(8) char bytes[CMSG_SPACE(sizeof(struct timespec)) + 64];
    } control[BATCH];
    struct msghdr headers[BATCH];
    size_t lengths[BATCH];
#ifdef __linux__
    struct mmsghdr many[BATCH];
#endif
};

/* As large as the system lets us: a burst waits there while the collector is busy. */
static void ask_for_buffer(int socket)
{
    int size = KERNEL_BUFFER;
#ifdef SO_RCVBUFFORCE
    if (setsockopt(socket, SOL_SOCKET, SO_RCVBUFFORCE, &size, sizeof size) == 0)
        return;
#endif
    while (size > 65536 && setsockopt(socket, SOL_SOCKET, SO_RCVBUF, &size, sizeof size) != 0)
        size /= 2;
}

static int bind_to(const struct addrinfo *info, bool only_v6)
{
    int fd = socket(info->ai_family, SOCK_DGRAM, 0);
    if (fd < 0)
        return -1;
    int yes = 1, v6 = only_v6;
    (void)fcntl(fd, F_SETFD, FD_CLOEXEC);
    (void)fcntl(fd, F_SETFL, O_NONBLOCK);
    if (info->ai_family == AF_INET6)
        (void)setsockopt(fd, IPPROTO_IPV6, IPV6_V6ONLY, &v6, sizeof v6);
#ifdef SO_TIMESTAMPNS
    (void)setsockopt(fd, SOL_SOCKET, SO_TIMESTAMPNS, &yes, sizeof yes);
#endif
    (void)yes;
    ask_for_buffer(fd);
    if (bind(fd, info->ai_addr, info->ai_addrlen) == 0)
        return fd;
    int error = errno;
    close(fd);
    errno = error;
    return -1;
}

int ind_udp_listen(const char *address, uint16_t port, bool only_v6)
{
    struct addrinfo hints = {.ai_socktype = SOCK_DGRAM,
                             .ai_flags = AI_NUMERICHOST | AI_NUMERICSERV | AI_PASSIVE};
    struct addrinfo *info;
    char number[8];
    snprintf(number, sizeof number, "%u", port);
    if (getaddrinfo(address, number, &hints, &info) != 0) {
        errno = EADDRNOTAVAIL;
        return -1;
    }
    int fd = bind_to(info, only_v6);
    int error = errno;
    freeaddrinfo(info);
    errno = error;
    return fd;
}

uint16_t ind_udp_port(int socket)
{
    struct sockaddr_storage name = {0};
    socklen_t length = sizeof name;
    if (getsockname(socket, (struct sockaddr *)&name, &length) != 0)
        return 0;
    if (name.ss_family == AF_INET)
        return ntohs(((struct sockaddr_in *)&name)->sin_port);
    return name.ss_family == AF_INET6 ? ntohs(((struct sockaddr_in6 *)&name)->sin6_port) : 0;
}

uint64_t ind_udp_dropped(int socket)
{
#if defined(SO_MEMINFO) && defined(__linux__)
    uint32_t facts[SK_MEMINFO_VARS] = {0};
    socklen_t length = sizeof facts;
    if (getsockopt(socket, SOL_SOCKET, SO_MEMINFO, facts, &length) == 0)
        return facts[SK_MEMINFO_DROPS];
#endif
    (void)socket;
    return 0;
}

struct ind_udp_batch *ind_udp_batch_new(void)
{
    struct ind_udp_batch *batch = calloc(1, sizeof *batch);
    if (!batch || !(batch->bytes = malloc((size_t)BATCH * LARGEST))) {
        free(batch);
        return NULL;
    }
    for (size_t i = 0; i < BATCH; i++)
        batch->pieces[i] = (struct iovec){batch->bytes + i * LARGEST, LARGEST};
    return batch;
}

void ind_udp_batch_free(struct ind_udp_batch *batch)
{
    if (!batch)
        return;
    free(batch->bytes);
    free(batch);
}

static void prepare(struct ind_udp_batch *batch, size_t i)
{
    batch->headers[i] = (struct msghdr){.msg_name = &batch->senders[i],
                                        .msg_namelen = sizeof batch->senders[i],
                                        .msg_iov = &batch->pieces[i],
                                        .msg_iovlen = 1,
                                        .msg_control = &batch->control[i],
                                        .msg_controllen = sizeof batch->control[i]};
}

int ind_udp_receive(int socket, struct ind_udp_batch *batch)
{
#ifdef __linux__
    for (size_t i = 0; i < BATCH; i++) {
        prepare(batch, i);
        batch->many[i].msg_hdr = batch->headers[i];
    }
    int count = recvmmsg(socket, batch->many, BATCH, MSG_DONTWAIT, NULL);
    for (int i = 0; i < count; i++) {
        batch->headers[i] = batch->many[i].msg_hdr;
        batch->lengths[i] = batch->many[i].msg_len;
    }
#else
    int count = 0;
    while (count < BATCH) {
        prepare(batch, (size_t)count);
        ssize_t got = recvmsg(socket, &batch->headers[count], MSG_DONTWAIT);
        if (got < 0)
            break;
        batch->lengths[count++] = (size_t)got;
    }
    if (count == 0)
        count = -1;
#endif
    return count < 0 && (errno == EAGAIN || errno == EWOULDBLOCK || errno == EINTR) ? 0 : count;
}

static struct ind_address address_of(const struct sockaddr_storage *name)
{
    if (name->ss_family == AF_INET)
        return ind_address_v4((const uint8_t *)&((const struct sockaddr_in *)name)->sin_addr);
    if (name->ss_family == AF_INET6)
        return ind_address_v6((const uint8_t *)&((const struct sockaddr_in6 *)name)->sin6_addr);
    return (struct ind_address){0};
}

static ind_time stamp_of(struct msghdr *header)
{
#ifdef SO_TIMESTAMPNS
    for (struct cmsghdr *part = CMSG_FIRSTHDR(header); part; part = CMSG_NXTHDR(header, part)) {
        struct timespec stamp;
        if (part->cmsg_level != SOL_SOCKET || part->cmsg_type != SCM_TIMESTAMPNS)
            continue;
        memcpy(&stamp, CMSG_DATA(part), sizeof stamp);
        return (ind_time)stamp.tv_sec * IND_SECOND + stamp.tv_nsec;
    }
#endif
    (void)header;
    return IND_TIME_NONE;
}

struct ind_datagram ind_udp_datagram(const struct ind_udp_batch *batch, int i)
{
    struct msghdr header = batch->headers[i];
    return (struct ind_datagram){batch->pieces[i].iov_base, batch->lengths[i], address_of(&batch->senders[i]),
                                 stamp_of(&header)};
}

int ind_udp_connect(const char *host, const char *port, const char **reason)
{
    struct addrinfo hints = {.ai_socktype = SOCK_DGRAM}, *info;
    int result = getaddrinfo(host, port, &hints, &info);
    if (result != 0) {
        *reason = gai_strerror(result);
        return -1;
    }
    int fd = socket(info->ai_family, SOCK_DGRAM, 0);
    if (fd >= 0 && connect(fd, info->ai_addr, info->ai_addrlen) != 0) {
        int error = errno;
        close(fd);
        errno = error;
        fd = -1;
    }
    if (fd < 0)
        *reason = strerror(errno);
    freeaddrinfo(info);
    return fd;
}
