/* What arrives at the ports of a configuration while no collector holds them: they are opened for a while. */
#include "cli/doctor.h"

#include "cli/check_here.h"
#include "cli/cli.h"
#include "cli/doctor_heard.h"
#include "collect/intake/viewer.h"
#include "collect/runtime/clock.h"
#include "core/message/framing.h"
#include "net/socket.h"
#include "net/udp.h"

#include <errno.h>
#include <poll.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

enum { MOST_SOCKETS = 2 * IND_MOST_LISTENERS, MOST_CONNECTIONS = 64, READ = 16384, HEAD = 4096, WAIT = 100 };

struct source {
    const struct ind_listen_item *item;
    bool connections; /* they wait there; otherwise datagrams */
};

struct connection {
    size_t source;
    struct ind_address sender;
    struct ind_framing framing;
    char head[HEAD]; /* the beginning of the message under way: its form shows there */
    size_t length;
};

struct here {
    const struct ind_config *config;
    struct ind_heard *heard;
    struct ind_viewer *viewer;
    struct ind_udp_batch *batch;
    struct source sources[MOST_SOCKETS];
    struct pollfd polls[MOST_SOCKETS + MOST_CONNECTIONS]; /* those of sources first */
    size_t source_count;
    struct connection *connections[MOST_CONNECTIONS];
    size_t connection_count;
};

/* ---- What is heard ---- */

static void count(struct here *here, const struct ind_listen_item *item, const struct ind_address *sender,
                  struct ind_slice bytes)
{
    char device[300], address[IND_ADDRESS_WIDTH];
    const ind_time now = ind_now();
    struct ind_sender *who = ind_viewer_sender(here->viewer, sender);
    const struct ind_origin origin = {.transport = IND_TRANSPORT_UDP,
                                      .listener = ind_slice_of(item->text),
                                      .sender = who,
                                      .received = now,
                                      .now = now};
    const struct ind_message *message = ind_viewer_read(here->viewer, IND_LINES_RAW, bytes, &origin);
    snprintf(address, sizeof address, "%.*s", IND_ARG(who->text));
    ind_heard_add(here->heard, address,
                  who->allowed ? ind_escaped(message->device, device, sizeof device) : "(not under allow:)",
                  item->text, ind_form_name(message->form).at);
}

/* Whether it would be accepted is not asked. */
static void count_trap(struct here *here, const struct ind_listen_item *item,
                       const struct ind_address *sender)
{
    char address[IND_ADDRESS_WIDTH];
    const struct ind_sender *who = ind_viewer_sender(here->viewer, sender);
    snprintf(address, sizeof address, "%.*s", IND_ARG(who->text));
    ind_heard_add(here->heard, address,
                  !who->allowed ? "(not under allow:)"
                  : who->device ? who->device->name
                                : address,
                  item->text, "trap");
}

static void hear_datagrams(struct here *here, size_t source)
{
    const struct ind_listen_item *item = here->sources[source].item;
    const bool local = item->kind == IND_LISTEN_UNIX;
    int got = ind_udp_receive(here->polls[source].fd, local, here->batch, IND_UDP_BATCH);
    for (int i = 0; i < got; i++) {
        const struct ind_datagram datagram = ind_udp_datagram(here->batch, i);
        if (item->traps)
            count_trap(here, item, &datagram.sender);
        else
            count(here, item, &datagram.sender, (struct ind_slice){datagram.bytes, datagram.length});
    }
}

static void hear_bytes(struct here *here, struct connection *connection, struct ind_slice input)
{
    struct ind_slice bytes;
    enum ind_frame frame;
    bool cut;
    while ((frame = ind_framing_next(&connection->framing, &input, &bytes, &cut)) != IND_FRAME_MORE &&
           frame != IND_FRAME_BAD) {
        const size_t room = HEAD - connection->length, more = bytes.length < room ? bytes.length : room;
        if (more)
            memcpy(connection->head + connection->length, bytes.at, more);
        connection->length += more;
        if (frame != IND_FRAME_END)
            continue;
        count(here, here->sources[connection->source].item, &connection->sender,
              (struct ind_slice){connection->head, connection->length});
        connection->length = 0;
    }
}

/* ---- Connections ---- */

static struct pollfd *poll_of(struct here *here, size_t connection)
{
    return &here->polls[here->source_count + connection];
}

static void take_connection(struct here *here, size_t source)
{
    struct ind_address sender = {0};
    char address[IND_ADDRESS_WIDTH];
    const struct ind_listen_item *item = here->sources[source].item;
    int fd = ind_tcp_accept(here->polls[source].fd, &sender);
    struct connection *connection = fd >= 0 && !item->tls && here->connection_count < MOST_CONNECTIONS
                                        ? calloc(1, sizeof *connection)
                                        : NULL;
    if (connection) {
        *connection = (struct connection){.source = source, .sender = sender, .framing.join = item->join};
        *poll_of(here, here->connection_count) = (struct pollfd){.fd = fd, .events = POLLIN};
        here->connections[here->connection_count++] = connection;
        return;
    }
    struct ind_buffer text = ind_buffer_on(address, sizeof address - 1);
    ind_address_write(&text, &sender);
    address[text.length] = '\0';
    if (fd >= 0) { /* that somebody connects is known at least */
        ind_heard_add(here->heard, address, "-", item->text, item->tls ? "a connection" : "one too many");
        close(fd);
    }
}

