#define _GNU_SOURCE /* SO_REUSEPORT */
#include "net/socket.h"

#include <arpa/inet.h>
#include <errno.h>
#include <fcntl.h>
#include <netdb.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <stdio.h>
#include <sys/stat.h>
#include <sys/un.h>
#include <unistd.h>

enum { BACKLOG = 1024 };

struct ind_address ind_socket_address(const struct sockaddr_storage *name)
{
    if (name->ss_family == AF_INET)
        return ind_address_v4((const uint8_t *)&((const struct sockaddr_in *)name)->sin_addr);
    if (name->ss_family == AF_INET6)
        return ind_address_v6((const uint8_t *)&((const struct sockaddr_in6 *)name)->sin6_addr);
    return (struct ind_address){0};
}

uint16_t ind_socket_port(int socket)
{
    struct sockaddr_storage name = {0};
    socklen_t length = sizeof name;
    if (getsockname(socket, (struct sockaddr *)&name, &length) != 0)
        return 0;
    if (name.ss_family == AF_INET)
        return ntohs(((struct sockaddr_in *)&name)->sin_port);
    return name.ss_family == AF_INET6 ? ntohs(((struct sockaddr_in6 *)&name)->sin6_port) : 0;
}

void ind_socket_set_flags(int socket)
{
    (void)fcntl(socket, F_SETFD, FD_CLOEXEC);
    (void)fcntl(socket, F_SETFL, O_NONBLOCK);
}

int ind_socket_copy(int socket)
{
    return fcntl(socket, F_DUPFD_CLOEXEC, 0);
}

static int fail(int socket)
{
    int error = errno;
    if (socket >= 0)
        close(socket);
    errno = error;
    return -1;
}

int ind_tcp_listen(const char *address, uint16_t port, bool shared)
{
    struct addrinfo hints = {.ai_socktype = SOCK_STREAM,
                             .ai_flags = AI_NUMERICHOST | AI_NUMERICSERV | AI_PASSIVE};
    struct addrinfo *info;
    char number[8];
    int yes = 1;
    snprintf(number, sizeof number, "%u", port);
    if (getaddrinfo(address, number, &hints, &info) != 0) {
        errno = EADDRNOTAVAIL;
        return -1;
    }
    int fd = socket(info->ai_family, SOCK_STREAM, 0);
    if (fd >= 0) {
        ind_socket_set_flags(fd);
        (void)setsockopt(fd, SOL_SOCKET, SO_REUSEADDR, &yes, sizeof yes);
        if (info->ai_family == AF_INET6)
            (void)setsockopt(fd, IPPROTO_IPV6, IPV6_V6ONLY, &yes, sizeof yes);
#ifdef SO_REUSEPORT
        if (shared)
            (void)setsockopt(fd, SOL_SOCKET, SO_REUSEPORT, &yes, sizeof yes);
#endif
        (void)shared;
        if (bind(fd, info->ai_addr, info->ai_addrlen) != 0 || listen(fd, BACKLOG) != 0)
            fd = fail(fd);
    }
    int error = errno;
    freeaddrinfo(info);
    errno = error;
    return fd;
}

int ind_tcp_accept(int socket, struct ind_address *sender)
{
    struct sockaddr_storage name = {0};
    socklen_t length = sizeof name;
    int yes = 1;
    int fd = accept(socket, (struct sockaddr *)&name, &length);
    if (fd < 0)
        return -1;
    ind_socket_set_flags(fd);
    /* A device that was switched off leaves a connection behind that nobody will ever close. */
    (void)setsockopt(fd, SOL_SOCKET, SO_KEEPALIVE, &yes, sizeof yes);
    *sender = ind_socket_address(&name);
    return fd;
}

static bool name_of(const char *path, struct sockaddr_un *name)
{
    *name = (struct sockaddr_un){.sun_family = AF_UNIX};
    if (strlen(path) >= sizeof name->sun_path) {
        errno = ENAMETOOLONG;
        return false;
    }
    memcpy(name->sun_path, path, strlen(path) + 1);
    return true;
}

