/* NATS, by its own library. */
#include "net/broker.h"

#if defined(IND_NATS)

#include "net/broker_login.h"
#include "net/broker_private.h"
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

bool ind_broker_is_built_in(void)
{
    return true;
}

void ind_broker_fail(struct ind_broker *broker, const char *reason)
{
    ind_mutex_lock(&broker->mutex);
    if (!broker->ended)
        snprintf(broker->reason, sizeof broker->reason, "%s", reason);
    broker->ended = true;
    ind_mutex_unlock(&broker->mutex);
}

static void on_closed(natsConnection *connection, void *context)
{
    struct ind_broker *broker = context;
    const char *reason = NULL;
    (void)natsConnection_GetLastError(connection, &reason);
    ind_broker_fail(broker, reason && *reason ? reason : "the broker has ended the connection");
    broker->woken(broker->context);
    ind_mutex_lock(&broker->mutex);
    broker->closed = true;
    ind_mutex_unlock(&broker->mutex);
}

static natsStatus show_login(natsOptions *options, const struct ind_broker_login *login)
{
    return login->user[0]    ? natsOptions_SetUserInfo(options, login->user, login->password)
           : login->token[0] ? natsOptions_SetToken(options, login->token)
                             : natsOptions_SetNKeyFromSeed(options, login->nkey, login->seed);
}

static natsStatus set_tls(natsOptions *options, const struct ind_broker_settings *settings)
{
    natsStatus status = natsOptions_SetSecure(options, true);
    if (status == NATS_OK && settings->trust)
        status = natsOptions_LoadCATrustedCertificates(options, settings->trust);
    if (status == NATS_OK && settings->certificate)
        status = natsOptions_LoadCertificatesChain(options, settings->certificate, settings->key);
    if (status == NATS_OK)
        status = natsOptions_SetExpectedHostname(options, settings->host);
    return status;
}

/* A connection that breaks is made anew by whoever has it, who knows what was acknowledged. */
static natsStatus set_options(natsOptions *options, const struct ind_broker_settings *settings,
                              struct ind_broker *broker)
{
    char url[400];
    const bool tls = settings->trust || settings->certificate;
    const bool six = strchr(settings->host, ':') != NULL;
    snprintf(url, sizeof url, "%s://%s%s%s:%s", tls ? "tls" : "nats", six ? "[" : "", settings->host,
             six ? "]" : "", settings->port);
    natsStatus status = natsOptions_SetURL(options, url);
    if (status == NATS_OK)
        status = natsOptions_SetTimeout(options, settings->milliseconds);
    if (status == NATS_OK)
        status = natsOptions_SetAllowReconnect(options, false);
    if (status == NATS_OK)
        status = natsOptions_SetName(options, "indagator");
    if (status == NATS_OK)
        status = natsOptions_SetClosedCB(options, on_closed, broker);
    if (status == NATS_OK && tls)
        status = set_tls(options, settings);
    return status;
}

static natsStatus connect_to(struct ind_broker *broker, const struct ind_broker_settings *settings,
                             const struct ind_broker_login *login)
{
    natsOptions *options = NULL;
    jsOptions how;
    natsStatus status = natsOptions_Create(&options);
    if (status == NATS_OK)
        status = set_options(options, settings, broker);
    if (status == NATS_OK && login)
        status = show_login(options, login);
    if (status == NATS_OK)
        status = natsConnection_Connect(&broker->connection, options);
    natsOptions_Destroy(options);
    if (status == NATS_OK)
        status = jsOptions_Init(&how);
    if (status != NATS_OK)
        return status;
    how.Wait = settings->milliseconds;
    return natsConnection_JetStream(&broker->stream, broker->connection, &how);
}

void ind_broker_say_why(natsStatus status, char reason[IND_BROKER_REASON])
{
    natsStatus last = status;
    const char *detail = nats_GetLastError(&last);
    snprintf(reason, IND_BROKER_REASON, "%s%s%.120s", natsStatus_GetText(status),
             detail && *detail ? ": " : "", detail ? detail : "");
}

