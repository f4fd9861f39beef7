/* Opening listeners: what of a configuration the system is asked for, and how.
 *
 * New ones share their addresses with those that go, so that no datagram finds nobody
 * (collect/daemon/rules.c). */
#include "collect/input/listener.h"

#include "collect/input/listener_tls.h"
#include "net/socket.h"
#include "net/udp.h"
#include "store/disk/fs.h"
#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

static const char *remedy(int error)
{
    return error == EACCES          ? "; ports below 1024 need root or the capability CAP_NET_BIND_SERVICE"
           : error == EADDRINUSE    ? "; another program listens there: end it, or choose another"
           : error == EADDRNOTAVAIL ? "; this machine has no such address"
           : error == EEXIST ? "; something that is no socket has this name: remove it, or choose another"
           : error == ENOENT ? "; its folder is not there: make it"
           : error == ENXIO
               ? "; the service manager has handed over no socket of that name (FileDescriptorName=)"
           : error == EPROTOTYPE
               ? "; it is not a socket to which datagrams or connections come (Accept=no), or "
                 "tls is asked of datagrams"
               : "";
}

/* ---- What the system is asked for ----
 *
 * A listener on [::] takes IPv4 as well, unless an IPv4 address with the same port is listed. The kernel
 * could do that with one socket, but not change its mind about it later: so IPv6 sockets take IPv6 only, and
 * 0.0.0.0 is a socket of its own. What two configurations ask for is then the same exactly where kind,
 * address and port are. */

struct wanted {
    const struct ind_listen_item *item;
    size_t index;        /* of the item */
    const char *address; /* in its plainest form, or a path */
    uint16_t port;
    bool half;  /* the IPv4 half of [::] */
    int socket; /* of an inherited one */
    char room[IND_ADDRESS_WIDTH];
};

static enum ind_listener_kind to_the_system(enum ind_listener_kind kind)
{
    return kind == IND_LISTEN_TLS ? IND_LISTEN_TCP : kind == IND_LISTEN_TRAPS ? IND_LISTEN_UDP : kind;
}

/* Whether both take the same ports. */
static bool is_like(enum ind_listener_kind one, enum ind_listener_kind other)
{
    return to_the_system(one) == to_the_system(other);
}

static bool has_port(enum ind_listener_kind kind)
{
    return kind != IND_LISTEN_UNIX && kind != IND_LISTEN_INHERITED && kind != IND_LISTEN_NATS;
}

static bool takes_v4_too(const struct ind_config *config, const struct ind_listen_item *item)
{
    struct ind_address address;
    static const struct ind_address any = {.bits = 128};
    if (!has_port(item->kind) || !ind_address_read(ind_slice_of(item->address), &address) ||
        !ind_address_equal(&address, &any))
        return false;
    for (size_t i = 0; i < config->listener_count; i++)
        if (is_like(config->listeners[i].kind, item->kind) && config->listeners[i].port == item->port &&
            item->port != 0 && !strchr(config->listeners[i].address, ':'))
            return false;
    return true;
}

static void set_address(struct wanted *wanted)
{
    struct ind_address address;
    struct ind_buffer text = ind_buffer_on(wanted->room, sizeof wanted->room - 1);
    wanted->address = wanted->item->address;
    if (!has_port(wanted->item->kind) || !ind_address_read(ind_slice_of(wanted->address), &address))
        return;
    ind_address_write(&text, &address);
    wanted->room[text.length] = '\0';
    wanted->address = wanted->room;
}

/* All inherited ones of that name, each a listener. */
static size_t list_inherited(const struct ind_inherited *inherited, const struct ind_listen_item *item,
                             size_t index, struct wanted *wanted, size_t room)
{
    size_t count = 0;
    for (size_t i = 0; i < ind_inherited_count(inherited) && count < room; i++) {
        const char *name;
        int socket = ind_inherited_at(inherited, i, &name);
        if (strcmp(name, item->address) == 0)
            wanted[count++] = (struct wanted){.item = item,
                                              .index = index,
                                              .address = item->address,
                                              .port = (uint16_t)socket,
                                              .socket = socket};
    }
    if (count == 0) /* there is none: this is told where it is opened */
        wanted[count++] =
            (struct wanted){.item = item, .index = index, .address = item->address, .socket = -1};
    return count;
}