static void end_connection(struct here *here, size_t number)
{
    const size_t last = --here->connection_count;
    close(poll_of(here, number)->fd);
    free(here->connections[number]);
    here->connections[number] = here->connections[last];
    *poll_of(here, number) = *poll_of(here, last);
}

static void read_connection(struct here *here, size_t number)
{
    char bytes[READ];
    ssize_t got = recv(poll_of(here, number)->fd, bytes, sizeof bytes, MSG_DONTWAIT);
    if (got > 0)
        hear_bytes(here, here->connections[number], (struct ind_slice){bytes, (size_t)got});
    else if (got == 0 || (errno != EAGAIN && errno != EINTR))
        end_connection(here, number);
}

/* ---- Sockets ---- */

static void add_source(struct here *here, const struct ind_listen_item *item, int fd)
{
    if (fd < 0) {
        ind_complain("%s: %s", item->text, strerror(errno));
        return;
    }
    if (here->source_count == MOST_SOCKETS) {
        close(fd);
        return;
    }
    ind_socket_set_flags(fd);
    here->sources[here->source_count] = (struct source){
        item, item->kind == IND_LISTEN_TCP || (item->kind == IND_LISTEN_UNIX && item->stream)};
    here->polls[here->source_count++] = (struct pollfd){.fd = fd, .events = POLLIN};
}

static int open_local(const struct ind_listen_item *item)
{
    return item->stream ? ind_unix_listen_stream(item->address, item->mode)
                        : ind_unix_listen(item->address, item->mode);
}

/* For [::] one of IPv4 beside it, where that is not listed itself. */
static void open_sockets(struct here *here)
{
    for (size_t i = 0; i < here->config->listener_count; i++) {
        const struct ind_listen_item *item = &here->config->listeners[i];
        if (item->kind == IND_LISTEN_INHERITED) {
            ind_complain("%s: only the service manager can hand that over", item->text);
            continue;
        }
        if (item->nats) {
            ind_complain("%s: a running collector alone takes from there", item->text);
            continue;
        }
        add_source(here, item, item->kind == IND_LISTEN_UNIX ? open_local(item) : ind_listen_here(item));
        if (item->kind == IND_LISTEN_UNIX || strcmp(item->address, "::") != 0)
            continue;
        char any[] = "0.0.0.0";
        struct ind_listen_item beside = *item;
        beside.address = any;
        int fd = ind_listen_here(&beside);
        if (fd >= 0)
            add_source(here, item, fd);
    }
}

static void hear(struct here *here, int milliseconds)
{
    const size_t sources = here->source_count, connections = here->connection_count;
    if (poll(here->polls, sources + connections, milliseconds) <= 0)
        return;
    for (size_t i = connections; i-- > 0;) /* from the end: one that goes is replaced by the last */
        if (poll_of(here, i)->revents)
            read_connection(here, i);
    for (size_t i = 0; i < sources; i++)
        if (here->polls[i].revents && here->sources[i].connections)
            take_connection(here, i);
        else if (here->polls[i].revents)
            hear_datagrams(here, i);
}

static void end(struct here *here)
{
    while (here->connection_count)
        end_connection(here, here->connection_count - 1);
    for (size_t i = 0; i < here->source_count; i++) {
        close(here->polls[i].fd);
        if (here->sources[i].item->kind == IND_LISTEN_UNIX)
            (void)unlink(here->sources[i].item->address);
    }
    ind_udp_batch_free(here->batch);
    ind_viewer_free(here->viewer);
    free(here);
}

bool ind_doctor_listen_here(const struct ind_config *config, long milliseconds, struct ind_heard *heard)
{
    struct here *here = calloc(1, sizeof *here);
    const struct ind_steady began = ind_steady_now();
    if (!here)
        return false;
    here->config = config;
    here->heard = heard;
    here->viewer = ind_viewer_new(config);
    here->batch = ind_udp_batch_new();
    if (here->viewer && here->batch)
        open_sockets(here);
    const bool any = here->source_count > 0;
    if (any)
        fprintf(stderr, "indagator: no collector runs here; listening at its ports instead\n");
    else
        ind_complain("no collector runs here, and none of its ports could be opened: nothing is heard");
    for (;;) {
        const int64_t left = milliseconds - ind_steady_from(began, ind_steady_now()) / 1000000;
        if (!any || left <= 0)
            break;
        hear(here, left < WAIT ? (int)left : WAIT);
    }
    end(here);
    return any;
}
