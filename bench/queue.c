/* A queue on disk against the same bytes written to one plain file: seconds of each, in turn. Usage:
 * bench_queue MEBIBYTES ROUNDS */
#define _GNU_SOURCE
#include "store/queue/queue.h"
#include "measure.h"

#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

enum { BLOCK = 1 << 20, LENGTH = 230 };

static double plain(const char *block, size_t used, int count)
{
    const double begun = now();
    int file = open("plain.out", O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0600);
    for (int i = 0; file >= 0 && i < count; i++)
        if (write(file, block, used) != (ssize_t)used)
            exit(1);
    if (file < 0 || fdatasync(file) != 0 || close(file) != 0)
        exit(1);
    const double took = now() - begun;
    unlink("plain.out");
    return took;
}

static double queued(char *block, size_t used, uint64_t records, int count)
{
    const struct ind_queue_settings settings = {&ind_fs_posix, "queue.out", 64 << 20};
    struct ind_queue_found found;
    struct ind_queue *queue;
    uint64_t number = 1;
    if (ind_queue_open(&settings, &queue, &found) != 0)
        exit(1);
    const double begun = now();
    number = ind_queue_next(queue);
    for (int i = 0; i < count; i++) {
        char *at = block;
        for (uint64_t n = 0; n < records; n++) {
            ind_queued_seal(at, number + n);
            at += ind_queued_at(at).size;
        }
        if (ind_queue_append(queue, (struct ind_slice){block, used}, number, records) != 0)
            exit(1);
        number += records;
    }
    if (ind_queue_sync(queue) != 0)
        exit(1);
    const double took = now() - begun;
    ind_queue_done(queue, number);
    ind_queue_close(queue);
    return took;
}

int main(int count, char **arguments)
{
    const int mebibytes = count > 1 ? atoi(arguments[1]) : 1000, rounds = count > 2 ? atoi(arguments[2]) : 5;
    char *block = malloc(BLOCK), message[LENGTH];
    size_t used = 0;
    uint64_t records = 0;
    memset(message, 'x', sizeof message);
    for (; block && used + ind_queued_size(LENGTH) <= BLOCK; records++) {
        ind_queued_put(block + used, 1, (struct ind_slice){message, LENGTH});
        used += ind_queued_size(LENGTH);
    }
    for (int i = 0; block && i < rounds; i++) {
        const double one = plain(block, used, mebibytes), other = queued(block, used, records, mebibytes);
        printf("%.3f %.3f %.3f\n", one, other, one / other);
    }
    free(block);
    return 0;
}