struct ind_broker *ind_broker_open(const struct ind_broker_settings *settings, char reason[IND_BROKER_REASON])
{
    struct ind_broker_login login;
    struct ind_broker *broker = NULL;
    if (settings->login && !ind_broker_login_read(settings->login, &login, reason, IND_BROKER_REASON))
        return NULL;
    broker = calloc(1, sizeof *broker);
    snprintf(reason, IND_BROKER_REASON, "out of memory");
    if (!broker)
        return NULL;
    broker->woken = settings->woken;
    broker->context = settings->context;
    ind_mutex_begin(&broker->mutex);
    const natsStatus status = connect_to(broker, settings, settings->login ? &login : NULL);
    if (status == NATS_OK)
        return broker;
    ind_broker_say_why(status, reason);
    ind_broker_close(broker);
    return NULL;
}

/* The library calls nothing of ours any more. */
static bool is_left_alone(struct ind_broker *broker)
{
    ind_mutex_lock(&broker->mutex);
    const bool left = broker->closed && broker->answered == broker->listens;
    ind_mutex_unlock(&broker->mutex);
    return left;
}

void ind_broker_answer(struct ind_broker *broker, natsMsg *message, const char *word)
{
    const char *reply = natsMsg_GetReply(message);
    if (reply)
        (void)natsConnection_PublishString(broker->connection, reply, word);
}

/* What has come and nobody has taken goes to others at once. */
static void leave_group(struct ind_broker *broker)
{
    natsMsg *message;
    while (broker->taking && natsSubscription_NextMsg(&message, broker->taking, 1) == NATS_OK) {
        if (natsMsg_GetReply(message))
            ind_broker_answer(broker, message, "-NAK");
        natsMsg_Destroy(message);
    }
}

void ind_broker_let_go(struct ind_broker *broker)
{
    for (unsigned i = 0; i < broker->count; i++)
        natsMsg_Destroy(broker->taken[i]);
    broker->count = 0;
    broker->bytes = 0;
}

/* Its callbacks come to an end first. One that the library may still call is left where it is. */
void ind_broker_close(struct ind_broker *broker)
{
    enum { MOST = 500 };
    if (!broker)
        return;
    leave_group(broker);
    ind_broker_let_go(broker);
    free(broker->taken);
    natsSubscription_Destroy(broker->taking);
    natsSubscription_Destroy(broker->answers);
    natsInbox_Destroy(broker->inbox);
    jsCtx_Destroy(broker->stream);
    if (broker->connection) {
        natsConnection_Close(broker->connection);
        for (int i = 0; i < MOST && !is_left_alone(broker); i++)
            nats_Sleep(10);
        natsConnection_Destroy(broker->connection);
        if (!is_left_alone(broker))
            return;
    }
    ind_mutex_end(&broker->mutex);
    free(broker);
}

bool ind_broker_keep(struct ind_broker *broker, const char *stream, const char *subject,
                     char reason[IND_BROKER_REASON])
{
    char below[300];
    const char *subjects[] = {subject, below};
    jsStreamInfo *info = NULL;
    jsStreamConfig config;
    jsErrCode code = 0;
    natsStatus status = js_GetStreamInfo(&info, broker->stream, stream, NULL, &code);
    jsStreamInfo_Destroy(info);
    if (status == NATS_OK)
        return true;
    if (status == NATS_NOT_FOUND) {
        snprintf(below, sizeof below, "%s.>", subject);
        jsStreamConfig_Init(&config);
        config.Name = stream;
        config.Subjects = subjects;
        config.SubjectsLen = 2;
        config.Storage = js_FileStorage;
        config.Retention = js_WorkQueuePolicy;
        config.Duplicates = 10 * 60 * INT64_C(1000000000);
        info = NULL;
        status = js_AddStream(&info, broker->stream, &config, NULL, &code);
        jsStreamInfo_Destroy(info);
    }
    if (status == NATS_OK)
        return true;
    ind_broker_say_why(status, reason);
    return false;
}

bool ind_broker_lives(struct ind_broker *broker)
{
    ind_mutex_lock(&broker->mutex);
    const bool lives = !broker->ended;
    ind_mutex_unlock(&broker->mutex);
    return lives;
}

const char *ind_broker_reason(const struct ind_broker *broker)
{
    return broker->reason;
}

#endif
