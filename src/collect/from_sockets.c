/* collect/from_sockets.c: the intake thread of the sockets. It empties a socket batch by batch, turns what it
 * got into lines and passes them on; when nothing is left to read, what it has goes on at once. */
#include "collect/clock.h"
#include "collect/inside.h"
#include "net/udp.h"

#include <errno.h>
#include <poll.h>
#include <stdlib.h>

enum { DRAIN_SECONDS = 2 };

struct sockets {
    struct ind_collector *collector;
    struct ind_intake *intake;
    struct ind_udp_batch *datagrams;
    struct ind_batch *batch;
};

static void pass_on(struct sockets *sockets)
{
    if (sockets->batch)
        ind_ring_put(sockets->collector->ring, sockets->batch);
    sockets->batch = NULL;
}

static bool have_batch(struct sockets *sockets)
{
    if (!sockets->batch)
        sockets->batch = ind_wait_for_batch(sockets->collector);
    return sockets->batch != NULL;
}

static void take_datagram(struct sockets *sockets, const struct ind_datagram *datagram,
                          struct ind_slice listener)
{
    struct ind_sender sender = ind_intake_sender(sockets->intake, &datagram->sender);
    ind_time now = datagram->received != IND_TIME_NONE ? datagram->received : ind_now();
    struct ind_origin origin = {IND_TRANSPORT_UDP, listener, sender.text, sender.device, now, now};
    struct ind_slice bytes = {datagram->bytes, datagram->length};
    if (!have_batch(sockets)) {
        sockets->collector->lost_at_intake++;
        return;
    }
    if (!sender.allowed) {
        sockets->batch->ledger.received++;
        sockets->batch->ledger.refused_sender++;
        return;
    }
    while (!ind_intake_message(sockets->intake, IND_LINES_RAW, bytes, &origin, sockets->batch)) {
        pass_on(sockets);
        if (!have_batch(sockets)) {
            sockets->collector->lost_at_intake++;
            return;
        }
    }
}

/* Reads what waits in one socket, at most as much as a few batches hold, so that all get their turn. */
static bool take_some(struct sockets *sockets, size_t i)
{
    struct ind_collector *collector = sockets->collector;
    struct ind_slice listener = ind_slice_of(collector->settings->config->listeners[i].text);
    for (int round = 0; round < 64; round++) {
        /* Room first: what is still in the socket is not lost while the disk is slow. */
        if (!have_batch(sockets))
            return false;
        int count = ind_udp_receive(collector->sockets[i], sockets->datagrams);
        if (count <= 0)
            return false;
        for (int d = 0; d < count; d++) {
            struct ind_datagram datagram = ind_udp_datagram(sockets->datagrams, d);
            take_datagram(sockets, &datagram, listener);
        }
    }
    return true;
}

static bool take_all(struct sockets *sockets)
{
    bool more = false;
    for (size_t i = 0; i < sockets->collector->socket_count; i++)
        more |= take_some(sockets, i);
    if (!more)
        pass_on(sockets);
    return more;
}

static void wait_for_datagrams(const struct ind_collector *collector)
{
    struct pollfd polls[IND_MOST_LISTENERS + 1];
    nfds_t count = 0;
    for (; count < collector->socket_count; count++)
        polls[count] = (struct pollfd){collector->sockets[count], POLLIN, 0};
    polls[count++] = (struct pollfd){collector->wake[0], POLLIN, 0};
    (void)poll(polls, count, 1000);
}

static void run(struct sockets *sockets)
{
    while (!atomic_load(&sockets->collector->stop))
        if (!take_all(sockets))
            wait_for_datagrams(sockets->collector);
    /* What stands in the sockets when the end comes is filed too, for a bounded time. */
    ind_time until = ind_now() + DRAIN_SECONDS * IND_SECOND;
    while (take_all(sockets) && ind_now() < until)
        ;
    pass_on(sockets);
}

void *ind_intake_sockets(void *argument)
{
    struct ind_collector *collector = argument;
    struct sockets sockets = {collector, ind_intake_new(collector->settings->config), ind_udp_batch_new(),
                              NULL};
    if (sockets.intake && sockets.datagrams)
        run(&sockets);
    else
        ind_collect_tell(collector, "out of memory: nothing can be received");
    for (size_t i = 0; i < collector->socket_count; i++)
        collector->kernel_dropped += ind_udp_dropped(collector->sockets[i]);
    ind_intake_free(sockets.intake);
    ind_udp_batch_free(sockets.datagrams);
    ind_ring_end(collector->ring);
    return NULL;
}
