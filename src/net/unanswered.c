#define _DEFAULT_SOURCE
#include "net/unanswered.h"

#include <netinet/in.h>
#include <netinet/tcp.h>
#include <sys/ioctl.h>
#include <sys/socket.h>
#if defined(__linux__)
#include <linux/sockios.h> /* SIOCOUTQ */
#endif

bool ind_unanswered(int socket, uint64_t *bytes)
{
#if defined(SIOCOUTQ)
    int count = 0;
    if (ioctl(socket, SIOCOUTQ, &count) != 0 || count < 0)
        return false;
    *bytes = (uint64_t)count;
    return true;
#else
    (void)socket;
    (void)bytes;
    return false;
#endif
}

void ind_keep_alive(int socket)
{
    const int yes = 1;
    (void)setsockopt(socket, SOL_SOCKET, SO_KEEPALIVE, &yes, sizeof yes);
#if defined(TCP_KEEPIDLE) && defined(TCP_KEEPINTVL) && defined(TCP_KEEPCNT)
    const int idle = 30, between = 10, most = 3;
    (void)setsockopt(socket, IPPROTO_TCP, TCP_KEEPIDLE, &idle, sizeof idle);
    (void)setsockopt(socket, IPPROTO_TCP, TCP_KEEPINTVL, &between, sizeof between);
    (void)setsockopt(socket, IPPROTO_TCP, TCP_KEEPCNT, &most, sizeof most);
#endif
    (void)setsockopt(socket, IPPROTO_TCP, TCP_NODELAY, &yes, sizeof yes);
}
