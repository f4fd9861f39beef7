/* What a message system reaches by itself: as many batches of the same size as a relay makes, published with
 * the broker's acknowledgement, and taken and acknowledged by one consumer, at the same time; on disk. Prints
 * the seconds. Usage: bench_nats HOST PORT BATCHES BYTES */
#define _DEFAULT_SOURCE
#include "measure.h"
#include "net/broker.h"

#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

static const char *host, *port;
static unsigned batches, length;

static void woken(void *context)
{
    (void)context;
}

static struct ind_broker *open_one(void)
{
    char reason[IND_BROKER_REASON];
    const struct ind_broker_settings settings = {
        .host = host, .port = port, .milliseconds = 5000, .woken = woken};
    struct ind_broker *broker = ind_broker_open(&settings, reason);
    if (!broker || !ind_broker_keep(broker, "bench", "bench", reason)) {
        fprintf(stderr, "%s\n", reason);
        exit(1);
    }
    return broker;
}

static void *publish(void *context)
{
    static const char *const headers[] = {"Content-Encoding", "zstd", NULL};
    struct ind_broker *broker = open_one();
    char *bytes = malloc(length), id[40];
    (void)context;
    for (unsigned i = 0; i < length; i++)
        bytes[i] = (char)rand();
    for (unsigned i = 0; i < batches; i++) {
        while (ind_broker_published(broker) - ind_broker_acknowledged(broker) > IND_BROKER_UNDER_WAY / 2)
            usleep(200);
        snprintf(id, sizeof id, "%u-%ld", i, (long)getpid());
        if (!ind_broker_publish(broker, "bench.a", id, headers, bytes, length))
            exit(1);
    }
    while (ind_broker_acknowledged(broker) < batches)
        usleep(200);
    ind_broker_close(broker);
    free(bytes);
    return NULL;
}

int main(int count, char **arguments)
{
    char reason[IND_BROKER_REASON];
    pthread_t thread;
    if (count != 5)
        return 2;
    host = arguments[1];
    port = arguments[2];
    batches = (unsigned)atoi(arguments[3]);
    length = (unsigned)atoi(arguments[4]);
    struct ind_broker *broker = open_one();
    if (!ind_broker_join(broker, "bench", "bench", "bench", 30000, reason))
        return 1;
    const double begun = now();
    if (pthread_create(&thread, NULL, publish, NULL) != 0)
        return 1;
    for (unsigned taken = 0; taken < batches;) {
        const unsigned some = ind_broker_take(broker, 100);
        for (unsigned i = 0; i < some; i++)
            ind_broker_settle(broker, i, IND_BROKER_DONE);
        ind_broker_let_go(broker);
        taken += some;
        if (!ind_broker_lives(broker))
            return 1;
    }
    pthread_join(thread, NULL);
    printf("%.3f\n", now() - begun);
    ind_broker_close(broker);
    return 0;
}
