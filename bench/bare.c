/* What this machine can do at most: receives datagrams or a stream, and writes the bytes to one file, a line
 * each. Nothing is looked at, nothing is counted. Prints the port it listens on, then, told to end, how many
 * came. Usage: bench_bare udp|tcp FILE [PORT] */
#define _GNU_SOURCE
#include "net/socket.h"
#include "net/udp.h"

#include <fcntl.h>
#include <poll.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

enum { ROOM = 1 << 20 };
static volatile sig_atomic_t ended;

static void on_end(int number)
{
    (void)number;
    ended = 1;
}

static void put(int file, char *room, size_t *used)
{
    if (*used && write(file, room, *used) < 0)
        exit(1);
    *used = 0;
}

static unsigned long take_datagrams(int socket, int file)
{
    static char room[ROOM];
    struct ind_udp_batch *batch = ind_udp_batch_new();
    struct pollfd ready = {socket, POLLIN, 0};
    unsigned long count = 0;
    size_t used = 0;
    while (!ended && batch) {
        int got = ind_udp_receive(socket, false, batch, IND_UDP_BATCH);
        for (int i = 0; i < got; i++) {
            struct ind_datagram datagram = ind_udp_datagram(batch, i);
            if (ROOM - used < datagram.length + 1)
                put(file, room, &used);
            memcpy(room + used, datagram.bytes, datagram.length);
            used += datagram.length;
            room[used++] = '\n';
            count++;
        }
        if (got <= 0) {
            put(file, room, &used);
            (void)poll(&ready, 1, 100);
        }
    }
    ind_udp_batch_free(batch);
    return count;
}

static unsigned long take_stream(int listener, int file)
{
    static char room[ROOM];
    struct ind_address sender;
    unsigned long lines = 0;
    struct pollfd ready = {listener, POLLIN, 0};
    (void)poll(&ready, 1, 10000);
    int socket = ind_tcp_accept(listener, &sender);
    ready.fd = socket;
    for (;;) {
        ssize_t got = read(socket, room, sizeof room);
        if (got == 0)
            break;
        size_t used = got > 0 ? (size_t)got : 0;
        for (const char *at = room; got > 0 && (at = memchr(at, '\n', (size_t)(room + got - at))); at++)
            lines++;
        put(file, room, &used);
        if (got < 0)
            (void)poll(&ready, 1, 100);
    }
    return lines;
}

int main(int argc, char **argv)
{
    if (argc < 3)
        return 2;
    const uint16_t port = argc > 3 ? (uint16_t)atoi(argv[3]) : 0;
    bool udp = strcmp(argv[1], "udp") == 0;
    int file = open(argv[2], O_WRONLY | O_CREAT | O_TRUNC, 0600);
    int socket = udp ? ind_udp_listen("127.0.0.1", port, false) : ind_tcp_listen("127.0.0.1", port, false);
    struct sigaction action = {.sa_handler = on_end};
    (void)sigaction(SIGTERM, &action, NULL);
    printf("%u\n", ind_socket_port(socket));
    fflush(stdout);
    printf("%lu\n", udp ? take_datagrams(socket, file) : take_stream(socket, file));
    return 0;
}
