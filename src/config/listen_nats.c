/* config/listen_nats.c: messages that are taken from a message system. */
#include "config/load.h"
#include "config/quantity.h"
#include "config/relay.h"

#include <stdio.h>

#define AGAIN_AFTER (30 * IND_SECOND)

/* None of it may be given. */
static bool expect_none(struct ind_loader *loader, const struct ind_listen_nats_text *text)
{
    const struct ind_node *own[] = {text->subject, text->stream,      text->group,
                                    text->login,   text->again_after, text->trust};
    static const char *const names[] = {"subject", "stream name", "group", "login", "again after", "trust"};
    bool good = true;
    for (int i = 0; i < 6; i++)
        if (own[i]) {
            ind_wrong(loader, own[i], "\"%s\" goes with nats; leave it out", names[i]);
            good = false;
        }
    return good;
}

static void read_again_after(struct ind_loader *loader, const struct ind_node *value,
                             struct ind_listen_nats *nats)
{
    nats->again_after = AGAIN_AFTER;
    if (value && ind_expect_text(loader, value, "a span of time such as 30 s") &&
        (!ind_read_span(value->text, &nats->again_after) || nats->again_after < IND_SECOND))
        ind_wrong(loader, value, "\"%.*s\" is not a span of time from 1 s on; " IND_SPAN_HINT,
                  IND_ARG(value->text));
}

static const char *read_file(struct ind_loader *loader, const struct ind_node *value)
{
    return value && ind_expect_text(loader, value, "the path of a file") ? ind_resolve_path(loader, value)
                                                                         : NULL;
}

static bool read_address(struct ind_loader *loader, const struct ind_node *value,
                         struct ind_listen_nats *nats)
{
    struct ind_slice host, port;
    enum ind_target_kind kind;
    char whole[300];
    if (!ind_expect_text(loader, value, "a host and a port such as broker.skerry.example:4222"))
        return false;
    snprintf(whole, sizeof whole, "nats://%s", value->text.at);
    if (value->text.length > 250 || !ind_target_read(ind_slice_of(whole), &kind, &host, &port)) {
        ind_wrong(loader, value,
                  "\"%.*s\" is not a host and a port; write one such as broker.skerry.example:4222",
                  IND_ARG(value->text));
        return false;
    }
    nats->host = ind_keep(loader, host);
    nats->port = ind_keep(loader, port);
    return nats->host && nats->port;
}

bool ind_load_listen_nats(struct ind_loader *loader, const struct ind_node *node,
                          const struct ind_node *value, const struct ind_listen_nats_text *text,
                          const struct ind_listen_tls_text *tls, struct ind_listen_item *item)
{
    const size_t mistakes = loader->diagnostics->mistakes;
    if (!value)
        return expect_none(loader, text);
    struct ind_listen_nats *nats = ind_keep_room(loader, sizeof *nats);
    if (!nats || !read_address(loader, value, nats))
        return false;
    const struct ind_node *certificate = tls->files[IND_LISTEN_CERTIFICATE],
                          *key = tls->files[IND_LISTEN_KEY];
    nats->subject =
        text->subject ? ind_load_subject(loader, text->subject) : ind_keep(loader, IND_SLICE("syslog"));
    nats->stream = text->stream    ? ind_load_stream(loader, text->stream)
                   : nats->subject ? ind_stream_of(loader, nats->subject)
                                   : NULL;
    if (text->group)
        nats->group = ind_load_stream(loader, text->group);
    else
        ind_wrong(loader, node,
                  "nats needs \"group\": those who share what comes have one name; add \"group: filers\"");
    read_again_after(loader, text->again_after, nats);
    nats->trust = read_file(loader, text->trust);
    nats->login = read_file(loader, text->login);
    nats->certificate = read_file(loader, certificate);
    nats->key = read_file(loader, key);
    if (!certificate != !key)
        ind_wrong(loader, key ? key : certificate, "\"certificate\" and \"key\" go together; add the other");
    item->nats = nats;
    return loader->diagnostics->mistakes == mistakes;
}

/* A name of its own for each, of a length that every system takes. */
static uint64_t hash_of(const char *text)
{
    uint64_t hash = UINT64_C(0xCBF29CE484222325);
    for (; *text; text++)
        hash = (hash ^ (unsigned char)*text) * UINT64_C(0x100000001B3);
    return hash;
}

void ind_finish_listen_nats(struct ind_loader *loader)
{
    enum { LONGEST = 100 };
    struct ind_config *config = loader->config;
    for (size_t i = 0; i < config->listener_count; i++) {
        char path[4200];
        if (!config->listeners[i].nats)
            continue;
        snprintf(path, sizeof path, "%s/nats-%016llx.sock", config->state,
                 (unsigned long long)hash_of(config->listeners[i].text));
        if (strlen(path) > LONGEST)
            ind_diagnostic_add(
                loader->diagnostics, false, NULL, 0, 0,
                "state: the path of the folder is too long for a local socket in it, which nats "
                "needs: %d bytes at most",
                LONGEST - 27);
        config->listeners[i].address = ind_keep(loader, ind_slice_of(path));
    }
}
