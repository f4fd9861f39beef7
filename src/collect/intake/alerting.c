#include "collect/intake/alerting.h"

#include "collect/intake/noting.h"

#include <stdlib.h>

bool ind_alerting_begin(struct ind_alerting *alerting, const struct ind_config *config,
                        struct ind_answers *answers)
{
    *alerting = (struct ind_alerting){.config = config};
    alerting->clock.zone = config->zone;
    alerting->clock.times = config->times;
    if (!config->alerts.router)
        return true;
    alerting->concerned = calloc(config->alerts.test_count, sizeof *alerting->concerned);
    return alerting->concerned && ind_router_prepare(config->alerts.router, answers);
}

void ind_alerting_end(struct ind_alerting *alerting)
{
    free(alerting->concerned);
}

struct ind_slice ind_alerting_key(struct ind_alerting *alerting, const struct ind_alert_rule *rule,
                                  const struct ind_message *message, char *room)
{
    struct ind_buffer key = ind_buffer_on(room, IND_ALERT_KEY);
    if (rule->by)
        ind_template_line(rule->by, message, &alerting->clock, &key);
    return ind_slice_begin(ind_buffer_view(&key), IND_ALERT_KEY - 1);
}

static void give_line(const struct ind_alerting_call *call, const struct ind_message *message)
{
    char line[IND_NOTE_ROOM];
    bool cut;
    if (call->line)
        call->line(call->context, ind_note_line(message, line, &cut));
}

void ind_alerting_look(struct ind_alerting *alerting, struct ind_message *message,
                       struct ind_answers *answers, const struct ind_alerting_call *call)
{
    const struct ind_alert_rules *alerts = &alerting->config->alerts;
    const size_t count = ind_router_decide(alerts->router, message, answers, alerting->concerned);
    for (size_t i = 0; i < count; i++) {
        char key[IND_ALERT_KEY];
        const struct ind_alert_test *test = &alerts->of[alerting->concerned[i]];
        const struct ind_alert_rule *rule = &alerts->list[test->alert];
        if (rule->by && rule->by->has_field && !message->payload)
            message->payload = ind_answers_payload(answers, message);
        const struct ind_alert_cause cause = {.alert = ind_slice_of(rule->name),
                                              .key = ind_alerting_key(alerting, rule, message, key),
                                              .ends = test->ends,
                                              .count = 1,
                                              .time = message->time,
                                              .last = message->time};
        if (call->cause(call->context, rule, &cause))
            give_line(call, message);
    }
}

static bool waits(const struct ind_alert_rule *rule)
{
    return rule->kind == IND_ALERT_NOTHING || rule->kind == IND_ALERT_FEWER;
}

/* Whatever a message alone could say is absent. */
static struct ind_message message_of(const struct ind_device *device)
{
    return (struct ind_message){.facility = IND_FACILITY_USER,
                                .severity = IND_SEVERITY_NOTICE,
                                .device = {device->name, device->name_length},
                                .configured = device,
                                .time = 0,
                                .sent = IND_TIME_NONE,
                                .received = IND_TIME_NONE};
}

static void look_at_device(struct ind_alerting *alerting, struct ind_answers *answers,
                           const struct ind_device *device,
                           void (*watch)(void *context, struct ind_slice alert, struct ind_slice key),
                           void *context)
{
    const struct ind_config *config = alerting->config;
    struct ind_message message = message_of(device);
    char key[IND_ALERT_KEY];
    ind_answers_next(answers);
    for (size_t i = 0; i < config->alerts.count; i++) {
        const struct ind_alert_rule *rule = &config->alerts.list[i];
        if (waits(rule) && rule->by && ind_condition_holds(config->conditions, rule->when, &message, answers))
            watch(context, ind_slice_of(rule->name), ind_alerting_key(alerting, rule, &message, key));
    }
}

void ind_alerting_configured(struct ind_alerting *alerting, struct ind_answers *answers,
                             void (*watch)(void *context, struct ind_slice alert, struct ind_slice key),
                             void *context)
{
    const struct ind_config *config = alerting->config;
    for (size_t i = 0; i < config->alerts.count; i++)
        if (waits(&config->alerts.list[i]) && !config->alerts.list[i].by)
            watch(context, ind_slice_of(config->alerts.list[i].name), IND_NOTHING);
    for (size_t i = 0; i < ind_devices_count(config->devices); i++)
        look_at_device(alerting, answers, ind_devices_at(config->devices, i), watch, context);
}
