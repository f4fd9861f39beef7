#include "collect/relay/connector.h"

#include "collect/relay/probe.h"
#include "collect/relay/relay_tls.h"
#include "thread/mutex.h"

#include <stdatomic.h>
#include <stdlib.h>

enum { PATIENCE = 10000 }; /* milliseconds for a connection, and as long for a handshake */

struct ind_connector {
    /* Set before the thread is started; borrowed. */
    const struct ind_relay_rule *rule;
    const struct ind_waker *done;
    struct ind_waker stop;
    pthread_t thread;
    bool running;
    bool busy; /* the caller's: it has asked and has no answer yet */

    struct ind_mutex mutex;
    struct ind_condition_variable changed;
    bool ending IND_GUARDED_BY(mutex), asked IND_GUARDED_BY(mutex), answered IND_GUARDED_BY(mutex);
    struct ind_connected answer IND_GUARDED_BY(mutex);
};

static void wake(void *context)
{
    const struct ind_connector *connector = context;
    ind_waker_wake(connector->done);
}

static void connect_to_broker(struct ind_connector *connector, struct ind_connected *answer)
{
    const struct ind_relay_rule *rule = connector->rule;
    const struct ind_target_address *target = &rule->targets[answer->target];
    const struct ind_broker_settings settings = {.host = target->host,
                                                 .port = target->port,
                                                 .trust = rule->trust,
                                                 .certificate = rule->certificate,
                                                 .key = rule->key,
                                                 .login = rule->login,
                                                 .milliseconds = PATIENCE / 2,
                                                 .woken = wake,
                                                 .context = connector};
    answer->broker = ind_broker_open(&settings, answer->reason);
    answer->good =
        answer->broker && ind_broker_keep(answer->broker, rule->stream, rule->subject, answer->reason);
    if (!answer->good) {
        ind_broker_close(answer->broker);
        answer->broker = NULL;
    }
}

static void connect_to(struct ind_connector *connector, struct ind_connected *answer)
{
    const struct ind_target_address *target = &connector->rule->targets[answer->target];
    const int stop = connector->stop.read_end;
    answer->good = ind_probe(connector->rule, answer->target, stop, answer->reason, sizeof answer->reason);
    if (!answer->good || answer->probe_only)
        return;
    if (target->kind == IND_TARGET_NATS) {
        connect_to_broker(connector, answer);
        return;
    }
    /* Files are read anew each time: a certificate that was put in the place of another is used from the next
     * connection on. */
    struct ind_tls *tls = target->kind == IND_TARGET_TLS
                              ? ind_relay_tls_new(connector->rule, answer->reason, sizeof answer->reason)
                              : NULL;
    if (target->kind == IND_TARGET_TLS && !tls) {
        answer->good = false;
        return;
    }
    const struct ind_uplink_settings settings = {.kind = (enum ind_transport_kind)target->kind,
                                                 .host = target->host,
                                                 .port = target->port,
                                                 .tls = tls,
                                                 .milliseconds = PATIENCE,
                                                 .stop = stop};
    answer->link = ind_uplink_open(&settings, answer->reason);
    answer->good = answer->link != NULL;
    ind_tls_release(tls);
}

static void *run(void *argument)
{
    struct ind_connector *connector = argument;
    ind_mutex_lock(&connector->mutex);
    while (!connector->ending) {
        if (!connector->asked) {
            ind_condition_variable_wait(&connector->changed, &connector->mutex);
            continue;
        }
        connector->asked = false;
        struct ind_connected answer = connector->answer;
        ind_mutex_unlock(&connector->mutex);
        connect_to(connector, &answer);
        ind_mutex_lock(&connector->mutex);
        connector->answer = answer;
        connector->answered = true;
        ind_waker_wake(connector->done);
    }
    ind_mutex_unlock(&connector->mutex);
    return NULL;
}

struct ind_connector *ind_connector_new(const struct ind_relay_rule *rule, const struct ind_waker *done)
{
    struct ind_connector *connector = calloc(1, sizeof *connector);
    if (!connector)
        return NULL;
    connector->rule = rule;
    connector->done = done;
    connector->stop = IND_WAKER_CLOSED;
    ind_mutex_begin(&connector->mutex);
    ind_condition_variable_begin(&connector->changed);
    connector->running =
        ind_waker_open(&connector->stop) && pthread_create(&connector->thread, NULL, run, connector) == 0;
    if (connector->running)
        return connector;
    ind_connector_free(connector);
    return NULL;
}

void ind_connector_free(struct ind_connector *connector)
{
    if (!connector)
        return;
    if (connector->running) {
        ind_mutex_lock(&connector->mutex);
        connector->ending = true;
        ind_condition_variable_signal(&connector->changed);
        ind_mutex_unlock(&connector->mutex);
        ind_waker_wake(&connector->stop);
        pthread_join(connector->thread, NULL);
        struct ind_connected answer;
        if (ind_connector_answer(connector, &answer)) {
            ind_uplink_close(answer.link);
            ind_broker_close(answer.broker);
        }
    }
    ind_waker_close(&connector->stop);
    ind_condition_variable_end(&connector->changed);
    ind_mutex_end(&connector->mutex);
    free(connector);
}

void ind_connector_ask(struct ind_connector *connector, unsigned target, bool probe_only)
{
    connector->busy = true;
    ind_mutex_lock(&connector->mutex);
    connector->answer = (struct ind_connected){.target = target, .probe_only = probe_only};
    connector->asked = true;
    ind_condition_variable_signal(&connector->changed);
    ind_mutex_unlock(&connector->mutex);
}

bool ind_connector_is_busy(const struct ind_connector *connector)
{
    return connector->busy;
}

bool ind_connector_answer(struct ind_connector *connector, struct ind_connected *answer)
{
    ind_mutex_lock(&connector->mutex);
    const bool answered = connector->answered;
    if (answered)
        *answer = connector->answer;
    connector->answered = false;
    connector->busy &= !answered;
    ind_mutex_unlock(&connector->mutex);
    return answered;
}
