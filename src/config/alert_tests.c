/* config/alert_tests.c: what is asked of each message for alerts. */
#include "config/load.h"

static void add_test(struct ind_alert_rules *alerts, size_t alert, bool ends)
{
    const struct ind_alert_rule *rule = &alerts->list[alert];
    alerts->of[alerts->test_count] = (struct ind_alert_test){(uint16_t)alert, ends};
    alerts->tests[alerts->test_count++] =
        (struct ind_route){.name = rule->name, .when = ends ? rule->over_when : rule->when, .group = -1};
}

bool ind_finish_alerts(struct ind_loader *loader)
{
    struct ind_alert_rules *alerts = &loader->config->alerts;
    if (alerts->count == 0)
        return true;
    alerts->tests = ind_keep_room(loader, 2 * alerts->count * sizeof *alerts->tests);
    alerts->of = ind_keep_room(loader, 2 * alerts->count * sizeof *alerts->of);
    if (!alerts->tests || !alerts->of)
        return false;
    for (size_t i = 0; i < alerts->count; i++) {
        if (alerts->list[i].kind == IND_ALERT_UNUSUAL)
            continue;
        add_test(alerts, i, false);
        if (alerts->list[i].over == IND_OVER_WHEN)
            add_test(alerts, i, true);
    }
    alerts->router = ind_router_new(loader->config->conditions, alerts->tests, alerts->test_count);
    return alerts->router != NULL;
}
