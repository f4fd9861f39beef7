/* Taking from NATS: requests to a durable consumer that several share, and what comes of them, as the
 * protocol of JetStream has it. The library's own way to fetch is not used: where more has come than it asks
 * for, late answers to a request before, it writes beyond its list (libnats 3.4). */
#include "net/broker.h"

#if defined(IND_NATS)

#include "net/broker_private.h"
#include "net/steady_ms.h"
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum {
    AT_ONCE = 1024,
    AT_ONCE_BYTES = 8 << 20,
    ASKED_FOR = 1000,      /* ms: the server ends a request then, and says so; */
    GIVEN_UP_AFTER = 5000, /* where it does not say so, this many after it was made */
    UNSETTLED = 100000
};

static natsStatus join_consumer(struct ind_broker *broker, const char *stream, const char *below,
                                const char *group)
{
    jsConsumerConfig config;
    jsConsumerInfo *info = NULL;
    jsErrCode code = 0;
    jsConsumerConfig_Init(&config);
    config.Durable = group;
    config.FilterSubject = below;
    config.AckPolicy = js_AckExplicit;
    config.AckWait = broker->again_after * 1000000;
    config.MaxAckPending = UNSETTLED;
    natsStatus status = js_AddConsumer(&info, broker->stream, stream, &config, NULL, &code);
    jsConsumerInfo_Destroy(info);
    if (status == NATS_OK)
        return status;
    info = NULL; /* somebody may have made it otherwise */
    if (js_GetConsumerInfo(&info, broker->stream, stream, group, NULL, &code) == NATS_OK)
        status = NATS_OK;
    jsConsumerInfo_Destroy(info);
    return status;
}

bool ind_broker_join(struct ind_broker *broker, const char *stream, const char *subject, const char *group,
                     int64_t again_after, char reason[IND_BROKER_REASON])
{
    char below[300];
    if (!ind_broker_keep(broker, stream, subject, reason))
        return false;
    snprintf(below, sizeof below, "%s.>", subject);
    snprintf(broker->next, sizeof broker->next, "$JS.API.CONSUMER.MSG.NEXT.%.64s.%.64s", stream, group);
    broker->again_after = again_after;
    broker->looked = ind_steady_ms();
    natsStatus status = join_consumer(broker, stream, below, group);
    if (status == NATS_OK)
        status = natsInbox_Create(&broker->inbox);
    if (status == NATS_OK)
        status = natsConnection_SubscribeSync(&broker->taking, broker->connection, broker->inbox);
    if (status == NATS_OK)
        return true;
    ind_broker_say_why(status, reason);
    return false;
}

static void fail_with(struct ind_broker *broker, natsStatus status)
{
    char reason[IND_BROKER_REASON];
    ind_broker_say_why(status, reason);
    ind_broker_fail(broker, reason);
}

bool ind_broker_has_enough(const struct ind_broker *broker)
{
    return broker->count == IND_BROKER_MOST || broker->bytes >= IND_BROKER_BYTES;
}

/* One request at a time: so no more than AT_ONCE ever wait in the library. */
static void ask(struct ind_broker *broker, int64_t now)
{
    char request[120];
    if (broker->wanted && now - broker->asked < GIVEN_UP_AFTER)
        return;
    snprintf(request, sizeof request, "{\"batch\":%d,\"max_bytes\":%d,\"expires\":%lld}", (int)AT_ONCE,
             (int)AT_ONCE_BYTES, (long long)ASKED_FOR * 1000000);
    const natsStatus status =
        natsConnection_PublishRequestString(broker->connection, broker->next, broker->inbox, request);
    if (status != NATS_OK)
        fail_with(broker, status);
    broker->wanted = AT_ONCE;
    broker->asked = now;
}

static const char *header(natsMsg *message, const char *name)
{
    const char *value = NULL;
    return natsMsgHeader_Get(message, name, &value) == NATS_OK && value ? value : "";
}

