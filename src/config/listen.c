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

/* In the order of enum ind_listener_kind. */
static const char *const kind_names[] = {"udp", "tcp", "tls", "unix", "inherited", "nats", "traps"};
enum { KINDS = sizeof kind_names / sizeof *kind_names };

struct listener_text {
    const struct ind_node *kinds[KINDS];
    const struct ind_node *senders_wait, *join_indented, *stream, *mode;
    struct ind_listen_tls_text tls;
    struct ind_listen_nats_text nats;
    struct ind_listen_traps_text traps;
};

/* A reader for ind_read_map that keeps the node of a key. */
#define KEEP(name, member)                                                                                   \
    static void keep_##name(struct ind_loader *loader, const struct ind_node *value, void *into)             \
    {                                                                                                        \
        (void)loader;                                                                                        \
        ((struct listener_text *)into)->member = value;                                                      \
    }

KEEP(udp, kinds[IND_LISTEN_UDP])
KEEP(tcp, kinds[IND_LISTEN_TCP])
KEEP(tls, kinds[IND_LISTEN_TLS])
KEEP(local, kinds[IND_LISTEN_UNIX])
KEEP(inherited, kinds[IND_LISTEN_INHERITED])
KEEP(nats, kinds[IND_LISTEN_NATS])
KEEP(traps, kinds[IND_LISTEN_TRAPS])
KEEP(communities, traps.communities)
KEEP(users, traps.users)
KEEP(subject, nats.subject)
KEEP(stream_name, nats.stream)
KEEP(group, nats.group)
KEEP(again_after, nats.again_after)
KEEP(trust, nats.trust)
KEEP(login, nats.login)
KEEP(senders_wait, senders_wait)
KEEP(join_indented, join_indented)
KEEP(stream, stream)
KEEP(mode, mode)
KEEP(certificate, tls.files[IND_LISTEN_CERTIFICATE])
KEEP(key, tls.files[IND_LISTEN_KEY])
KEEP(clients, tls.files[IND_LISTEN_CLIENTS])
KEEP(revoked, tls.files[IND_LISTEN_REVOKED])
KEEP(fingerprints, tls.fingerprints)
KEEP(names, tls.names)

static void former_when_full(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    (void)into;
    bool drop = value->kind == IND_NODE_SCALAR && ind_slice_equal(value->text, IND_SLICE("drop"));
    ind_wrong(loader, value, "\"when full\" is now called \"senders wait\"; write \"senders wait: %s\"",
              drop ? "no" : "yes");
}

bool ind_load_socket_address(struct ind_loader *loader, const struct ind_node *value, char **kept,
                             uint16_t *kept_port)
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
    *kept = ind_keep(loader, host);
    *kept_port = (uint16_t)number;
    return *kept != NULL;
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

static bool read_inherited(struct ind_loader *loader, const struct ind_node *value,
                           struct ind_listen_item *listener)
{
    enum { LONGEST = 255 };
    if (!ind_expect_text(loader, value, "the name that the service manager gives a socket"))
        return false;
    if (value->text.length == 0 || value->text.length > LONGEST ||
        memchr(value->text.at, ':', value->text.length))
        ind_wrong(loader, value,
                  "\"%.*s\" is no name of an inherited socket; it has 1 to %d bytes, and no colon",
                  IND_ARG(value->text), LONGEST);
    listener->address = ind_keep(loader, value->text);
    return listener->address != NULL;
}

static bool read_address(struct ind_loader *loader, const struct ind_node *value,
                         struct ind_listen_item *listener)
{
    switch (listener->kind) {
    case IND_LISTEN_UNIX:
        return read_local_socket(loader, value, listener);
    case IND_LISTEN_INHERITED:
        return read_inherited(loader, value, listener);
    case IND_LISTEN_NATS:
        return true; /* config/listen_nats.c */
    default:
        return ind_load_socket_address(loader, value, &listener->address, &listener->port);
    }
}

/* "yes" or "no" of a key that only listeners with connections have. */
static bool read_stream_key(struct ind_loader *loader, const struct ind_node *value, const char *key,
                            const char *why, const struct ind_listen_item *listener, bool *yes)
{
    if (!value || !ind_read_yes(loader, value, yes))
        return false;
    if (!listener->stream && listener->kind != IND_LISTEN_INHERITED)
        ind_wrong(loader, value,
                  "\"%s\" goes with connections (tcp, tls, or unix with \"stream: yes\"): %s; "
                  "leave it out",
                  key, why);
    return true;
}

static void read_local_keys(struct ind_loader *loader, const struct listener_text *text,
                            struct ind_listen_item *listener)
{
    bool local = listener->kind == IND_LISTEN_UNIX, yes = false;
    listener->stream = listener->kind == IND_LISTEN_TCP || listener->kind == IND_LISTEN_TLS;
    if (text->stream && ind_read_yes(loader, text->stream, &yes)) {
        if (!local)
            ind_wrong(loader, text->stream, "\"stream\" goes with unix; leave it out");
        listener->stream |= local && yes;
    }
    listener->mode = 0666;
    if (text->mode && ind_expect_text(loader, text->mode, "permissions such as \"0660\"")) {
        if (!ind_read_mode(text->mode->text, &listener->mode))
            ind_wrong(loader, text->mode,
                      "\"%.*s\" are no permissions; write them in octal, such as \"0660\"",
                      IND_ARG(text->mode->text));
        else if (!local)
            ind_wrong(loader, text->mode, "\"mode\" goes with unix; leave it out");
    }
}

