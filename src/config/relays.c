/* config/relays.c: relays. Their files are opened by whoever connects, or checks. */
#include "config/load.h"
#include "config/quantity.h"
#include "config/relay.h"

#include <stdio.h>
#include <stdlib.h>

enum { LEAST_SPACE = 1 << 20, LEAST_RATE = 1000 };
#define DEFAULT_SPACE (UINT64_C(1) << 30)
#define DEFAULT_ANSWER (30 * IND_SECOND)

/* With the nodes of what can only be judged at the end; NULL where a key is not there. */
struct relay_text {
    struct ind_relay_rule *rule;
    const struct ind_node *name, *to, *share, *trust, *certificate, *key, *form, *subject, *stream, *login;
};

IND_KEEP_NODE(relay_text, to)

static void keep_relay_name(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct relay_text *text = into;
    if (!ind_expect_text(loader, value, "the relay's name"))
        return;
    bool good = value->text.length > 0 && value->text.length <= 64 && value->text.at[0] != '.';
    for (size_t i = 0; i < value->text.length; i++)
        good &= ind_is_alpha(value->text.at[i]) || ind_is_digit(value->text.at[i]) ||
                memchr("-_.", value->text.at[i], 3);
    text->name = value;
    if (!good) { /* what waits for it is kept in a folder of that name */
        ind_wrong(loader, value,
                  "the name of a relay is made of letters, digits, \"-\", \"_\" and \".\", 64 at most");
        return;
    }
    text->rule->name = ind_keep(loader, value->text);
}

static bool is_port(struct ind_slice text)
{
    uint64_t number;
    if (text.length && !ind_is_digit(text.at[0]))
        return true; /* the name of a service */
    return ind_read_count(text, 1, 65535, &number);
}

bool ind_target_read(struct ind_slice text, enum ind_target_kind *kind, struct ind_slice *host,
                     struct ind_slice *port)
{
    static const char *const schemes[] = {"udp:", "tcp:", "tls:", "unix:", "nats://"};
    int scheme = 0;
    while (scheme <= IND_TARGET_NATS && !ind_slice_starts(text, ind_slice_of(schemes[scheme])))
        scheme++;
    if (scheme > IND_TARGET_NATS || memchr(text.at, '\0', text.length))
        return false;
    *kind = (enum ind_target_kind)scheme;
    *host = ind_slice_from(text, strlen(schemes[scheme]));
    *port = (struct ind_slice){text.at + text.length, 0};
    if (*kind == IND_TARGET_UNIX)
        return host->length > 0;
    size_t colon = host->length;
    while (colon > 0 && host->at[colon - 1] != ':')
        colon--;
    if (colon < 2)
        return false;
    *port = ind_slice_from(*host, colon);
    host->length = colon - 1;
    if (host->length > 2 && host->at[0] == '[' && host->at[host->length - 1] == ']')
        *host = (struct ind_slice){host->at + 1, host->length - 2};
    return port->length > 0 && is_port(*port);
}

static void read_target(struct ind_loader *loader, const struct ind_node *node, struct ind_relay_rule *rule)
{
    struct ind_target_address *target = &rule->targets[rule->target_count];
    struct ind_slice host, port;
    if (!ind_expect_text(loader, node, "a target such as \"tls:collector.skerry.example:6514\""))
        return;
    if (!ind_target_read(node->text, &target->kind, &host, &port)) {
        ind_wrong(loader, node,
                  "\"%.*s\" is not a target; write one such as \"tls:collector.skerry.example:6514\", "
                  "\"tcp:192.0.2.201:601\", \"udp:192.0.2.201:514\", "
                  "\"unix:/run/indagator/log\" or \"nats://broker.skerry.example:4222\"",
                  IND_ARG(node->text));
        return;
    }
    target->text = ind_keep(loader, node->text);
    target->host = ind_keep(loader, host);
    target->port = ind_keep(loader, port);
    if (target->text && target->host && target->port)
        rule->target_count++;
}

static void read_targets(struct ind_loader *loader, const struct ind_node *value, struct ind_relay_rule *rule)
{
    const bool list = value->kind == IND_NODE_LIST;
    const size_t count = list ? value->part_count : 1;
    if (count == 0 || count > IND_RELAY_TARGETS) {
        ind_wrong(loader, value, "a relay has 1 to %d targets", IND_RELAY_TARGETS);
        return;
    }
    for (size_t i = 0; i < count; i++)
        read_target(loader, list ? value->parts[i] : value, rule);
}

