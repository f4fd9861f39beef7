#include "core/alert/alerts_private.h"

#include <stdlib.h>
#include <utlist.h>

struct ind_alerts *ind_alerts_new(const struct ind_alerts_settings *settings)
{
    struct ind_alerts *alerts = calloc(1, sizeof *alerts);
    if (!alerts)
        return NULL;
    alerts->settings = *settings;
    if (alerts->settings.next_number == 0)
        alerts->settings.next_number = 1;
    return alerts;
}

static void free_entries(struct ind_alerts *alerts, struct ind_watch *watch)
{
    while (watch->open)
        ind_alert_entry_free(alerts, watch->open);
    while (watch->idle)
        ind_alert_entry_free(alerts, watch->idle);
}

static void free_watch(struct ind_watch *watch)
{
    free(watch->name);
    free(watch->by);
    free(watch);
}

void ind_alerts_free(struct ind_alerts *alerts)
{
    struct ind_watch *watch, *next;
    if (!alerts)
        return;
    HASH_ITER(hh, alerts->watches, watch, next)
    {
        free_entries(alerts, watch);
        HASH_DEL(alerts->watches, watch);
        free_watch(watch);
    }
    free(alerts);
}

/* ---- Rules ---- */

/* What is borrowed from a configuration is not kept. */
static void take_rule(struct ind_watch *watch, const struct ind_alert_rule *rule)
{
    watch->rule = (struct ind_alert_rule){.name = watch->name,
                                          .kind = rule->kind,
                                          .number = rule->number,
                                          .span = rule->span,
                                          .by_text = watch->by,
                                          .over = rule->over,
                                          .quiet = rule->quiet,
                                          .remind = rule->remind,
                                          .join = rule->join};
}

/* Parts of another length cannot be told apart any more: windows begin anew. */
static void take_other_span(struct ind_watch *watch, struct ind_steady now)
{
    struct ind_alert_entry *const lists[] = {watch->open, watch->idle}, *entry;
    for (int i = 0; i < 2; i++)
        DL_FOREACH(lists[i], entry)
        {
            memset(&entry->window, 0, sizeof entry->window);
            entry->begun = now;
        }
    watch->looked = IND_STEADY_NEVER;
}

static struct ind_watch *new_watch(const struct ind_alert_rule *rule)
{
    struct ind_watch *watch = calloc(1, sizeof *watch);
    if (!watch)
        return NULL;
    watch->name = ind_alert_text(ind_slice_of(rule->name));
    watch->by = ind_alert_text(ind_slice_of(rule->by_text ? rule->by_text : ""));
    if (watch->name && (watch->by || !rule->by_text || !*rule->by_text))
        return watch;
    free_watch(watch);
    return NULL;
}

/* Whether its keys mean the same. */
static bool is_as_before(const struct ind_watch *watch, const struct ind_alert_rule *rule)
{
    return strcmp(watch->by ? watch->by : "", rule->by_text ? rule->by_text : "") == 0 &&
           watch->rule.kind == rule->kind;
}

static void end_all(struct ind_alerts *alerts, struct ind_watch *watch, struct ind_clocks now)
{
    watch->rule.join = 0;
    while (watch->open) {
        struct ind_alert_entry *entry = watch->open;
        ind_alert_end(alerts, entry, now);
    }
    free_entries(alerts, watch);
}

/* All new ones first, so that nothing is changed where memory is out. */
static bool add_new(struct ind_alerts *alerts, const struct ind_alert_rule *rules, size_t count)
{
    for (size_t i = 0; i < count; i++) {
        if (ind_watch_find(alerts, ind_slice_of(rules[i].name)))
            continue;
        struct ind_watch *watch = new_watch(&rules[i]);
        if (!watch)
            return false;
        take_rule(watch, &rules[i]);
        HASH_ADD_KEYPTR(hh, alerts->watches, watch->name, strlen(watch->name), watch);
        if (!watch->hh.tbl) {
            free_watch(watch);
            return false;
        }
    }
    return true;
}

static void take_other_keys(struct ind_alerts *alerts, struct ind_watch *watch,
                            const struct ind_alert_rule *rule, struct ind_clocks now)
{
    char *by = ind_alert_text(ind_slice_of(rule->by_text ? rule->by_text : ""));
    end_all(alerts, watch, now);
    free(watch->by);
    watch->by = by;
}

bool ind_alerts_adopt(struct ind_alerts *alerts, const struct ind_alert_rule *rules, size_t count,
                      struct ind_clocks now)
{
    struct ind_watch *watch, *next;
    if (!add_new(alerts, rules, count))
        return false;
    HASH_ITER(hh, alerts->watches, watch, next)
    {
        watch->wanted = false;
    }
    for (size_t i = 0; i < count; i++) {
        watch = ind_watch_find(alerts, ind_slice_of(rules[i].name));
        if (!watch)
            continue;
        if (!is_as_before(watch, &rules[i]))
            take_other_keys(alerts, watch, &rules[i], now);
        if (watch->rule.span != rules[i].span)
            take_other_span(watch, now.steady);
        take_rule(watch, &rules[i]);
        watch->wanted = true;
    }
    HASH_ITER(hh, alerts->watches, watch, next)
    {
        if (watch->wanted)
            continue;
        end_all(alerts, watch, now);
        HASH_DEL(alerts->watches, watch);
        free_watch(watch);
    }
    return true;
}

struct ind_alerts_counts ind_alerts_counts(const struct ind_alerts *alerts)
{
    struct ind_alerts_counts counts = alerts->counts;
    struct ind_watch *watch, *next;
    HASH_ITER(hh, alerts->watches, watch, next)
    {
        const struct ind_alert_entry *entry;
        counts.watched += watch->idle_count;
        DL_FOREACH(watch->open, entry)
        {
            counts.open += entry->alert.state == IND_ALERT_IS_OPEN;
            counts.acknowledged += entry->alert.state == IND_ALERT_ACKNOWLEDGED;
        }
    }
    return counts;
}
