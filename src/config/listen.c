/* config/listen.c: listeners and allowed networks. */
#include "config/load.h"
#include "config/quantity.h"

#include <stdlib.h>

/* "192.0.2.1:514", "[2001:db8::1]:514". */
static bool split_address(struct ind_slice text, struct ind_slice *address, struct ind_slice *port)
{
    size_t colon = text.length;
    while (colon > 0 && text.at[colon - 1] != ':')
        colon--;
    if (colon == 0)
        return false;
    *port = ind_slice_from(text, colon);
    *address = (struct ind_slice){text.at, colon - 1};
    bool brackets = address->length > 2 && address->at[0] == '[' && address->at[address->length - 1] == ']';
    if (brackets)
        *address = (struct ind_slice){address->at + 1, address->length - 2};
    return brackets == (address->length && memchr(address->at, ':', address->length) != NULL);
}

struct listener_text {
    const struct ind_node *udp, *tcp, *local, *senders_wait, *join_indented;
};

IND_KEEP_NODE(listener_text, udp)
IND_KEEP_NODE(listener_text, tcp)
IND_KEEP_NODE(listener_text, local)
IND_KEEP_NODE(listener_text, senders_wait)
IND_KEEP_NODE(listener_text, join_indented)

static void former_when_full(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    (void)into;
    bool drop = value->kind == IND_NODE_SCALAR && ind_slice_equal(value->text, IND_SLICE("drop"));
    ind_wrong(loader, value, "\"when full\" is now called \"senders wait\"; write \"senders wait: %s\"",
              drop ? "no" : "yes");
}

static bool read_socket_address(struct ind_loader *loader, const struct ind_node *value,
                                struct ind_listen_item *listener)
{
    struct ind_slice host, port;
    struct ind_address address;
    uint64_t number;
    if (!ind_expect_text(loader, value, "an address and a port such as 0.0.0.0:514"))
        return false;
    if (!split_address(value->text, &host, &port) || !ind_address_read(host, &address)) {
        ind_wrong(
            loader, value,
            "\"%.*s\" is not an address and port; write one such as 0.0.0.0:514 or \"[::]:514\" in quotes",
            IND_ARG(value->text));
        return false;
    }
    if (!ind_read_count(port, 0, 65535, &number)) {
        ind_wrong(loader, value, "\"%.*s\" is not a port; it is a number from 1 to 65535", IND_ARG(port));
        return false;
    }
    listener->address = ind_keep(loader, host);
    listener->port = (uint16_t)number;
    return listener->address != NULL;
}

static bool read_local_socket(struct ind_loader *loader, const struct ind_node *value,
                              struct ind_listen_item *listener)
{
    enum { LONGEST = 100 }; /* less than any system's sun_path */
    if (!ind_expect_text(loader, value, "the path of a local socket such as /run/indagator/log"))
        return false;
    listener->address = ind_resolve_path(loader, value);
    if (listener->address && strlen(listener->address) > LONGEST)
        ind_wrong(loader, value, "the path of a local socket has %d bytes at most", LONGEST);
    return listener->address != NULL;
}

/* "yes" or "no" of a key that only stream listeners have. */
static bool read_stream_key(struct ind_loader *loader, const struct ind_node *value, const char *key,
                            const char *why, const struct ind_listen_item *listener, bool *yes)
{
    if (!value || !ind_read_yes(loader, value, yes))
        return false;
    if (listener->kind != IND_LISTEN_TCP)
        ind_wrong(loader, value, "\"%s\" goes with tcp: %s; leave it out", key, why);
    return true;
}

static void read_stream_keys(struct ind_loader *loader, const struct listener_text *text,
                             struct ind_listen_item *listener)
{
    bool wait = true;
    if (read_stream_key(loader, text->senders_wait, "senders wait", "datagrams cannot be held back", listener,
                        &wait))
        listener->drop = !wait;
    (void)read_stream_key(loader, text->join_indented, "join indented", "a datagram is a whole message",
                          listener, &listener->join);
}

static void load_listener(struct ind_loader *loader, const struct ind_node *node)
{
    static const struct ind_key keys[] = {{"udp", keep_udp},
                                          {"tcp", keep_tcp},
                                          {"unix", keep_local},
                                          {"senders wait", keep_senders_wait},
                                          {"join indented", keep_join_indented},
                                          {"!when full", former_when_full}};
    static const char *const kinds[] = {"udp", "tcp", "unix"};
    struct listener_text text = {0};
    struct ind_listen_item listener = {0};
    struct ind_config *config = loader->config;
    char whole[1200];
    size_t mistakes = loader->diagnostics->mistakes;
    if (!ind_read_map(loader, node, keys, sizeof keys / sizeof *keys, &text))
        return;
    const struct ind_node *values[] = {text.udp, text.tcp, text.local}, *value = NULL;
    for (int i = 0; i < 3; i++) {
        if (values[i] && value)
            ind_wrong(loader, values[i],
                      "one listener has one of udp, tcp and unix; begin another with \"- \"");
        else if (values[i])
            listener.kind = (enum ind_listener_kind)i;
        value = value ? value : values[i];
    }
    if (!value && loader->diagnostics->mistakes > mistakes)
        return; /* a misspelled key, which has been reported */
    if (!value) {
        ind_wrong(loader, node, "a listener without an address; add one such as \"udp: 0.0.0.0:514\"");
        return;
    }
    if (!(listener.kind == IND_LISTEN_UNIX ? read_local_socket(loader, value, &listener)
                                           : read_socket_address(loader, value, &listener)))
        return;
    read_stream_keys(loader, &text, &listener);
    snprintf(whole, sizeof whole, "%s %s", kinds[listener.kind],
             listener.kind == IND_LISTEN_UNIX ? listener.address : value->text.at);
    for (size_t i = 0; i < config->listener_count; i++)
        if (config->listeners[i].text && strcmp(config->listeners[i].text, whole) == 0)
            ind_wrong(loader, value, "this address is listened on already; leave one out");
    if (config->listener_count == IND_MOST_LISTENERS)
        ind_wrong(loader, node, "more than %d listeners; leave some out", IND_MOST_LISTENERS);
    else if (ind_grow(loader, &config->listeners, &config->listener_count, sizeof *config->listeners)) {
        listener.text = ind_keep(loader, ind_slice_of(whole));
        config->listeners[config->listener_count - 1] = listener;
    }
}

void ind_load_listen(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    (void)into;
    if (!ind_expect_list(loader, value, "listeners such as \"udp: 0.0.0.0:514\""))
        return;
    for (size_t i = 0; i < value->part_count; i++)
        load_listener(loader, value->parts[i]);
}

void ind_load_allow(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    (void)into;
    struct ind_config *config = loader->config;
    if (!ind_expect_list(loader, value, "networks"))
        return;
    config->allow_given = true;
    for (size_t i = 0; i < value->part_count; i++) {
        struct ind_network network;
        if (ind_read_network(loader, value->parts[i], &network) &&
            ind_grow(loader, &config->allow, &config->allow_count, sizeof *config->allow))
            config->allow[config->allow_count - 1] = network;
    }
}
