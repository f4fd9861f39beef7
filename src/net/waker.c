#include "net/waker.h"

#include "net/socket.h"
#include <errno.h>
#include <unistd.h>

bool ind_waker_open(struct ind_waker *waker)
{
    int ends[2];
    *waker = IND_WAKER_CLOSED;
    if (pipe(ends) != 0)
        return false;
    *waker = (struct ind_waker){ends[0], ends[1]};
    ind_socket_set_flags(ends[0]);
    ind_socket_set_flags(ends[1]);
    return true;
}

void ind_waker_close(struct ind_waker *waker)
{
    if (waker->read_end >= 0)
        close(waker->read_end);
    if (waker->write_end >= 0)
        close(waker->write_end);
    *waker = IND_WAKER_CLOSED;
}

void ind_waker_wake(const struct ind_waker *waker)
{
    /* A full pipe wakes as well. */
    while (waker->write_end >= 0 && write(waker->write_end, "", 1) < 0 && errno == EINTR)
        ;
}

void ind_waker_drain(const struct ind_waker *waker)
{
    char bytes[256];
    while (read(waker->read_end, bytes, sizeof bytes) == (ssize_t)sizeof bytes)
        ;
}
