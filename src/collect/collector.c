#define _GNU_SOURCE
#include "collect/collector.h"

#include "collect/clock.h"
#include "collect/inside.h"
#include "net/udp.h"
#include "store/fs.h"
#include <errno.h>
#include <fcntl.h>
#include <signal.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <unistd.h>

enum { BATCHES = 12 };

void ind_collect_tell(const struct ind_collector *collector, const char *format, ...)
{
    char text[1600];
    va_list arguments;
    va_start(arguments, format);
    vsnprintf(text, sizeof text, format, arguments);
    va_end(arguments);
    collector->settings->tell(collector->settings->context, text);
}

struct ind_batch *ind_wait_for_batch(struct ind_collector *collector)
{
    for (;;) {
        struct ind_batch *batch = ind_ring_empty(collector->ring, 500);
        if (batch || atomic_load(&collector->give_up))
            return batch;
    }
}

static bool same_port_on_v4(const struct ind_config *config, const struct ind_listener *listener)
{
    for (size_t i = 0; i < config->listener_count; i++)
        if (config->listeners[i].port == listener->port && !strchr(config->listeners[i].address, ':'))
            return true;
    return false;
}

static const char *remedy(int error)
{
    return error == EACCES          ? "; ports below 1024 need root or the capability CAP_NET_BIND_SERVICE"
           : error == EADDRINUSE    ? "; another program listens there: end it, or choose another port"
           : error == EADDRNOTAVAIL ? "; this machine has no such address"
                                    : "";
}

static bool open_sockets(struct ind_collector *collector)
{
    const struct ind_config *config = collector->settings->config;
    if (config->listener_count == 0 || config->listener_count > IND_MOST_LISTENERS) {
        ind_collect_tell(collector,
                         config->listener_count
                             ? "more than 64 listeners; leave some out"
                             : "the configuration has no listen: to receive from; add one such as \"- udp: "
                               "0.0.0.0:514\", or give --from FILE");
        return false;
    }
    for (size_t i = 0; i < config->listener_count; i++) {
        const struct ind_listener *listener = &config->listeners[i];
        bool v6 = strchr(listener->address, ':') != NULL;
        int fd = ind_udp_listen(listener->address, listener->port, v6 && same_port_on_v4(config, listener));
        if (fd < 0) {
            ind_collect_tell(collector, "cannot listen on %s: %s%s", listener->text, strerror(errno),
                             remedy(errno));
            return false;
        }
        collector->sockets[collector->socket_count++] = fd;
    }
    return true;
}

static void tell_listening(const struct ind_collector *collector)
{
    const struct ind_config *config = collector->settings->config;
    for (size_t i = 0; i < collector->socket_count; i++) {
        const char *address = config->listeners[i].address;
        bool v6 = strchr(address, ':') != NULL;
        ind_collect_tell(collector, "listening on udp %s%s%s:%u", v6 ? "[" : "", address, v6 ? "]" : "",
                         ind_udp_port(collector->sockets[i]));
    }
}

static bool open_store(struct ind_collector *collector)
{
    char reason[1400];
    struct ind_store_settings settings = {.config = collector->settings->config,
                                          .fs = &ind_fs_posix,
                                          .now = ind_now(),
                                          .by_messages = collector->settings->file_count > 0,
                                          .tell = collector->settings->tell,
                                          .context = collector->settings->context};
    enum ind_store_status status = ind_store_open(&settings, &collector->store, reason, sizeof reason);
    if (status != IND_STORE_OK)
        ind_collect_tell(collector, "%s%s", reason, status == IND_STORE_BUSY ? "; end it first" : "");
    return status == IND_STORE_OK;
}

static void stop_signals(sigset_t *set)
{
    sigemptyset(set);
    sigaddset(set, SIGTERM);
    sigaddset(set, SIGINT);
    sigaddset(set, SIGHUP);
}

static void ask_to_stop(struct ind_collector *collector)
{
    atomic_store(&collector->stop, true);
    while (write(collector->wake[1], "", 1) < 0 && errno == EINTR)
        ;
}

void ind_tell_written(struct ind_collector *collector)
{
    pthread_mutex_lock(&collector->ending);
    atomic_store(&collector->written, true);
    pthread_cond_broadcast(&collector->ended);
    pthread_mutex_unlock(&collector->ending);
}

