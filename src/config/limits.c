/* config/limits.c: what strangers may take at most. */
#include "config/load.h"
#include "config/quantity.h"
#include "core/message/framing.h"

enum { MOST_CONNECTIONS = 1000000, LEAST_MESSAGE = 480 /* RFC 5424 section 6.1 */ };

void ind_limits_begin(struct ind_limits *limits)
{
    *limits = (struct ind_limits){.connections = 10000,
                                  .handshakes = 1000,
                                  .message = IND_MESSAGE_LIMIT,
                                  .handshake = 10 * IND_SECOND,
                                  .unfinished = 300 * IND_SECOND};
}

static void read_number(struct ind_loader *loader, const struct ind_node *value, uint64_t *number)
{
    if (ind_expect_text(loader, value, "a number such as 1000") &&
        !ind_read_count(value->text, 1, MOST_CONNECTIONS, number))
        ind_wrong(loader, value, "\"%.*s\" is not a number from 1 to %d", IND_ARG(value->text),
                  MOST_CONNECTIONS);
}

static void read_connections(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    read_number(loader, value, &((struct ind_limits *)into)->connections);
}

static void read_per_address(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    read_number(loader, value, &((struct ind_limits *)into)->per_address);
}

static void read_handshakes(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    read_number(loader, value, &((struct ind_limits *)into)->handshakes);
}

static void read_message(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_limits *limits = into;
    if (ind_expect_text(loader, value, "a size such as 8 KiB") &&
        (!ind_read_size(value->text, &limits->message) || limits->message < LEAST_MESSAGE ||
         limits->message > IND_MESSAGE_LIMIT))
        ind_wrong(loader, value, "\"%.*s\" is not a size from %d bytes to 64 KiB; write one such as 8 KiB",
                  IND_ARG(value->text), LEAST_MESSAGE);
}

static void read_memory(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_limits *limits = into;
    if (ind_expect_text(loader, value, "a size such as 16 MiB") &&
        (!ind_read_size(value->text, &limits->memory) || limits->memory < 1 << 20 ||
         limits->memory > UINT64_C(64) << 30))
        ind_wrong(loader, value, "\"%.*s\" is not a size from 1 MiB to 64 GiB; write one such as 16 MiB",
                  IND_ARG(value->text));
}

static void read_time(struct ind_loader *loader, const struct ind_node *value, int64_t *span)
{
    if (!ind_expect_text(loader, value, "a span of time such as 30 s"))
        return;
    if (!ind_read_span(value->text, span) || *span < IND_SECOND)
        ind_wrong(loader, value, "\"%.*s\" is not a span of time from 1 s on; " IND_SPAN_HINT,
                  IND_ARG(value->text));
}

static void read_handshake(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    read_time(loader, value, &((struct ind_limits *)into)->handshake);
}

static void read_unfinished(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    read_time(loader, value, &((struct ind_limits *)into)->unfinished);
}

static void read_idle(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    struct ind_limits *limits = into;
    limits->idle = 0;
    if (value->kind != IND_NODE_SCALAR || !ind_slice_equal(value->text, IND_SLICE("never")))
        read_time(loader, value, &limits->idle);
}

void ind_load_limits(struct ind_loader *loader, const struct ind_node *value, void *into)
{
    static const struct ind_key keys[] = {
        {"connections", read_connections}, {"per address", read_per_address},
        {"handshakes", read_handshakes},   {"handshake", read_handshake},
        {"unfinished", read_unfinished},   {"idle", read_idle},
        {"message", read_message},         {"memory", read_memory}};
    struct ind_limits *limits = into;
    ind_read_map(loader, value, keys, sizeof keys / sizeof *keys, limits);
    if (limits->per_address > limits->connections)
        ind_warn(loader, value,
                 "\"per address\" is more than \"connections\": one address can keep all others out");
}

uint64_t ind_limits_per_address(const struct ind_limits *limits)
{
    return limits->per_address ? limits->per_address : (limits->connections + 1) / 2;
}

uint64_t ind_limits_memory(const struct ind_config *config)
{
    enum { LEAST = 1 << 20 };
    uint64_t quarter = config->burst_buffer / 4;
    return config->limits.memory ? config->limits.memory : quarter > LEAST ? quarter : LEAST;
}