static size_t list_wanted(const struct ind_listeners *listeners, const struct ind_config *config,
                          struct wanted wanted[IND_MOST_LISTENERS_OPEN])
{
    size_t count = 0;
    for (size_t i = 0; i < config->listener_count; i++) {
        const struct ind_listen_item *item = &config->listeners[i];
        size_t room = IND_MOST_LISTENERS_OPEN - count - (config->listener_count - i - 1);
        if (item->kind == IND_LISTEN_INHERITED) {
            count += list_inherited(listeners->inherited, item, i, &wanted[count], room);
            continue;
        }
        wanted[count] = (struct wanted){.item = item, .index = i, .port = item->port};
        set_address(&wanted[count++]);
        if (room > 1 && takes_v4_too(config, item))
            wanted[count++] = (struct wanted){
                .item = item, .index = i, .address = "0.0.0.0", .port = item->port, .half = true};
    }
    return count;
}

/* Of a port that any would do for, only the item that found it knows which it is. */
static bool is_wanted(const struct ind_listener *listener, const struct wanted *wanted)
{
    const struct ind_listen_item *item = wanted->item;
    bool stream = item->kind == IND_LISTEN_INHERITED ? listener->stream : item->stream;
    bool tls = listener->transport == IND_TRANSPORT_TLS;
    return listener->kind == item->kind && listener->stream == stream && tls == (item->tls != NULL) &&
           listener->wanted == wanted->port && strcmp(listener->address, wanted->address) == 0 &&
           (wanted->port != 0 || strcmp(listener->text, wanted->item->text) == 0);
}

static struct ind_listener *find(struct ind_listener *list, const struct wanted *wanted)
{
    struct ind_listener *found = NULL;
    for (; list; list = list->next)
        if (is_wanted(list, wanted) && (!found || strcmp(list->text, wanted->item->text) == 0))
            found = list;
    return found;
}

/* ---- Opening ---- */

/* What a kind of listener is to the system: a new transport is a row here, and one in
 * collect/input/receiver.c. */
static const struct kind {
    /* A bound socket, or -1 with errno set; `shared` as in net/. NULL: it is a file. */
    int (*listen)(const char *address, uint16_t port, bool shared);
    bool by_sender; /* several sockets may share the port, and the kernel picks one by the source address */
    enum ind_transport transport; /* of what comes to it */
} kinds[] = {[IND_LISTEN_UDP] = {ind_udp_listen, true, IND_TRANSPORT_UDP},
             [IND_LISTEN_TCP] = {ind_tcp_listen, false, IND_TRANSPORT_TCP},
             [IND_LISTEN_TLS] = {ind_tcp_listen, false, IND_TRANSPORT_TLS},
             [IND_LISTEN_UNIX] = {NULL, false, IND_TRANSPORT_UNIX},
             [IND_LISTEN_INHERITED] = {NULL, false, IND_TRANSPORT_UNKNOWN},
             [IND_LISTEN_NATS] = {NULL, false, IND_TRANSPORT_NATS},
             [IND_LISTEN_TRAPS] = {ind_udp_listen, true, IND_TRANSPORT_TRAP}};

/* One that is being opened, and what is there already. */
struct opening {
    struct ind_listeners *listeners;
    const struct ind_listener_set *set; /* so far */
    const struct ind_listener *fresh;   /* so far */
    struct ind_listener *listener;
};

static bool is_any(const char *address)
{
    return strcmp(address, "0.0.0.0") == 0 || strcmp(address, "::") == 0;
}

/* Whether a socket of ours, which may be on its way out, is in the way of an address. */
static bool is_in_our_way(const struct ind_listener *list, const struct ind_listener *listener,
                          uint16_t number)
{
    const char *address = listener->address;
    for (; list; list = list->next) {
        bool same_family = !strchr(list->address, ':') == !strchr(address, ':');
        if (is_like(list->kind, listener->kind) && same_family &&
            ind_socket_port(list->sockets[0]) == number &&
            (is_any(list->address) || is_any(address) || strcmp(list->address, address) == 0))
            return true;
    }
    return false;
}

/* Sockets of ours share their ports, so that at a reload one can take over from another that is in its way.
 * But another process of the same user could share it too, and would get a part of the messages: one that
 * does not share tells whether there is any. *number is set where any would do. 0, or the error. */
