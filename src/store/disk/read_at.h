/* store/disk/read_at.h: bytes of a file at a place, all that are there. */
#ifndef IND_STORE_DISK_READ_AT_H
#define IND_STORE_DISK_READ_AT_H

#include <errno.h>
#include <stdint.h>
#include <unistd.h>

/* How many were read: fewer than `length` only at the file's end; -1 with errno set. */
static inline ssize_t ind_read_at(int file, char *to, size_t length, uint64_t from)
{
    size_t done = 0;
    while (done < length) {
        const ssize_t got = pread(file, to + done, length - done, (off_t)(from + done));
        if (got < 0 && errno == EINTR)
            continue;
        if (got < 0)
            return -1;
        if (got == 0)
            break;
        done += (size_t)got;
    }
    return (ssize_t)done;
}

#endif
