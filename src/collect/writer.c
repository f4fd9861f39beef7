/* collect/writer.c: the writer thread, which only puts lines into files, and the housekeeping thread, which
 * does all that may take long. */
#define _GNU_SOURCE /* syscall */
#include "collect/clock.h"
#include "collect/inside.h"

#include <errno.h>
#include <sys/resource.h>
#include <time.h>

#ifdef __linux__
#include <sys/syscall.h>
#include <unistd.h>
#endif

#define FLUSH_AFTER (IND_SECOND / 5)
enum { TICK_MILLISECONDS = 100, RETRY_MILLISECONDS = 100, PATIENCE_SECONDS = 5 };

static void pause_for(long milliseconds)
{
    struct timespec time = {milliseconds / 1000, milliseconds % 1000 * 1000000};
    nanosleep(&time, NULL);
}

static void add_ledger(struct ind_ledger *sum, const struct ind_ledger *part)
{
    sum->received += part->received;
    sum->unrouted += part->unrouted;
    sum->refused_sender += part->refused_sender;
    sum->refused_empty += part->refused_empty;
    sum->malformed += part->malformed;
    sum->cut += part->cut;
}

/* Nobody waits for ever: messages from files end after some seconds without room, sockets go on until they
 * are told to end, and then no longer than that. */
static bool out_of_patience(struct ind_collector *collector, ind_time stuck_since)
{
    bool ending = collector->settings->file_count > 0 || atomic_load(&collector->stop);
    return ending && ind_now() - stuck_since > PATIENCE_SECONDS * IND_SECOND;
}

static bool wait_for_disk(struct ind_collector *collector, ind_time *stuck_since)
{
    ind_time now = ind_now();
    if (*stuck_since == IND_TIME_NONE)
        *stuck_since = now;
    if (out_of_patience(collector, *stuck_since)) {
        atomic_store(&collector->give_up, true);
        return false;
    }
    pause_for(RETRY_MILLISECONDS);
    (void)ind_store_flush(collector->store, ind_now());
    return true;
}

static uint64_t counted_left(const struct ind_batch *batch)
{
    uint64_t left = 0;
    for (size_t g = batch->stored_groups; g < batch->group_count; g++) {
        uint32_t line =
            g == batch->stored_groups && batch->within ? batch->next_line : batch->groups[g].first;
        for (; line; line = batch->lines[line - 1].next)
            left += batch->lines[line - 1].counted;
    }
    return left;
}

static void store_batch(struct ind_collector *collector, struct ind_batch *batch)
{
    ind_time stuck_since = IND_TIME_NONE;
    while (!atomic_load(&collector->give_up) && !ind_batch_store(batch, collector->store, ind_now()))
        if (!wait_for_disk(collector, &stuck_since))
            break;
    if (atomic_load(&collector->give_up))
        collector->lost_in_queues += counted_left(batch);
    add_ledger(&collector->ledger, &batch->ledger);
}

static void flush_all(struct ind_collector *collector)
{
    ind_time stuck_since = IND_TIME_NONE;
    while (!ind_store_flush(collector->store, ind_now()) && !atomic_load(&collector->give_up))
        if (!wait_for_disk(collector, &stuck_since))
            break;
    collector->lost_in_queues += ind_store_counts(collector->store).waiting;
}

void *ind_writer(void *argument)
{
    struct ind_collector *collector = argument;
    bool ended = false;
    while (!ended) {
        struct ind_batch *batch = ind_ring_take(collector->ring, TICK_MILLISECONDS, &ended);
        if (batch) {
            store_batch(collector, batch);
            ind_ring_give_back(collector->ring, batch);
        }
        if (!atomic_load(&collector->give_up))
            (void)ind_store_tick(collector->store, ind_now(), FLUSH_AFTER);
    }
    flush_all(collector);
    ind_tell_written(collector);
    return NULL;
}

/* Receiving and writing come first. */
static void step_back(void)
{
#if defined(__linux__) && defined(SYS_ioprio_set)
    enum { WHO_PROCESS = 1, CLASS_IDLE = 3, CLASS_SHIFT = 13 };
    (void)syscall(SYS_ioprio_set, WHO_PROCESS, 0, CLASS_IDLE << CLASS_SHIFT);
    (void)setpriority(PRIO_PROCESS, (id_t)syscall(SYS_gettid), 10); /* on Linux a thread's own */
#endif
}

static bool must_end(void *argument)
{
    const struct ind_collector *collector = argument;
    return atomic_load(&collector->stop) && atomic_load(&collector->written);
}

void *ind_housekeeping(void *argument)
{
    struct ind_collector *collector = argument;
    int ticks = 0;
    step_back();
    while (!atomic_load(&collector->written)) {
        if (ind_keeper_wanted(collector->store) || ++ticks >= 10) {
            ticks = 0;
            (void)ind_keeper_run(collector->store, ind_now(), must_end, collector);
        }
        (void)ind_wait_written(collector, TICK_MILLISECONDS);
    }
    /* Messages from files leave everything in order behind them; a collector that is told to end does so. */
    if (!atomic_load(&collector->stop))
        (void)ind_keeper_run(collector->store, ind_now(), must_end, collector);
    return NULL;
}