static int probe(const struct opening *opening, uint16_t *number)
{
    const struct ind_listener *listener = opening->listener;
    int socket = kinds[listener->kind].listen(listener->address, *number, false);
    if (socket < 0) {
        int error = errno;
        bool ours = error == EADDRINUSE && (is_in_our_way(opening->listeners->open, listener, *number) ||
                                            is_in_our_way(opening->fresh, listener, *number));
        return ours ? 0 : error;
    }
    *number = ind_socket_port(socket);
    close(socket);
    return 0;
}

/* Where the kernel can see to it that one sender's datagrams all come to one socket, each receiver has its
 * own; otherwise there is one. 0, or the error. */
static int open_sockets(const struct opening *opening, uint16_t number)
{
    struct ind_listener *listener = opening->listener;
    const struct kind *kind = &kinds[listener->kind];
    unsigned count = kind->by_sender && ind_udp_can_share() ? opening->listeners->receivers : 1;
    int error = probe(opening, &number);
    if (error)
        return error;
    for (unsigned i = 0; i < count; i++) {
        int socket = kind->listen(listener->address, number, true);
        if (socket < 0)
            return errno;
        listener->sockets[listener->socket_count++] = socket;
    }
    listener->shared = count > 1;
    return count == 1 || ind_udp_share_by_address(listener->sockets[0], count) ? 0 : errno;
}

static void own_folder(void *context, const char *path)
{
    ind_identity_own(context, path);
}

/* Its folder is that of the state, which may still be to be made. */
static void make_folder_of(const char *path, const struct ind_identity *identity)
{
    char folder[4096];
    snprintf(folder, sizeof folder, "%s", path);
    char *slash = strrchr(folder, '/');
    if (slash && slash > folder) {
        *slash = '\0';
        (void)ind_fs_make_path(folder, own_folder, (void *)(uintptr_t)identity);
    }
}

static int open_local(struct ind_listener *listener, unsigned mode, const struct ind_identity *identity)
{
    if (listener->kind == IND_LISTEN_NATS)
        make_folder_of(listener->address, identity);
    int socket = listener->stream ? ind_unix_listen_stream(listener->address, mode)
                                  : ind_unix_listen(listener->address, mode);
    if (socket < 0)
        return errno;
    listener->sockets[listener->socket_count++] = socket;
    ind_identity_own(identity, listener->address);
    listener->path = strdup(listener->address);
    return listener->path ? 0 : ENOMEM;
}

/* Its sockets stay with whoever has taken them from the service manager: a reload may want them again. */
static int open_inherited(struct ind_listener *listener, int from, bool tls)
{
    static const enum ind_transport transports[] = {[IND_SOCKET_DATAGRAMS] = IND_TRANSPORT_UDP,
                                                    [IND_SOCKET_CONNECTIONS] = IND_TRANSPORT_TCP,
                                                    [IND_SOCKET_LOCAL_DATAGRAMS] = IND_TRANSPORT_UNIX,
                                                    [IND_SOCKET_LOCAL_CONNECTIONS] = IND_TRANSPORT_UNIX};
    enum ind_socket_kind kind = from >= 0 ? ind_socket_kind(from) : IND_SOCKET_OTHER;
    if (from < 0)
        return ENXIO;
    listener->stream = kind == IND_SOCKET_CONNECTIONS || kind == IND_SOCKET_LOCAL_CONNECTIONS;
    if (kind == IND_SOCKET_OTHER || (tls && !listener->stream))
        return EPROTOTYPE;
    listener->transport = tls ? IND_TRANSPORT_TLS : transports[kind];
    int socket = ind_socket_copy(from);
    if (socket < 0)
        return errno;
    if (kind == IND_SOCKET_DATAGRAMS)
        ind_udp_prepare(socket);
    listener->sockets[listener->socket_count++] = socket;
    return 0;
}

/* The very sockets of a listener of another name: nothing that comes in meanwhile is lost. */
static int copy_sockets(const struct ind_listener *before, struct ind_listener *listener)
{
    for (unsigned i = 0; i < before->socket_count; i++) {
        int socket = ind_socket_copy(before->sockets[i]);
        if (socket < 0)
            return errno;
        listener->sockets[listener->socket_count++] = socket;
    }
    listener->shared = before->shared;
    return 0;
}

/* For the IPv4 half of an item that takes any port: the one that its other half has. */
static uint16_t port_for(const struct ind_listener_set *set, const struct wanted *wanted)
{
    const struct ind_listener *before = set->count ? set->list[set->count - 1] : NULL;
    return wanted->port == 0 && wanted->half && before ? ind_socket_port(before->sockets[0]) : wanted->port;
}