bool ind_wait_written(struct ind_collector *collector, int milliseconds)
{
    struct timespec until;
    clock_gettime(CLOCK_REALTIME, &until);
    until.tv_nsec += (long)milliseconds * 1000000;
    until.tv_sec += until.tv_nsec / 1000000000;
    until.tv_nsec %= 1000000000;
    pthread_mutex_lock(&collector->ending);
    if (!atomic_load(&collector->written))
        (void)pthread_cond_timedwait(&collector->ended, &collector->ending, &until);
    pthread_mutex_unlock(&collector->ending);
    return atomic_load(&collector->written);
}

/* Until the intake is through, for which a signal may ask. */
static void wait_for_end(struct ind_collector *collector)
{
    static const struct timespec at_once = {0, 0};
    sigset_t set;
    stop_signals(&set);
    while (!ind_wait_written(collector, 50))
        if (sigtimedwait(&set, NULL, &at_once) > 0)
            ask_to_stop(collector);
}

static bool run_threads(struct ind_collector *collector)
{
    bool files = collector->settings->file_count > 0;
    void *(*const bodies[])(void *) = {files ? ind_intake_files : ind_intake_sockets, ind_writer,
                                       ind_housekeeping};
    pthread_t threads[3];
    sigset_t set, before;
    size_t started = 0;
    stop_signals(&set);
    pthread_sigmask(SIG_BLOCK, &set, &before);
    while (started < 3 && pthread_create(&threads[started], NULL, bodies[started], collector) == 0)
        started++;
    if (started == 3) {
        if (!files)
            tell_listening(collector);
        wait_for_end(collector);
    } else {
        ind_collect_tell(collector, "cannot start a thread");
        atomic_store(&collector->give_up, true);
        ind_tell_written(collector);
        ask_to_stop(collector);
        ind_ring_end(collector->ring);
    }
    for (size_t i = 0; i < started; i++)
        pthread_join(threads[i], NULL);
    pthread_sigmask(SIG_SETMASK, &before, NULL);
    return started == 3;
}

static void fill_result(const struct ind_collector *collector, struct ind_collect_result *result)
{
    *result =
        (struct ind_collect_result){.ledger = collector->ledger,
                                    .store = ind_store_counts(collector->store),
                                    .keeper = ind_keeper_counts(collector->store),
                                    .lost_in_queues = collector->lost_in_queues + collector->lost_at_intake,
                                    .kernel_dropped = collector->kernel_dropped,
                                    .unread_files = collector->unread_files};
    result->ledger.received += collector->lost_at_intake;
}

static enum ind_collect_status run(struct ind_collector *collector, struct ind_collect_result *result)
{
    bool files = collector->settings->file_count > 0;
    ind_fs_raise_file_limit(); /* live files, sockets, what a search holds open */
    if (!files && !open_sockets(collector))
        return IND_COLLECT_CALL;
    if (!open_store(collector))
        return IND_COLLECT_FAILED;
    collector->ring = ind_ring_new(BATCHES);
    if (!collector->ring || pipe(collector->wake) != 0) {
        ind_collect_tell(collector, "out of memory");
        return IND_COLLECT_FAILED;
    }
    if (!run_threads(collector))
        return IND_COLLECT_FAILED;
    fill_result(collector, result);
    bool whole = result->store.lost + result->lost_in_queues + result->unread_files == 0;
    return whole ? IND_COLLECT_DONE : IND_COLLECT_PART;
}

enum ind_collect_status ind_collect(const struct ind_collect_settings *settings,
                                    struct ind_collect_result *result)
{
    struct ind_collector collector = {.settings = settings, .wake = {-1, -1}};
    *result = (struct ind_collect_result){0};
    pthread_mutex_init(&collector.ending, NULL);
    pthread_cond_init(&collector.ended, NULL);
    enum ind_collect_status status = run(&collector, result);
    pthread_mutex_destroy(&collector.ending);
    pthread_cond_destroy(&collector.ended);
    for (size_t i = 0; i < collector.socket_count; i++)
        close(collector.sockets[i]);
    for (int i = 0; i < 2; i++)
        if (collector.wake[i] >= 0)
            close(collector.wake[i]);
    ind_ring_free(collector.ring);
    ind_store_close(collector.store);
    return status;
}
