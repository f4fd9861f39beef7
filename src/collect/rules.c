/* collect/rules.c: a configuration made ready to be used: everything that can fail is done here, before any
 * of it counts. */
#define _GNU_SOURCE
#include "collect/inside.h"

#include "core/message/names.h"
#include "net/socket.h"
#include "net/udp.h"
#include <errno.h>
#include <stdlib.h>
#include <unistd.h>

static void port_free(struct ind_port *port)
{
    for (unsigned i = 0; i < port->socket_count; i++)
        if (port->sockets[i] >= 0)
            close(port->sockets[i]);
    if (port->path)
        (void)unlink(port->path);
    free(port->path);
    free(port->address);
    free(port->text);
    free(port);
}

static const char *remedy(int error)
{
    return error == EACCES          ? "; ports below 1024 need root or the capability CAP_NET_BIND_SERVICE"
           : error == EADDRINUSE    ? "; another program listens there: end it, or choose another"
           : error == EADDRNOTAVAIL ? "; this machine has no such address"
           : error == EEXIST ? "; something that is no socket has this name: remove it, or choose another"
           : error == ENOENT ? "; its folder is not there: make it"
                             : "";
}

/* ---- What the system is asked for ----
 *
 * A listener on [::] takes IPv4 as well, unless an IPv4 address with the same port is listed. The kernel
 * could do that with one socket, but not change its mind about it later: so IPv6 sockets take IPv6 only, and
 * 0.0.0.0 is a socket of its own. What two configurations ask for is then the same exactly where kind,
 * address and port are. */

struct wanted {
    const struct ind_listener *listener;
    size_t index;        /* of the listener */
    const char *address; /* in its plainest form, or a path */
    uint16_t port;
    bool half; /* the IPv4 half of [::] */
    char room[IND_ADDRESS_WIDTH];
};

static bool takes_v4_too(const struct ind_config *config, const struct ind_listener *listener)
{
    struct ind_address address;
    static const struct ind_address any = {.bits = 128};
    if (listener->kind == IND_LISTEN_UNIX || !ind_address_read(ind_slice_of(listener->address), &address) ||
        !ind_address_equal(&address, &any))
        return false;
    for (size_t i = 0; i < config->listener_count; i++)
        if (config->listeners[i].kind == listener->kind && config->listeners[i].port == listener->port &&
            listener->port != 0 && !strchr(config->listeners[i].address, ':'))
            return false;
    return true;
}

static void set_address(struct wanted *wanted)
{
    struct ind_address address;
    struct ind_buffer text = ind_buffer_on(wanted->room, sizeof wanted->room - 1);
    wanted->address = wanted->listener->address;
    if (wanted->listener->kind == IND_LISTEN_UNIX ||
        !ind_address_read(ind_slice_of(wanted->address), &address))
        return;
    ind_address_write(&text, &address);
    wanted->room[text.length] = '\0';
    wanted->address = wanted->room;
}

static size_t list_wanted(const struct ind_config *config, struct wanted wanted[IND_MOST_PORTS])
{
    size_t count = 0;
    for (size_t i = 0; i < config->listener_count; i++) {
        const struct ind_listener *listener = &config->listeners[i];
        wanted[count] = (struct wanted){.listener = listener, .index = i, .port = listener->port};
        set_address(&wanted[count++]);
        if (takes_v4_too(config, listener))
            wanted[count++] = (struct wanted){
                .listener = listener, .index = i, .address = "0.0.0.0", .port = listener->port, .half = true};
    }
    return count;
}

/* Of a port that any would do for, only the listener that found it knows which it is. */
static bool is_wanted(const struct ind_port *port, const struct wanted *wanted)
{
    return port->kind == wanted->listener->kind && port->wanted == wanted->port &&
           strcmp(port->address, wanted->address) == 0 &&
           (wanted->port != 0 || strcmp(port->text, wanted->listener->text) == 0);
}

static struct ind_port *find_port(struct ind_port *list, const struct wanted *wanted)
{
    struct ind_port *found = NULL;
    for (; list; list = list->next)
        if (is_wanted(list, wanted) && (!found || strcmp(list->text, wanted->listener->text) == 0))
            found = list;
    return found;
}

/* ---- Opening ---- */

static bool is_any(const char *address)
{
    return strcmp(address, "0.0.0.0") == 0 || strcmp(address, "::") == 0;
}

/* Whether a socket of ours, which may be on its way out, is in the way of an address. */
static bool is_in_our_way(const struct ind_port *list, enum ind_listener_kind kind, const char *address,
                          uint16_t number)
{
    for (; list; list = list->next) {
        bool same_family = !strchr(list->address, ':') == !strchr(address, ':');
        if (list->kind == kind && same_family && ind_socket_port(list->sockets[0]) == number &&
            (is_any(list->address) || is_any(address) || strcmp(list->address, address) == 0))
            return true;
    }
    return false;
}

