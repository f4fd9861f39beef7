#define _GNU_SOURCE /* recvmmsg, SO_MEMINFO */
#include "net/udp.h"

#include "net/socket.h"

#include <errno.h>
#include <fcntl.h>
#include <netdb.h>
#include <netinet/in.h>
#include <stdio.h>
#include <stdlib.h>
#include <sys/socket.h>
#include <unistd.h>
#ifdef __linux__
#include <linux/filter.h>
#include <linux/sock_diag.h>
#endif

enum { LARGEST = 65536, KERNEL_BUFFER = 32 << 20 };

struct ind_udp_batch {
    char *bytes; /* IND_UDP_BATCH times LARGEST; only what is written to takes memory */
    struct iovec pieces[IND_UDP_BATCH];
    struct sockaddr_storage senders[IND_UDP_BATCH];
    struct {
        _Alignas(8) char bytes[CMSG_SPACE(sizeof(struct timespec)) + 64];
    } control[IND_UDP_BATCH];
    struct msghdr headers[IND_UDP_BATCH];
    size_t lengths[IND_UDP_BATCH];
#ifdef __linux__
    struct mmsghdr many[IND_UDP_BATCH];
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

void ind_udp_prepare(int socket)
{
    int yes = 1;
    ind_socket_set_flags(socket);
#ifdef SO_TIMESTAMPNS
    (void)setsockopt(socket, SOL_SOCKET, SO_TIMESTAMPNS, &yes, sizeof yes);
#endif
    (void)yes;
    ask_for_buffer(socket);
}

static int bind_to(const struct addrinfo *info, bool shared)
{
    int fd = socket(info->ai_family, SOCK_DGRAM, 0);
    if (fd < 0)
        return -1;
    int yes = 1;
    if (info->ai_family == AF_INET6)
        (void)setsockopt(fd, IPPROTO_IPV6, IPV6_V6ONLY, &yes, sizeof yes);
#ifdef SO_REUSEPORT
    if (shared)
        (void)setsockopt(fd, SOL_SOCKET, SO_REUSEPORT, &yes, sizeof yes);
#endif
    (void)yes;
    (void)shared;
    ind_udp_prepare(fd);
    if (bind(fd, info->ai_addr, info->ai_addrlen) == 0)
        return fd;
    int error = errno;
    close(fd);
    errno = error;
    return -1;
}

int ind_udp_listen(const char *address, uint16_t port, bool shared)
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
    int fd = bind_to(info, shared);
    int error = errno;
    freeaddrinfo(info);
    errno = error;
    return fd;
}

#if defined(SO_ATTACH_REUSEPORT_CBPF) && defined(__linux__)
bool ind_udp_can_share(void)
{
    return true;
}

/* The number of the socket is a hash of the source address, modulo their number. An IPv4 datagram has an IPv4
 * header whichever socket it comes to, so that ::ffff:192.0.2.9 is 192.0.2.9 here too. */