/* What tells that a request has come to its end (a header "Status", and no address for a reply), and why. */
static void read_status(struct ind_broker *broker, natsMsg *message)
{
    const int code = atoi(header(message, "Status"));
    if (code == 100) /* it is there, no more */
        return;
    broker->wanted = 0;
    if (code == 503)
        ind_broker_fail(broker, "nobody there keeps the stream: JetStream is not to be had");
    else if (code == 409 && strstr(header(message, "Description"), "Consumer Deleted"))
        ind_broker_fail(broker, "somebody has deleted the group on the server");
}

/* What has waited here for so long that somebody else may have it: it is not taken any more. */
static void give_back_old(struct ind_broker *broker, int64_t now)
{
    natsMsg *message;
    if (now - broker->looked <= broker->again_after / 2)
        return;
    while (broker->wanted && natsSubscription_NextMsg(&message, broker->taking, 1) == NATS_OK) {
        if (natsMsg_GetReply(message))
            ind_broker_answer(broker, message, "-NAK");
        else
            read_status(broker, message);
        broker->wanted -= broker->wanted > 0;
        natsMsg_Destroy(message);
    }
}

static void take_one(struct ind_broker *broker, int64_t milliseconds)
{
    natsMsg *message = NULL;
    const natsStatus status = natsSubscription_NextMsg(&message, broker->taking, milliseconds);
    if (status == NATS_TIMEOUT)
        return;
    if (status != NATS_OK) {
        fail_with(broker, status);
        return;
    }
    if (!natsMsg_GetReply(message)) {
        read_status(broker, message);
        natsMsg_Destroy(message);
        return;
    }
    broker->wanted -= broker->wanted > 0;
    broker->bytes += (size_t)natsMsg_GetDataLength(message);
    broker->taken[broker->count++] = message;
}

/* The first is waited for; what is there behind it is taken at once. */
unsigned ind_broker_take(struct ind_broker *broker, int milliseconds)
{
    const unsigned before = broker->count;
    if (!broker->taken && !(broker->taken = calloc(IND_BROKER_MOST, sizeof(natsMsg *)))) {
        ind_broker_fail(broker, "out of memory");
        return 0;
    }
    int64_t now = ind_steady_ms();
    const int64_t end = now + milliseconds;
    give_back_old(broker, now);
    while (!ind_broker_has_enough(broker) && now < end && ind_broker_lives(broker)) {
        uint64_t queued = 0;
        ask(broker, now);
        (void)natsSubscription_QueuedMsgs(broker->taking, &queued);
        if (queued == 0 && broker->count > before)
            break;
        take_one(broker, end - now);
        now = ind_steady_ms();
    }
    broker->looked = now;
    return broker->count;
}

/* "$JS.ACK.STREAM.GROUP.DELIVERED.…", or with two words more before STREAM: how often. */
static uint64_t delivered(natsMsg *message)
{
    const char *reply = natsMsg_GetReply(message), *at = reply;
    unsigned points = 0, before = 4;
    for (; *at; at++)
        points += *at == '.';
    before += points > 8 ? 2 : 0;
    for (at = reply; *at && before; at++)
        before -= *at == '.';
    return strtoull(at, NULL, 10);
}

struct ind_broker_taken ind_broker_at(const struct ind_broker *broker, unsigned number)
{
    natsMsg *message = broker->taken[number];
    return (struct ind_broker_taken){.id = header(message, "Nats-Msg-Id"),
                                     .origin = header(message, "Indagator-Origin"),
                                     .messages = strtoull(header(message, "Indagator-Messages"), NULL, 10),
                                     .delivered = delivered(message),
                                     .packed = strcmp(header(message, "Content-Encoding"), "zstd") == 0,
                                     .bytes = natsMsg_GetData(message),
                                     .length = (size_t)natsMsg_GetDataLength(message)};
}

void ind_broker_go_on(struct ind_broker *broker, unsigned number)
{
    ind_broker_answer(broker, broker->taken[number], "+WPI");
}

void ind_broker_settle(struct ind_broker *broker, unsigned number, enum ind_broker_settling settling)
{
    ind_broker_answer(broker, broker->taken[number],
                      settling == IND_BROKER_DONE    ? "+ACK"
                      : settling == IND_BROKER_AGAIN ? "-NAK"
                                                     : "+TERM");
}

#endif
