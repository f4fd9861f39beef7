/* collect/rules.c: a configuration made ready to be used: everything that can fail is done here, before any
 * of it counts. */
#define _GNU_SOURCE
#include "collect/inside.h"

#include "core/names.h"
#include "net/socket.h"
#include "net/udp.h"
#include <errno.h>
#include <stdlib.h>
#include <unistd.h>

static void port_free(struct ind_port *port)
{
    for (unsigned i = 0; i < port->socket_count; i++)
        close(port->sockets[i]);
    if (port->path)
        (void)unlink(port->path);
    free(port->path);
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

static bool same_port_on_v4(const struct ind_config *config, const struct ind_listener *listener)
{
    for (size_t i = 0; i < config->listener_count; i++)
        if (config->listeners[i].kind == listener->kind && config->listeners[i].port == listener->port &&
            !strchr(config->listeners[i].address, ':'))
            return true;
    return false;
}

/* Where the kernel can see to it that one sender's datagrams all come to one socket, each receiver has its
 * own; otherwise there is one. */
static bool open_udp(const struct ind_collector *collector, const struct ind_listener *listener, bool only_v6,
                     struct ind_port *port)
{
    unsigned wanted = ind_udp_can_share() ? collector->intakes : 1;
    uint16_t number = listener->port;
    if (wanted > 1) {
        /* Sockets that share a port would share it with another process of ours too, which would get half of
         * the messages: one that does not share tells whether there is any. */
        int probe = ind_udp_listen(listener->address, number, only_v6, false);
        if (probe < 0)
            return false;
        number = ind_socket_port(probe);
        close(probe);
    }
    for (unsigned i = 0; i < wanted; i++) {
        int fd = ind_udp_listen(listener->address, number, only_v6, wanted > 1);
        if (fd < 0)
            return false;
        port->sockets[port->socket_count++] = fd;
    }
    port->shared = wanted > 1;
    return wanted == 1 || ind_udp_share_by_address(port->sockets[0], wanted);
}

static bool open_port(const struct ind_collector *collector, const struct ind_config *config,
                      const struct ind_listener *listener, struct ind_port *port)
{
    bool only_v6 = strchr(listener->address, ':') && same_port_on_v4(config, listener);
    if (listener->kind == IND_LISTEN_UDP)
        return open_udp(collector, listener, only_v6, port);
    int fd = listener->kind == IND_LISTEN_TCP ? ind_tcp_listen(listener->address, listener->port, only_v6)
                                              : ind_unix_listen(listener->address);
    if (fd < 0)
        return false;
    port->sockets[port->socket_count++] = fd;
    if (listener->kind == IND_LISTEN_UNIX)
        port->path = strdup(listener->address);
    return true;
}

static struct ind_port *new_port(struct ind_collector *collector, const struct ind_config *config,
                                 const struct ind_listener *listener, char *reason, size_t room)
{
    struct ind_port *port = calloc(1, sizeof *port);
    if (port && (port->text = strdup(listener->text)) &&
        (port->number = ind_listener_number(collector, listener->text)) != 0) {
        port->kind = listener->kind;
        atomic_init(&port->drop, listener->drop);
        errno = 0;
        if (open_port(collector, config, listener, port))
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

static struct ind_port *find_port(const struct ind_collector *collector, const char *text)
{
    struct ind_port *port = collector->ports;
    while (port && strcmp(port->text, text) != 0)
        port = port->next;
    return port;
}

/* New ports are kept apart until all are open: *fresh. */
static bool open_ports(struct ind_collector *collector, struct ind_rules *rules, struct ind_port **fresh,
                       char *reason, size_t room)
{
    for (size_t i = 0; i < rules->config->listener_count; i++) {
        const struct ind_listener *listener = &rules->config->listeners[i];
        struct ind_port *port = find_port(collector, listener->text);
        if (!port) {
            port = new_port(collector, rules->config, listener, reason, room);
            if (!port)
                return false;
            port->next = *fresh;
            *fresh = port;
        }
        rules->ports[rules->port_count++] = port;
    }
    return true;
}

static bool make_intakes(struct ind_collector *collector, struct ind_rules *rules)
{
    if (rules->config->edits.remember && !collector->recalls)
        collector->recalls = ind_recalls_new(ind_collect_tell_news, collector);
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
    rules->plan = ind_plan_new(collector->store, rules->config, reason, room);
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
        if (port->kind == IND_LISTEN_UNIX)
            ind_collect_tell(collector, IND_SEVERITY_INFO, "listening on %s", port->text);
        else
            ind_collect_tell(collector, IND_SEVERITY_INFO, "listening on %.*s:%u",
                             (int)(strrchr(port->text, ':') - port->text), port->text,
                             ind_socket_port(port->sockets[0]));
    }
}
