#include "collect/input/accept.h"

#include "collect/input/streams.h"
#include "core/message/names.h"
#include <errno.h>
#include <unistd.h>

enum { ACCEPTS = 64, REPORT_AGAIN = 60 };

static bool reported_lately(const struct ind_acceptor *acceptor, struct ind_steady *reported)
{
    return ind_steady_reported_lately(reported, ind_clock_read(acceptor->clock).steady,
                                      REPORT_AGAIN * IND_SECOND);
}

static void refuse(struct ind_acceptor *acceptor, const struct ind_listener *listener,
                   const struct ind_address *address, bool allowed)
{
    char text[IND_ADDRESS_WIDTH];
    atomic_fetch_add(allowed ? &acceptor->facts.turned_away : &acceptor->facts.not_allowed, 1);
    if (reported_lately(acceptor, &acceptor->reported))
        return;
    ind_report(acceptor->reporter, IND_OWN_CONNECTION_REFUSED,
               IND_WITH({"listener", ind_slice_of(listener->text)},
                        {"sender", ind_slice_of(ind_address_text(address, text))}),
               allowed ? "%s: too many connections: one from %s was turned away"
                       : "%s: a connection from %s was turned away: it is not under allow:",
               listener->text, ind_address_text(address, text));
}

static void admit(struct ind_acceptor *acceptor, struct ind_listener *listener, int socket,
                  const struct ind_address *address)
{
    bool allowed = ind_config_allows(acceptor->config, address);
    struct ind_connection *connection = NULL;
    if (!allowed || !ind_admission_enter(acceptor->admission, address)) {
        refuse(acceptor, listener, address, allowed);
    } else if (!(connection = ind_connection_new(acceptor->admission, listener, socket, address))) {
        ind_admission_leave(acceptor->admission, address);
        refuse(acceptor, listener, address, true);
    }
    if (!connection) {
        close(socket);
        return;
    }
    atomic_fetch_add(&acceptor->facts.accepted, 1);
    acceptor->admitted(acceptor->context, connection);
}

enum ind_accepted ind_accept(struct ind_acceptor *acceptor, struct ind_listener *listener, int socket)
{
    const struct ind_socket_table *sockets = acceptor->sockets;
    for (int i = 0; i < ACCEPTS; i++) {
        struct ind_address address;
        int fd = sockets->accept(sockets->context, socket, &address);
        if (fd >= 0) {
            admit(acceptor, listener, fd, &address);
            continue;
        }
        if (errno != EMFILE && errno != ENFILE && errno != ENOBUFS && errno != ENOMEM)
            return IND_ACCEPTED;
        if (!reported_lately(acceptor, &acceptor->descriptors_reported))
            ind_report(acceptor->reporter, IND_OWN_NO_DESCRIPTOR,
                       IND_WITH({"listener", ind_slice_of(listener->text)}),
                       "%s: no descriptor or memory is left for another connection: new ones wait until "
                       "there is; a higher limit of open files (LimitNOFILE, ulimit -n) gives room",
                       listener->text);
        return IND_ACCEPT_NO_DESCRIPTOR;
    }
    return IND_ACCEPTED;
}