static int listen_on(enum ind_listener_kind kind, const char *address, uint16_t number, bool shared)
{
    return kind == IND_LISTEN_UDP ? ind_udp_listen(address, number, shared)
                                  : ind_tcp_listen(address, number, shared);
}

/* Sockets of ours share their ports, so that at a reload one can take over from another that is in its way.
 * But another process of the same user could share it too, and would get a part of the messages: one that
 * does not share tells whether there is any. *number is set where any would do. */
static bool is_free(const struct ind_collector *collector, const struct ind_port *fresh,
                    enum ind_listener_kind kind, const char *address, uint16_t *number)
{
    int probe = listen_on(kind, address, *number, false);
    if (probe < 0)
        return errno == EADDRINUSE && (is_in_our_way(collector->ports, kind, address, *number) ||
                                       is_in_our_way(fresh, kind, address, *number));
    *number = ind_socket_port(probe);
    close(probe);
    return true;
}

/* Where the kernel can see to it that one sender's datagrams all come to one socket, each receiver has its
 * own; otherwise there is one. */
static bool open_sockets(const struct ind_collector *collector, const struct ind_port *fresh, uint16_t number,
                         struct ind_port *port)
{
    unsigned count = port->kind == IND_LISTEN_UDP && ind_udp_can_share() ? collector->intakes : 1;
    if (!is_free(collector, fresh, port->kind, port->address, &number))
        return false;
    for (unsigned i = 0; i < count; i++) {
        int fd = listen_on(port->kind, port->address, number, true);
        if (fd < 0)
            return false;
        port->sockets[port->socket_count++] = fd;
    }
    port->shared = count > 1;
    return count == 1 || ind_udp_share_by_address(port->sockets[0], count);
}

static bool open_local(struct ind_port *port)
{
    int fd = ind_unix_listen(port->address);
    if (fd < 0)
        return false;
    port->sockets[port->socket_count++] = fd;
    return (port->path = strdup(port->address)) != NULL;
}

/* The very sockets of a port that another listener had: nothing that comes in meanwhile is lost. */
static bool take_over(const struct ind_port *before, struct ind_port *port)
{
    for (unsigned i = 0; i < before->socket_count; i++) {
        int fd = ind_socket_copy(before->sockets[i]);
        if (fd < 0)
            return false;
        port->sockets[port->socket_count++] = fd;
    }
    port->shared = before->shared;
    return true;
}

/* For the IPv4 half of a listener that takes any port: the one that its other half has. */
static uint16_t number_for(const struct ind_rules *rules, const struct wanted *wanted)
{
    const struct ind_port *before = rules->port_count ? rules->ports[rules->port_count - 1] : NULL;
    return wanted->port == 0 && wanted->half && before ? ind_socket_port(before->sockets[0]) : wanted->port;
}

static bool open_port(const struct ind_collector *collector, const struct ind_rules *rules,
                      const struct ind_port *fresh, const struct wanted *wanted, struct ind_port *port)
{
    const struct ind_port *before = find_port(collector->ports, wanted);
    if (before)
        return take_over(before, port);
    return port->kind == IND_LISTEN_UNIX ? open_local(port)
                                         : open_sockets(collector, fresh, number_for(rules, wanted), port);
}

static struct ind_port *new_port(struct ind_collector *collector, const struct ind_rules *rules,
                                 const struct ind_port *fresh, const struct wanted *wanted, char *reason,
                                 size_t room)
{
    const struct ind_listener *listener = wanted->listener;
    struct ind_port *port = calloc(1, sizeof *port);
    if (port && (port->text = strdup(listener->text)) && (port->address = strdup(wanted->address)) &&
        (port->number = ind_listener_number(collector, listener->text)) != 0) {
        port->kind = listener->kind;
        port->wanted = wanted->port;
        atomic_init(&port->drop, listener->drop);
        errno = 0;
        if (open_port(collector, rules, fresh, wanted, port))
            return port;
        snprintf(reason, room, "cannot listen on %s: %s%s", listener->text, strerror(errno), remedy(errno));
    } else {
        snprintf(reason, room, "out of memory, or more than %d listeners since the start",
                 IND_LISTENER_NAMES);
    }
    if (port)
        port_free(port);
    return NULL;
}

/* New ports are kept apart until all are open: *fresh. */
static bool open_ports(struct ind_collector *collector, struct ind_rules *rules, struct ind_port **fresh,
                       char *reason, size_t room)
{
    struct wanted wanted[IND_MOST_PORTS];
    size_t count = list_wanted(rules->config, wanted);
    for (size_t i = 0; i < count; i++) {
        struct ind_port *port = find_port(collector->ports, &wanted[i]);
        if (!port || strcmp(port->text, wanted[i].listener->text) != 0) {
            port = new_port(collector, rules, *fresh, &wanted[i], reason, room);
            /* A machine without IPv4 listens on [::] all the same. */
            if (!port && wanted[i].half && (errno == EAFNOSUPPORT || errno == EADDRNOTAVAIL))
                continue;
            if (!port)
                return false;
            port->next = *fresh;
            *fresh = port;
        }
        rules->listener_of[rules->port_count] = wanted[i].index;
        rules->ports[rules->port_count++] = port;
    }
    return true;
}