static bool read_settings(struct ind_loader *loader, const struct ind_node *node, struct listener_text *text,
                          struct ind_listen_item *listener)
{
    bool wait = true;
    if (listener->kind == IND_LISTEN_TRAPS) { /* "names" are those of traps here */
        text->traps.names = text->tls.names;
        text->tls.names = NULL;
    }
    if (!ind_load_listen_traps(loader, text->kinds[IND_LISTEN_TRAPS], &text->traps, listener))
        return false;
    if (!ind_load_listen_nats(loader, node, text->kinds[IND_LISTEN_NATS], &text->nats, &text->tls, listener))
        return false;
    if (listener->nats) {
        listener->stream = true;
        listener->mode = 0600;
        return true;
    }
    read_local_keys(loader, text, listener);
    if (read_stream_key(loader, text->senders_wait, "senders wait", "datagrams cannot be held back", listener,
                        &wait))
        listener->drop = !wait;
    (void)read_stream_key(loader, text->join_indented, "join indented", "a datagram is a whole message",
                          listener, &listener->join);
    return ind_load_listen_tls(loader, node, &text->tls, listener);
}

/* The one key that says what it listens on. NULL, reported, where there is none, or several. */
static const struct ind_node *find_kind(struct ind_loader *loader, const struct listener_text *text,
                                        enum ind_listener_kind *kind)
{
    const struct ind_node *value = NULL;
    for (int i = 0; i < KINDS; i++) {
        if (text->kinds[i] && value)
            ind_wrong(loader, text->kinds[i],
                      "one listener has one of udp, tcp, tls, unix, inherited, nats and traps; begin another "
                      "with \"- \"");
        else if (text->kinds[i])
            *kind = (enum ind_listener_kind)i;
        value = value ? value : text->kinds[i];
    }
    return value;
}

/* TLS is TCP to the system, and traps are UDP. */
static bool is_same_port(const struct ind_listen_item *one, const struct ind_listen_item *other)
{
    return ((one->stream && other->stream) || (ind_listens_on_udp(one) && ind_listens_on_udp(other))) &&
           one->port && one->port == other->port && one->address && other->address &&
           strcmp(one->address, other->address) == 0;
}

static void add_listener(struct ind_loader *loader, const struct ind_node *node, const struct ind_node *value,
                         struct ind_listen_item *listener)
{
    struct ind_config *config = loader->config;
    char whole[1200];
    snprintf(whole, sizeof whole, "%s %s", kind_names[listener->kind],
             listener->kind == IND_LISTEN_UNIX ? listener->address : value->text.at);
    for (size_t i = 0; i < config->listener_count; i++)
        if (config->listeners[i].text &&
            (strcmp(config->listeners[i].text, whole) == 0 || is_same_port(&config->listeners[i], listener)))
            ind_wrong(loader, value, "this address is listened on already; leave one out");
    if (config->listener_count == IND_MOST_LISTENERS)
        ind_wrong(loader, node, "more than %d listeners; leave some out", IND_MOST_LISTENERS);
    else if (ind_grow(loader, &config->listeners, &config->listener_count, sizeof *config->listeners)) {
        listener->text = ind_keep(loader, ind_slice_of(whole));
        config->listeners[config->listener_count - 1] = *listener;
    }
}

static void load_listener(struct ind_loader *loader, const struct ind_node *node)
{
    static const struct ind_key keys[] = {{"udp", keep_udp},
                                          {"tcp", keep_tcp},
                                          {"tls", keep_tls},
                                          {"unix", keep_local},
                                          {"inherited", keep_inherited},
                                          {"senders wait", keep_senders_wait},
                                          {"join indented", keep_join_indented},
                                          {"stream", keep_stream},
                                          {"mode", keep_mode},
                                          {"certificate", keep_certificate},
                                          {"key", keep_key},
                                          {"clients", keep_clients},
                                          {"fingerprints", keep_fingerprints},
                                          {"names", keep_names},
                                          {"revoked", keep_revoked},
                                          {"nats", keep_nats},
                                          {"traps", keep_traps},
                                          {"communities", keep_communities},
                                          {"users", keep_users},
                                          {"subject", keep_subject},
                                          {"stream name", keep_stream_name},
                                          {"group", keep_group},
                                          {"again after", keep_again_after},
                                          {"trust", keep_trust},
                                          {"login", keep_login},
                                          {"!when full", former_when_full}};
    struct listener_text text = {0};
    struct ind_listen_item listener = {0};
    size_t mistakes = loader->diagnostics->mistakes;
    if (!ind_read_map(loader, node, keys, sizeof keys / sizeof *keys, &text))
        return;
    const struct ind_node *value = find_kind(loader, &text, &listener.kind);
    if (!value && loader->diagnostics->mistakes > mistakes)
        return; /* a misspelled key, which has been reported */
    if (!value)
        ind_wrong(loader, node, "a listener without an address; add one such as \"udp: 0.0.0.0:514\"");
    else if (read_address(loader, value, &listener) && read_settings(loader, node, &text, &listener))
        add_listener(loader, node, value, &listener);
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