static int open_listener(const struct opening *opening, const struct wanted *wanted)
{
    const struct ind_listener *before = find(opening->listeners->open, wanted);
    if (before)
        return copy_sockets(before, opening->listener);
    if (wanted->item->kind == IND_LISTEN_INHERITED)
        return open_inherited(opening->listener, wanted->socket, wanted->item->tls != NULL);
    return kinds[opening->listener->kind].listen
               ? open_sockets(opening, port_for(opening->set, wanted))
               : open_local(opening->listener, wanted->item->mode, opening->listeners->identity);
}

/* A listener without sockets; NULL where memory is out, or there is no number left for its name. */
static struct ind_listener *new_listener(struct ind_listeners *listeners, const struct wanted *wanted)
{
    struct ind_listener *listener = calloc(1, sizeof *listener);
    if (!listener)
        return NULL;
    listener->kind = wanted->item->kind;
    listener->transport = kinds[listener->kind].transport;
    listener->stream = wanted->item->stream;
    listener->wanted = wanted->port;
    atomic_init(&listener->drop, wanted->item->drop);
    atomic_init(&listener->join, wanted->item->join);
    if ((listener->text = strdup(wanted->item->text)) && (listener->address = strdup(wanted->address)) &&
        (listener->number = ind_listeners_number(listeners, wanted->item->text)) != 0)
        return listener;
    ind_listeners_discard(listener);
    return NULL;
}

/* New; NULL with *error and `reason` set. */
static struct ind_listener *make_listener(struct opening *opening, const struct wanted *wanted, int *error,
                                          char *reason, size_t room)
{
    opening->listener = new_listener(opening->listeners, wanted);
    *error = ENOMEM;
    if (!opening->listener) {
        snprintf(reason, room, "out of memory, or more than %d listeners since the start",
                 IND_LISTENER_NAMES);
        return NULL;
    }
    *error = open_listener(opening, wanted);
    if (*error == 0) {
        opening->listener->port =
            has_port(opening->listener->kind) ? ind_socket_port(opening->listener->sockets[0]) : 0;
        return opening->listener;
    }
    snprintf(reason, room, "cannot listen on %s: %s%s", wanted->item->text, strerror(*error), remedy(*error));
    ind_listeners_discard(opening->listener);
    return NULL;
}

static bool is_closed(const struct ind_listeners *listeners, const char *text)
{
    for (uint16_t i = 0; i < listeners->name_count; i++)
        if (listeners->closed[i] && strcmp(listeners->names[i], text) == 0)
            return true;
    return false;
}

bool ind_listener_set_open(struct ind_listeners *listeners, const struct ind_config *config,
                           struct ind_listener_set *set, struct ind_listener **fresh, char *reason,
                           size_t room)
{
    struct wanted wanted[IND_MOST_LISTENERS_OPEN];
    size_t count = list_wanted(listeners, config, wanted);
    set->config = config;
    for (size_t i = 0; i < count; i++) {
        struct ind_tls *tls = NULL;
        struct ind_trap_rules *traps = NULL;
        if (is_closed(listeners, wanted[i].item->text))
            continue;
        if (wanted[i].item->tls && !(tls = ind_listener_tls_new(wanted[i].item, reason, room)))
            return false;
        if (wanted[i].item->traps && !(traps = ind_trap_rules_new(wanted[i].item, reason, room)))
            return false;
        struct ind_listener *listener = find(listeners->open, &wanted[i]);
        if (!listener || strcmp(listener->text, wanted[i].item->text) != 0) {
            struct opening opening = {listeners, set, *fresh, NULL};
            int error;
            listener = make_listener(&opening, &wanted[i], &error, reason, room);
            /* A machine without IPv4 listens on [::] all the same. */
            if (!listener) {
                ind_tls_release(tls);
                ind_trap_rules_free(traps);
                if (wanted[i].half && (error == EAFNOSUPPORT || error == EADDRNOTAVAIL))
                    continue;
                return false;
            }
            listener->next = *fresh;
            *fresh = listener;
        }
        set->item_of[set->count] = wanted[i].index;
        set->tls[set->count] = tls;
        set->traps[set->count] = traps;
        set->list[set->count++] = listener;
    }
    return true;
}