static bool make_intakes(struct ind_collector *collector, struct ind_rules *rules)
{
    if (rules->config->edits.remember && !collector->recalls)
        collector->recalls = ind_edit_states_new(ind_collect_tell_news, collector);
    if (rules->config->edits.remember && !collector->recalls)
        return false;
    for (unsigned i = 0; i < collector->intakes; i++)
        if (!(rules->intakes[i] = ind_intake_new(rules->config, collector->accounts[i], collector->recalls)))
            return false;
    return true;
}

static bool prepare(struct ind_collector *collector, struct ind_rules *rules, struct ind_port **fresh,
                    char *reason, size_t room)
{
    bool files = collector->settings->file_count > 0;
    if (!files && rules->config->listener_count == 0) {
        snprintf(reason, room,
                 "the configuration has no listen: to receive from; add one such as \"- udp: 0.0.0.0:514\", "
                 "or give --from FILE");
        return false;
    }
    if (!files && !open_ports(collector, rules, fresh, reason, room))
        return false;
    if (!make_intakes(collector, rules)) {
        snprintf(reason, room, "out of memory");
        return false;
    }
    if (!collector->store)
        return true;
    rules->plan = ind_plan_new(ind_store_disk(collector->store), rules->config, reason, room);
    return rules->plan != NULL;
}

struct ind_rules *ind_rules_prepare(struct ind_collector *collector, struct ind_loaded *loaded,
                                    const struct ind_config *config, char *reason, size_t room)
{
    struct ind_rules *rules = calloc(1, sizeof *rules);
    struct ind_port *fresh = NULL;
    if (!rules) {
        snprintf(reason, room, "out of memory");
        return NULL;
    }
    rules->config = config;
    if (!prepare(collector, rules, &fresh, reason, room)) {
        while (fresh) {
            struct ind_port *next = fresh->next;
            port_free(fresh);
            fresh = next;
        }
        ind_rules_free(collector, rules);
        return NULL;
    }
    /* From here on nothing fails. */
    if (loaded) {
        rules->loaded = *loaded;
        *loaded = (struct ind_loaded){0};
    }
    while (fresh) {
        struct ind_port *next = fresh->next;
        fresh->next = collector->ports;
        collector->ports = fresh;
        fresh = next;
    }
    return rules;
}

void ind_rules_free(struct ind_collector *collector, struct ind_rules *rules)
{
    if (!rules)
        return;
    for (unsigned i = 0; i < collector->intakes; i++)
        ind_intake_free(rules->intakes[i]);
    ind_plan_free(rules->plan);
    ind_loaded_free(&rules->loaded);
    free(rules);
}

bool ind_rules_have_port(const struct ind_rules *rules, const struct ind_port *port)
{
    for (size_t i = 0; i < rules->port_count; i++)
        if (rules->ports[i] == port)
            return true;
    return false;
}

struct ind_port *ind_rules_successor(const struct ind_rules *rules, const struct ind_port *port)
{
    struct ind_port *found = NULL;
    for (size_t i = 0; i < rules->port_count; i++) {
        struct ind_port *other = rules->ports[i];
        if (other == port)
            return other;
        if (other->kind == port->kind && other->wanted == port->wanted && port->wanted != 0 &&
            strcmp(other->address, port->address) == 0)
            found = other;
    }
    return found;
}

void ind_ports_close_old(struct ind_collector *collector, const struct ind_rules *rules)
{
    struct ind_port **link = &collector->ports;
    while (*link) {
        struct ind_port *port = *link;
        if (rules && ind_rules_have_port(rules, port)) {
            link = &port->next;
            continue;
        }
        *link = port->next;
        port_free(port);
    }
}

/* As configured, but with the port that was found where any would do. */
void ind_ports_tell(struct ind_collector *collector, const struct ind_rules *rules)
{
    for (size_t i = 0; i < rules->port_count; i++) {
        const struct ind_port *port = rules->ports[i];
        if (i > 0 && rules->listener_of[i] == rules->listener_of[i - 1])
            continue; /* the other half of [::] */
        if (port->kind == IND_LISTEN_UNIX)
            ind_collect_tell(collector, IND_SEVERITY_INFO, "listening on %s", port->text);
        else
            ind_collect_tell(collector, IND_SEVERITY_INFO, "listening on %.*s:%u",
                             (int)(strrchr(port->text, ':') - port->text), port->text,
                             ind_socket_port(port->sockets[0]));
    }
}
