/* Publishing to NATS: each message says where its answer is to go, an address below an inbox of ours that
 * ends in its number, as the protocol of JetStream has it. The library's own way to publish is not used: it
 * may still call back when all is closed. */
#include "net/broker.h"

#if defined(IND_NATS)

#include "net/broker_private.h"
#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* A number that is none of what is under way is left out. The answer may be here before it counts as handed
 * out.
 */
static void note_kept(struct ind_broker *broker, uint64_t number, bool repeated)
{
    ind_mutex_lock(&broker->mutex);
    if (number >= broker->acknowledged && number <= broker->published) {
        broker->had[number % IND_BROKER_UNDER_WAY] = true;
        broker->repeated += repeated;
    }
    while (broker->had[broker->acknowledged % IND_BROKER_UNDER_WAY]) {
        broker->had[broker->acknowledged % IND_BROKER_UNDER_WAY] = false;
        broker->acknowledged++;
    }
    ind_mutex_unlock(&broker->mutex);
}

/* {"stream": NAME, "seq": NUMBER, "duplicate": true} or {"error": {"description": TEXT}}; where nobody keeps
 * the subject a message without text (its status is 503). */
static void read_answer(struct ind_broker *broker, natsMsg *message)
{
    const char *point = strrchr(natsMsg_GetSubject(message), '.');
    json_t *answer = json_loadb(natsMsg_GetData(message), (size_t)natsMsg_GetDataLength(message), 0, NULL);
    json_t *error = json_object_get(answer, "error");
    const char *why = json_string_value(json_object_get(error, "description"));
    if (natsMsg_IsNoResponders(message))
        ind_broker_fail(broker, "nobody there keeps what is published: JetStream is not to be had");
    else if (error || !json_is_integer(json_object_get(answer, "seq")) || !point)
        ind_broker_fail(broker, why ? why : "the broker's answer is none that JetStream gives");
    else
        note_kept(broker, strtoull(point + 1, NULL, 10), json_is_true(json_object_get(answer, "duplicate")));
    json_decref(answer);
}

static void on_answer(natsConnection *connection, natsSubscription *answers, natsMsg *message, void *context)
{
    struct ind_broker *broker = context;
    (void)connection;
    (void)answers;
    read_answer(broker, message);
    natsMsg_Destroy(message);
    broker->woken(broker->context);
}

static void on_last(void *context)
{
    struct ind_broker *broker = context;
    ind_mutex_lock(&broker->mutex);
    broker->answered = true;
    ind_mutex_unlock(&broker->mutex);
}

static natsStatus listen_for_answers(struct ind_broker *broker)
{
    char all[200];
    natsStatus status = natsInbox_Create(&broker->inbox);
    if (status != NATS_OK)
        return status;
    snprintf(all, sizeof all, "%s.*", broker->inbox);
    ind_mutex_lock(&broker->mutex);
    broker->listens = true;
    ind_mutex_unlock(&broker->mutex);
    status = natsConnection_Subscribe(&broker->answers, broker->connection, all, on_answer, broker);
    if (status == NATS_OK)
        status = natsSubscription_SetOnCompleteCB(broker->answers, on_last, broker);
    if (!broker->answers)
        on_last(broker);
    return status;
}

static natsStatus publish(struct ind_broker *broker, const char *subject, const char *id,
                          const char *const *headers, const void *bytes, size_t length)
{
    natsMsg *message = NULL;
    char reply[240];
    natsStatus status = broker->answers ? NATS_OK : listen_for_answers(broker);
    if (status != NATS_OK)
        return status;
    snprintf(reply, sizeof reply, "%s.%llu", broker->inbox, (unsigned long long)broker->published);
    status = natsMsg_Create(&message, subject, reply, bytes, (int)length);
    if (status == NATS_OK)
        status = natsMsgHeader_Set(message, "Nats-Msg-Id", id);
    for (; status == NATS_OK && *headers; headers += 2)
        status = natsMsgHeader_Set(message, headers[0], headers[1]);
    if (status == NATS_OK)
        status = natsConnection_PublishMsg(broker->connection, message);
    natsMsg_Destroy(message);
    return status;
}

bool ind_broker_publish(struct ind_broker *broker, const char *subject, const char *id,
                        const char *const *headers, const void *bytes, size_t length)
{
    const natsStatus status = publish(broker, subject, id, headers, bytes, length);
    if (status == NATS_OK) {
        ind_mutex_lock(&broker->mutex);
        broker->published++;
        ind_mutex_unlock(&broker->mutex);
        return true;
    }
    char reason[IND_BROKER_REASON];
    ind_broker_say_why(status, reason);
    ind_broker_fail(broker, reason);
    return false;
}

uint64_t ind_broker_published(const struct ind_broker *broker)
{
    return broker->published;
}

uint64_t ind_broker_acknowledged(struct ind_broker *broker)
{
    ind_mutex_lock(&broker->mutex);
    const uint64_t acknowledged = broker->acknowledged;
    ind_mutex_unlock(&broker->mutex);
    return acknowledged;
}

uint64_t ind_broker_repeated(struct ind_broker *broker)
{
    ind_mutex_lock(&broker->mutex);
    const uint64_t repeated = broker->repeated;
    ind_mutex_unlock(&broker->mutex);
    return repeated;
}

#endif