bool ind_udp_share_by_address(int socket, unsigned sockets)
{
    enum { V4_SOURCE = 12, V6_SOURCE = 8 };
    const uint32_t header = (uint32_t)SKF_NET_OFF;
    struct sock_filter code[] = {
        BPF_STMT(BPF_LD | BPF_B | BPF_ABS, header),
        BPF_STMT(BPF_ALU | BPF_RSH | BPF_K, 4), /* the version */
        BPF_JUMP(BPF_JMP | BPF_JEQ | BPF_K, 6, 2, 0),
        BPF_STMT(BPF_LD | BPF_W | BPF_ABS, header + V4_SOURCE),
        BPF_JUMP(BPF_JMP | BPF_JA, 10, 0, 0),
        BPF_STMT(BPF_LD | BPF_W | BPF_ABS, header + V6_SOURCE),
        BPF_STMT(BPF_MISC | BPF_TAX, 0),
        BPF_STMT(BPF_LD | BPF_W | BPF_ABS, header + V6_SOURCE + 4),
        BPF_STMT(BPF_ALU | BPF_XOR | BPF_X, 0),
        BPF_STMT(BPF_MISC | BPF_TAX, 0),
        BPF_STMT(BPF_LD | BPF_W | BPF_ABS, header + V6_SOURCE + 8),
        BPF_STMT(BPF_ALU | BPF_XOR | BPF_X, 0),
        BPF_STMT(BPF_MISC | BPF_TAX, 0),
        BPF_STMT(BPF_LD | BPF_W | BPF_ABS, header + V6_SOURCE + 12),
        BPF_STMT(BPF_ALU | BPF_XOR | BPF_X, 0),
        BPF_STMT(BPF_ALU | BPF_MUL | BPF_K, 0x9E3779B1u),
        BPF_STMT(BPF_ALU | BPF_RSH | BPF_K, 16),
        BPF_STMT(BPF_ALU | BPF_MOD | BPF_K, sockets),
        BPF_STMT(BPF_RET | BPF_A, 0),
    };
    struct sock_fprog program = {sizeof code / sizeof *code, code};
    return setsockopt(socket, SOL_SOCKET, SO_ATTACH_REUSEPORT_CBPF, &program, sizeof program) == 0;
}
#else
bool ind_udp_can_share(void)
{
    return false;
}

bool ind_udp_share_by_address(int socket, unsigned sockets)
{
    (void)socket;
    (void)sockets;
    return false;
}
#endif

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
    if (!batch || !(batch->bytes = malloc((size_t)IND_UDP_BATCH * LARGEST))) {
        free(batch);
        return NULL;
    }
    for (size_t i = 0; i < IND_UDP_BATCH; i++)
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

/* What a local sender passes along beside the bytes (descriptors of its own, which would become ours) finds
 * no room: the kernel lets go of it. */
static void prepare(struct ind_udp_batch *batch, size_t i, bool local)
{
    batch->headers[i] = (struct msghdr){.msg_name = &batch->senders[i],
                                        .msg_namelen = sizeof batch->senders[i],
                                        .msg_iov = &batch->pieces[i],
                                        .msg_iovlen = 1,
                                        .msg_control = &batch->control[i],
                                        .msg_controllen = local ? 0 : sizeof batch->control[i]};
}

int ind_udp_receive(int socket, bool local, struct ind_udp_batch *batch, int most)
{
    most = most < IND_UDP_BATCH ? most : IND_UDP_BATCH;
#ifdef __linux__
    for (size_t i = 0; i < (size_t)most; i++) {
        prepare(batch, i, local);
        batch->many[i].msg_hdr = batch->headers[i];
    }
    int count = recvmmsg(socket, batch->many, (unsigned)most, MSG_DONTWAIT, NULL);
    for (int i = 0; i < count; i++) {
        batch->headers[i] = batch->many[i].msg_hdr;
        batch->lengths[i] = batch->many[i].msg_len;
    }
#else
    int count = 0;
    while (count < most) {
        prepare(batch, (size_t)count, local);
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
    /* A sender without a name leaves what was in its place before. */
    bool named = header.msg_namelen >= sizeof(struct sockaddr_in);
    return (struct ind_datagram){.bytes = batch->pieces[i].iov_base,
                                 .length = batch->lengths[i],
                                 .sender =
                                     named ? ind_socket_address(&batch->senders[i]) : (struct ind_address){0},
                                 .received = stamp_of(&header),
                                 .cut = (header.msg_flags & MSG_TRUNC) != 0};
}

void ind_udp_answer(int socket, const struct ind_udp_batch *batch, int i, const void *bytes, size_t length)
{
    const struct msghdr *header = &batch->headers[i];
    (void)sendto(socket, bytes, length, MSG_DONTWAIT | MSG_NOSIGNAL, header->msg_name, header->msg_namelen);
}

int ind_udp_buffer_wanted(void)
{
    return KERNEL_BUFFER;
}