/* A socket of a process that is gone. */
static bool remove_stale(const struct sockaddr_un *name, int type)
{
    struct stat facts;
    if (lstat(name->sun_path, &facts) != 0)
        return errno == ENOENT;
    errno = EEXIST;
    if (!S_ISSOCK(facts.st_mode))
        return false;
    int probe = socket(AF_UNIX, type, 0);
    bool stale = probe >= 0 && connect(probe, (const struct sockaddr *)name, sizeof *name) != 0 &&
                 errno == ECONNREFUSED;
    if (probe >= 0)
        close(probe);
    errno = EADDRINUSE;
    return stale && unlink(name->sun_path) == 0;
}

static int listen_local(const char *path, int type, mode_t mode)
{
    struct sockaddr_un name;
    if (!name_of(path, &name) || !remove_stale(&name, type))
        return -1;
    int fd = socket(AF_UNIX, type, 0);
    if (fd < 0)
        return -1;
    ind_socket_set_flags(fd);
    (void)fchmod(fd, mode); /* on Linux the name has it from the start */
    if (bind(fd, (struct sockaddr *)&name, sizeof name) != 0 || chmod(path, mode) != 0 ||
        (type == SOCK_STREAM && listen(fd, BACKLOG) != 0))
        return fail(fd);
    return fd;
}

int ind_unix_listen(const char *path, unsigned mode)
{
    return listen_local(path, SOCK_DGRAM, (mode_t)mode);
}

int ind_unix_listen_stream(const char *path, unsigned mode)
{
    return listen_local(path, SOCK_STREAM, (mode_t)mode);
}

static bool bind_from(int fd, const char *from, int type, const char **reason)
{
    struct addrinfo hints = {.ai_socktype = type, .ai_flags = AI_NUMERICHOST}, *info;
    int yes = 1, result = getaddrinfo(from, NULL, &hints, &info);
    if (result != 0) {
        *reason = gai_strerror(result);
        return false;
    }
#ifdef IP_BIND_ADDRESS_NO_PORT
    (void)setsockopt(fd, IPPROTO_IP, IP_BIND_ADDRESS_NO_PORT, &yes, sizeof yes);
#endif
    (void)yes;
    bool good = bind(fd, info->ai_addr, info->ai_addrlen) == 0;
    if (!good)
        *reason = strerror(errno);
    freeaddrinfo(info);
    return good;
}

static int connect_ip(int type, const char *host, const char *port, const char *from, const char **reason)
{
    struct addrinfo hints = {.ai_socktype = type}, *info;
    int result = getaddrinfo(host, port, &hints, &info), fd = -1;
    if (result != 0) {
        *reason = gai_strerror(result);
        return -1;
    }
    for (const struct addrinfo *each = info; each && fd < 0; each = each->ai_next) {
        fd = socket(each->ai_family, type, 0);
        *reason = strerror(errno);
        if (fd < 0)
            continue;
        (void)fcntl(fd, F_SETFD, FD_CLOEXEC);
        if (from && !bind_from(fd, from, type, reason)) {
            fd = fail(fd);
        } else if (connect(fd, each->ai_addr, each->ai_addrlen) != 0) {
            *reason = strerror(errno);
            fd = fail(fd);
        }
    }
    freeaddrinfo(info);
    return fd;
}

static int connect_unix(const char *path, const char **reason)
{
    struct sockaddr_un name;
    static const int types[] = {SOCK_DGRAM, SOCK_STREAM};
    int fd = -1;
    *reason = strerror(ENAMETOOLONG);
    if (!name_of(path, &name))
        return -1;
    for (int i = 0; i < 2 && fd < 0; i++) {
        fd = socket(AF_UNIX, types[i], 0);
        if (fd >= 0 && connect(fd, (struct sockaddr *)&name, sizeof name) != 0)
            fd = fail(fd);
        *reason = strerror(errno);
        if (fd < 0 && errno != EPROTOTYPE)
            break;
    }
    if (fd >= 0)
        (void)fcntl(fd, F_SETFD, FD_CLOEXEC);
    return fd;
}

int ind_connect(enum ind_transport_kind kind, const char *host, const char *port, const char *from,
                const char **reason)
{
    if (kind == IND_SEND_UNIX)
        return connect_unix(host, reason);
    return connect_ip(kind == IND_SEND_UDP ? SOCK_DGRAM : SOCK_STREAM, host, port, from, reason);
}