static void read_share(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct relay_text *text = into;
    text->share = value;
    (void)ind_read_yes(loader, value, &text->rule->share);
}

static const char *read_file(struct ind_loader *loader, const struct ind_node *value)
{
    return ind_expect_text(loader, value, "the path of a file in PEM form") ? ind_resolve_path(loader, value)
                                                                            : NULL;
}

static void read_trust(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct relay_text *text = into;
    struct ind_fingerprint fingerprint;
    text->trust = value;
    const bool pinned = value->kind == IND_NODE_SCALAR && ind_fingerprint_read(value->text, &fingerprint);
    text->rule->trust = pinned ? ind_keep(loader, value->text) : read_file(loader, value);
}

static void read_certificate(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct relay_text *text = into;
    text->certificate = value;
    text->rule->certificate = read_file(loader, value);
}

static void read_key(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct relay_text *text = into;
    text->key = value;
    text->rule->key = read_file(loader, value);
}

const char *ind_read_http_address(struct ind_loader *loader, const struct ind_node *value,
                                  const char *example)
{
    char what[100];
    snprintf(what, sizeof what, "an address such as %s", example);
    if (!ind_expect_text(loader, value, what))
        return NULL;
    bool good = ind_slice_starts_nocase(value->text, IND_SLICE("http://")) ||
                ind_slice_starts_nocase(value->text, IND_SLICE("https://"));
    for (size_t i = 0; i < value->text.length; i++)
        good &= (unsigned char)value->text.at[i] > ' ' && value->text.at[i] != 0x7f;
    if (good)
        return ind_keep(loader, value->text);
    ind_wrong(loader, value, "\"%.*s\" is not an address over HTTP; write one such as %s",
              IND_ARG(value->text), example);
    return NULL;
}

static void read_probe(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    ((struct relay_text *)into)->rule->probe =
        ind_read_http_address(loader, value, "http://collector.skerry.example:8514/health");
}

static void read_form(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_relay_rule *rule = ((struct relay_text *)into)->rule;
    ((struct relay_text *)into)->form = value;
    if (!ind_expect_text(loader, value, "rfc5424 or as received"))
        return;
    if (ind_slice_equal(value->text, IND_SLICE("as received")))
        rule->form = IND_PASS_ON_AS_RECEIVED;
    else if (!ind_slice_equal(value->text, IND_SLICE("rfc5424")))
        ind_wrong(loader, value, "unknown form \"%.*s\"; expected rfc5424 or as received",
                  IND_ARG(value->text));
}

static void read_space(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_relay_rule *rule = into;
    if (ind_expect_text(loader, value, "a size such as 4 GiB") &&
        (!ind_read_size(value->text, &rule->space) || rule->space < LEAST_SPACE))
        ind_wrong(loader, value, "\"%.*s\" is not a size from 1 MiB on; write one such as 4 GiB",
                  IND_ARG(value->text));
}

static void read_give_up(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_relay_rule *rule = into;
    if (!ind_expect_text(loader, value, "oldest or newest"))
        return;
    rule->give_up_newest = ind_slice_equal(value->text, IND_SLICE("newest"));
    if (!rule->give_up_newest && !ind_slice_equal(value->text, IND_SLICE("oldest")))
        ind_wrong(loader, value,
                  "unknown \"%.*s\"; expected oldest or newest: what is given up when the "
                  "space is used up",
                  IND_ARG(value->text));
}

static void read_waiting(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    static const struct ind_key keys[] = {{"space", read_space}, {"give up", read_give_up}};
    ind_read_map(loader, value, keys, sizeof keys / sizeof *keys, ((struct relay_text *)into)->rule);
}

static void read_at_most(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_relay_rule *rule = ((struct relay_text *)into)->rule;
    if (!ind_expect_text(loader, value, "a rate such as 10 MB/s"))
        return;
    struct ind_slice size = value->text;
    const bool rate = size.length > 2 && memcmp(size.at + size.length - 2, "/s", 2) == 0;
    size.length -= rate ? 2 : 0;
    if (!rate || !ind_read_size(size, &rule->at_most) || rule->at_most < LEAST_RATE)
        ind_wrong(loader, value,
                  "\"%.*s\" is not a rate from 1 kB/s on; write bytes a second, such as 10 MB/s or 500 kB/s",
                  IND_ARG(value->text));
}

