#include "collect/input/listener.h"

#include "core/message/names.h"
#include "net/socket.h"
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

static void listener_free(struct ind_listener *listener)
{
    for (unsigned i = 0; i < listener->socket_count; i++)
        if (listener->sockets[i] >= 0)
            close(listener->sockets[i]);
    if (listener->path)
        (void)unlink(listener->path);
    free(listener->path);
    free(listener->address);
    free(listener->text);
    free(listener);
}

uint16_t ind_listeners_number(struct ind_listeners *listeners, const char *text)
{
    for (uint16_t i = 0; i < listeners->name_count; i++)
        if (strcmp(listeners->names[i], text) == 0)
            return i;
    char *copy = listeners->name_count < IND_LISTENER_NAMES ? strdup(text) : NULL;
    if (!copy)
        return 0;
    listeners->names[listeners->name_count] = copy;
    return listeners->name_count++;
}

bool ind_listeners_begin(struct ind_listeners *listeners, unsigned receivers,
                         const struct ind_inherited *inherited, const struct ind_identity *identity)
{
    listeners->receivers = receivers;
    listeners->inherited = inherited;
    listeners->identity = identity;
    return ind_listeners_number(listeners, "internal") == IND_NAME_INTERNAL &&
           ind_listeners_number(listeners, "files") == IND_NAME_FILES;
}

void ind_listeners_end(struct ind_listeners *listeners)
{
    ind_listeners_close_others(listeners, NULL);
    for (uint16_t i = 0; i < listeners->name_count; i++)
        free((char *)(uintptr_t)listeners->names[i]);
}

void ind_listeners_add(struct ind_listeners *listeners, struct ind_listener *fresh)
{
    while (fresh) {
        struct ind_listener *next = fresh->next;
        fresh->next = listeners->open;
        listeners->open = fresh;
        fresh = next;
    }
}

void ind_listeners_discard(struct ind_listener *fresh)
{
    while (fresh) {
        struct ind_listener *next = fresh->next;
        listener_free(fresh);
        fresh = next;
    }
}

void ind_listeners_close_others(struct ind_listeners *listeners, const struct ind_listener_set *set)
{
    struct ind_listener **link = &listeners->open;
    while (*link) {
        struct ind_listener *listener = *link;
        if (set && ind_listener_set_has(set, listener)) {
            link = &listener->next;
            continue;
        }
        *link = listener->next;
        listener_free(listener);
    }
}

void ind_listener_set_settings(struct ind_listener *listener, const struct ind_listen_item *item)
{
    atomic_store(&listener->drop, item->drop);
    atomic_store(&listener->join, item->join);
    if (listener->path)
        (void)chmod(listener->path, (mode_t)item->mode);
}

void ind_listener_close_socket(struct ind_listener *listener, unsigned index)
{
    close(listener->sockets[index]);
    listener->sockets[index] = -1;
}

void ind_listeners_report_unused(const struct ind_listeners *listeners, const struct ind_config *config,
                                 struct ind_reporter *reporter)
{
    for (size_t i = 0; i < ind_inherited_count(listeners->inherited); i++) {
        const char *name;
        bool used = false;
        (void)ind_inherited_at(listeners->inherited, i, &name);
        for (size_t k = 0; k < config->listener_count; k++)
            used |= config->listeners[k].kind == IND_LISTEN_INHERITED &&
                    strcmp(config->listeners[k].address, name) == 0;
        if (!used)
            ind_report(
                reporter, IND_OWN_SOCKET_UNUSED, NULL,
                "the service manager has handed over a socket named \"%s\", which nothing under listen: "
                "takes: what comes to it is not read; add \"inherited: %s\"",
                name, name);
    }
}

int ind_listener_set_index(const struct ind_listener_set *set, const struct ind_listener *listener)
{
    for (size_t i = 0; i < set->count; i++)
        if (set->list[i] == listener)
            return (int)i;
    return -1;
}

bool ind_listener_set_has(const struct ind_listener_set *set, const struct ind_listener *listener)
{
    return ind_listener_set_index(set, listener) >= 0;
}

void ind_listener_set_end(struct ind_listener_set *set)
{
    for (size_t i = 0; i < set->count; i++) {
        ind_tls_release(set->tls[i]);
        ind_trap_rules_free(set->traps[i]);
    }
    set->count = 0;
}

struct ind_listener *ind_listener_set_successor(const struct ind_listener_set *set,
                                                const struct ind_listener *listener)
{
    struct ind_listener *found = NULL;
    for (size_t i = 0; i < set->count; i++) {
        struct ind_listener *other = set->list[i];
        if (other == listener)
            return other;
        if (other->kind == listener->kind && other->wanted == listener->wanted && listener->wanted != 0 &&
            strcmp(other->address, listener->address) == 0)
            found = other;
    }
    return found;
}

void ind_listener_write_place(const struct ind_listener *listener, struct ind_buffer *buffer)
{
    if (listener->kind == IND_LISTEN_UNIX || listener->kind == IND_LISTEN_INHERITED ||
        listener->kind == IND_LISTEN_NATS)
        return;
    ind_buffer_add(buffer, listener->text, (size_t)(strrchr(listener->text, ':') + 1 - listener->text));
    ind_buffer_number(buffer, listener->port);
}

void ind_listener_set_report(const struct ind_listener_set *set, struct ind_reporter *reporter)
{
    for (size_t i = 0; i < set->count; i++) {
        const struct ind_listener *listener = set->list[i];
        if (i > 0 && set->item_of[i] == set->item_of[i - 1])
            continue; /* the other half of [::] */
        char text[IND_LISTENER_PLACE];
        struct ind_buffer place = ind_buffer_on(text, sizeof text);
        ind_listener_write_place(listener, &place);
        ind_report(reporter, IND_OWN_LISTENING, IND_WITH({"listener", ind_slice_of(listener->text)}),
                   "listening on %.*s", (int)(place.length ? place.length : strlen(listener->text)),
                   place.length ? text : listener->text);
    }
}
