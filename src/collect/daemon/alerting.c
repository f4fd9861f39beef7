/* The desk of alerts, as long as there are any. */
#include "collect/daemon/collector_private.h"

#include "collect/runtime/internal_message.h"
#include "store/alert/alert_file.h"

#include <stdio.h>
#include <unistd.h>

/* Those that are open outlive their rule: it is the desk that ends them. */
static bool were_some(const char *state)
{
    char path[4400];
    snprintf(path, sizeof path, "%s/" IND_ALERT_FILE_NAME, state);
    return access(path, F_OK) == 0;
}

static struct ind_desk *new_desk(struct ind_collector *collector, const struct ind_config *config)
{
    const struct ind_desk_settings settings = {.state = collector->settings->config->state,
                                               .store = collector->settings->config->store,
                                               .host = collector->host,
                                               .causes = collector->causes,
                                               .cause_count = collector->intakes,
                                               .reporter = &collector->reporter,
                                               .spawner = collector->alert_spawner,
                                               .clock = &ind_clock_system};
    struct ind_desk *desk = ind_desk_new(&settings);
    if (desk && ind_desk_adopt(desk, config) && ind_desk_start(desk))
        return desk;
    ind_desk_free(desk);
    return NULL;
}

bool ind_alerts_follow(struct ind_collector *collector)
{
    const struct ind_config *config = collector->rules->config;
    bool good = true;
    if (ind_is_from_files(collector))
        return true;
    if (collector->desk) {
        good = ind_desk_adopt(collector->desk, config);
    } else if (config->alerts.count || were_some(collector->settings->config->state)) {
        ind_this_machine(collector->host, sizeof collector->host);
        collector->desk = new_desk(collector, config);
        good = collector->desk != NULL;
    }
    if (!good)
        ind_report(&collector->reporter, IND_OWN_OUT_OF_MEMORY, NULL,
                   "out of memory: alerts go on by the rules of before, or not at all");
    return good;
}

int ind_alerts_order(struct ind_collector *collector, enum ind_alert_order order,
                     const struct ind_alert_query *query, char *text, size_t room)
{
    struct ind_desk *desk = collector->desk;
    int64_t count = -1;
    if (desk && order == IND_ALERT_ORDER_ACK)
        count = ind_desk_acknowledge(desk, query->alert, query->key, query->who, query->note);
    else if (desk && order == IND_ALERT_ORDER_MUTE)
        count = ind_desk_mute(desk, query->alert, query->key, ind_now() + query->span, query->who) ? 1 : -1;
    else if (desk)
        count = ind_desk_test(desk, query->alert) ? 1 : -1;
    if (count < 0) {
        snprintf(text, room, "the running collector has no alert of that name\n");
        return 404;
    }
    snprintf(text, room, "{\"alerts\":%lld}\n", (long long)count);
    return 200;
}