static void read_answer(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_relay_rule *rule = ((struct relay_text *)into)->rule;
    if (ind_expect_text(loader, value, "a span of time such as 30 s") &&
        (!ind_read_span(value->text, &rule->answer) || rule->answer < IND_SECOND))
        ind_wrong(loader, value, "\"%.*s\" is not a span of time from 1 s on; " IND_SPAN_HINT,
                  IND_ARG(value->text));
}

static void read_subject(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct relay_text *text = into;
    text->subject = value;
    text->rule->subject = ind_load_subject(loader, value);
}

static void read_stream(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct relay_text *text = into;
    text->stream = value;
    text->rule->stream = ind_load_stream(loader, value);
}

static void read_login(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct relay_text *text = into;
    text->login = value;
    if (ind_expect_text(loader, value, "the path of a file"))
        text->rule->login = ind_resolve_path(loader, value);
}

/* A message system has a form of its own, and its own words. */
static void check_nats(struct ind_loader *loader, const struct relay_text *text)
{
    struct ind_relay_rule *rule = text->rule;
    const struct ind_node *own[] = {text->subject, text->stream, text->login};
    static const char *const names[] = {"subject", "stream", "login"};
    unsigned count = 0;
    for (unsigned i = 0; i < rule->target_count; i++)
        count += rule->targets[i].kind == IND_TARGET_NATS;
    for (int i = 0; i < 3 && count == 0 && rule->target_count; i++)
        if (own[i])
            ind_wrong(loader, own[i], "\"%s\" goes with nats://; leave it out", names[i]);
    if (count == 0)
        return;
    if (count < rule->target_count)
        ind_wrong(loader, text->to, "nats:// goes with no other kind of target; write two relays");
    if (text->form)
        ind_wrong(loader, text->form, "what goes to nats:// has the form of json; leave \"form\" out");
    struct ind_fingerprint fingerprint;
    if (text->trust && rule->trust && ind_fingerprint_read(ind_slice_of(rule->trust), &fingerprint))
        ind_wrong(loader, text->trust, "with nats:// \"trust\" is a file of authorities, not a fingerprint");
    rule->form = IND_PASS_ON_JSON;
    if (!rule->subject)
        rule->subject = ind_keep(loader, IND_SLICE("syslog"));
    if (!rule->stream && rule->subject)
        rule->stream = ind_stream_of(loader, rule->subject);
}

/* What goes together, and what does not. */
static void check(struct ind_loader *loader, const struct ind_node *node, const struct relay_text *text)
{
    const struct ind_relay_rule *rule = text->rule;
    const struct ind_node *files[] = {text->trust, text->certificate, text->key};
    bool tls = rule->probe && ind_slice_starts_nocase(ind_slice_of(rule->probe), IND_SLICE("https:"));
    for (unsigned i = 0; i < rule->target_count; i++)
        tls |= rule->targets[i].kind == IND_TARGET_TLS || rule->targets[i].kind == IND_TARGET_NATS;
    for (int i = 0; i < 3 && !tls && rule->target_count; i++)
        if (files[i])
            ind_wrong(loader, files[i],
                      "certificates go with tls; write \"tls:HOST:PORT\", or leave them out");
    check_nats(loader, text);
    if (!text->certificate != !text->key)
        ind_wrong(loader, text->key ? text->key : text->certificate,
                  "\"certificate\" and \"key\" go together; add the other");
    if (text->share && rule->share && rule->target_count == 1)
        ind_warn(loader, text->share, "there is one target only: nothing is shared");
    if (!text->name)
        ind_wrong(loader, node, "a relay without a name; add \"name: …\"");
    if (!text->to)
        ind_wrong(loader, node, "a relay without a target; add \"to: tls:HOST:PORT\"");
}

