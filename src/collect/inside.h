/* collect/inside.h: shared by the threads of a collector, for the files of collect/ only. */
#ifndef IND_COLLECT_INSIDE_H
#define IND_COLLECT_INSIDE_H

#include "collect/collector.h"
#include "collect/ring.h"

#include <pthread.h>
#include <stdatomic.h>

enum { IND_MOST_LISTENERS = 64 };

struct ind_collector {
    const struct ind_collect_settings *settings;
    struct ind_store *store;
    struct ind_ring *ring;
    int sockets[IND_MOST_LISTENERS];
    size_t socket_count;
    int wake[2];            /* a pipe that ends the intake's waiting */
    atomic_bool stop;       /* asked to end */
    atomic_bool give_up;    /* the writer has waited long enough at the end */
    atomic_bool written;    /* the writer is done: housekeeping may end */
    pthread_mutex_t ending; /* for `ended` only */
    pthread_cond_t ended;   /* told when `written` comes true */
    /* Written by the threads, read once they have ended. */
    struct ind_ledger ledger;
    uint64_t lost_at_intake, lost_in_queues, kernel_dropped, unread_files;
};

void ind_collect_tell(const struct ind_collector *collector, const char *format, ...)
    __attribute__((format(printf, 2, 3)));

/* An empty batch, however long it takes; NULL once the writer has given up. */
struct ind_batch *ind_wait_for_batch(struct ind_collector *collector);

/* The writer is done: wakes all who wait for it. */
void ind_tell_written(struct ind_collector *collector);
/* True once the writer is done; waits for it so long at most. */
bool ind_wait_written(struct ind_collector *collector, int milliseconds);

void *ind_intake_sockets(void *collector);
void *ind_intake_files(void *collector);
void *ind_writer(void *collector);
void *ind_housekeeping(void *collector);

#endif