static void load_relay(struct ind_loader *loader, const struct ind_node *node, struct ind_relay_rule *rule)
{
    static const struct ind_key keys[] = {{"name", keep_relay_name},
                                          {"to", keep_to},
                                          {"share", read_share},
                                          {"trust", read_trust},
                                          {"certificate", read_certificate},
                                          {"key", read_key},
                                          {"probe", read_probe},
                                          {"form", read_form},
                                          {"waiting", read_waiting},
                                          {"at most", read_at_most},
                                          {"answer within", read_answer},
                                          {"subject", read_subject},
                                          {"stream", read_stream},
                                          {"login", read_login}};
    struct relay_text text = {.rule = rule};
    *rule = (struct ind_relay_rule){
        .name = "", .form = IND_PASS_ON_RFC5424, .space = DEFAULT_SPACE, .answer = DEFAULT_ANSWER};
    if (!ind_read_map(loader, node, keys, sizeof keys / sizeof *keys, &text))
        return;
    if (text.to)
        read_targets(loader, text.to, rule);
    check(loader, node, &text);
    for (const struct ind_relay_rule *other = loader->config->relays; other < rule && text.name; other++)
        if (strcmp(other->name, rule->name) == 0)
            ind_wrong(loader, text.name, "the relay \"%s\" appears twice; give this one another name",
                      rule->name);
}

void ind_load_relays(struct ind_loader *loader)
{
    struct ind_config *config = loader->config;
    const size_t count = loader->relay_count < IND_MOST_RELAYS ? loader->relay_count : IND_MOST_RELAYS;
    if (loader->relay_count > IND_MOST_RELAYS)
        ind_wrong(loader, loader->relays[count], "%d relays at most", IND_MOST_RELAYS);
    config->relays = ind_keep_room(loader, (count + 1) * sizeof *config->relays);
    for (size_t i = 0; config->relays && i < count; i++) {
        load_relay(loader, loader->relays[i], &config->relays[i]);
        config->relay_count++;
    }
}

int ind_config_relay(const struct ind_config *config, struct ind_slice name)
{
    for (size_t i = 0; i < config->relay_count; i++)
        if (ind_slice_equal(name, ind_slice_of(config->relays[i].name)))
            return (int)i;
    return -1;
}

static bool same(const char *a, const char *b)
{
    return a && b ? strcmp(a, b) == 0 : a == b;
}

bool ind_relay_rules_equal(const struct ind_relay_rule *a, const struct ind_relay_rule *b)
{
    bool equal = same(a->name, b->name) && a->target_count == b->target_count && a->share == b->share &&
                 same(a->trust, b->trust) && same(a->certificate, b->certificate) && same(a->key, b->key) &&
                 same(a->probe, b->probe) && same(a->subject, b->subject) && same(a->stream, b->stream) &&
                 same(a->login, b->login) && a->form == b->form && a->space == b->space &&
                 a->give_up_newest == b->give_up_newest && a->at_most == b->at_most && a->answer == b->answer;
    for (unsigned i = 0; equal && i < a->target_count; i++)
        equal = same(a->targets[i].text, b->targets[i].text);
    return equal;
}

/* ---- Copies ---- */

struct ind_relay_rule *ind_relay_rule_copy(const struct ind_relay_rule *rule)
{
    struct ind_relay_rule *copy = malloc(sizeof *copy);
    if (!copy)
        return NULL;
    *copy = *rule;
    const char **texts[] = {&copy->name,  &copy->trust,   &copy->certificate, &copy->key,
                            &copy->probe, &copy->subject, &copy->stream,      &copy->login};
    bool whole = true;
    for (size_t i = 0; i < sizeof texts / sizeof *texts; i++) {
        const char *from = *texts[i];
        *texts[i] = from ? strdup(from) : NULL;
        whole &= !from || *texts[i];
    }
    for (unsigned i = 0; i < copy->target_count; i++) {
        char **parts[] = {&copy->targets[i].text, &copy->targets[i].host, &copy->targets[i].port};
        for (int n = 0; n < 3; n++)
            whole &= (*parts[n] = strdup(*parts[n])) != NULL;
    }
    if (whole)
        return copy;
    ind_relay_rule_free(copy);
    return NULL;
}

void ind_relay_rule_free(struct ind_relay_rule *rule)
{
    if (!rule)
        return;
    const char *const texts[] = {rule->name,  rule->trust,   rule->certificate, rule->key,
                                 rule->probe, rule->subject, rule->stream,      rule->login};
    for (size_t i = 0; i < sizeof texts / sizeof *texts; i++)
        free((void *)(uintptr_t)texts[i]);
    for (unsigned i = 0; i < rule->target_count; i++) {
        free(rule->targets[i].text);
        free(rule->targets[i].host);
        free(rule->targets[i].port);
    }
    free(rule);
}
