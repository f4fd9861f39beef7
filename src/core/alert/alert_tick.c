/* core/alert/alert_tick.c: what happens because nothing does. */
#include "core/alert/alerts_private.h"

#include <utlist.h>

#define LONGEST (3600 * IND_SECOND)

static bool has_passed(struct ind_steady from, int64_t span, struct ind_steady now)
{
    return ind_steady_from(from, now) >= span;
}

static void remind(struct ind_alerts *alerts, struct ind_alert_entry *entry, struct ind_clocks now)
{
    entry->told = now.steady;
    ind_alert_tell(alerts, IND_ALERT_REMINDER, entry, now);
}

static void look_at_open(struct ind_alerts *alerts, struct ind_watch *watch, struct ind_clocks now)
{
    struct ind_alert_entry *entry, *next;
    const struct ind_alert_rule *rule = &watch->rule;
    DL_FOREACH_SAFE(watch->open, entry, next)
    {
        if (rule->over == IND_OVER_QUIET && has_passed(entry->heard, rule->quiet, now.steady))
            ind_alert_end(alerts, entry, now);
        else if (rule->remind && entry->alert.state == IND_ALERT_IS_OPEN &&
                 has_passed(entry->told, rule->remind, now.steady))
            remind(alerts, entry, now);
    }
}

static void open_silent(struct ind_alerts *alerts, struct ind_alert_entry *entry, struct ind_clocks now)
{
    const struct ind_alert_cause nothing = {.count = 1, .time = entry->alert.last, .last = entry->alert.last};
    entry->silenced = true;
    ind_alert_window_turn(&entry->window, entry->watch->rule.span, now.steady);
    entry->alert.count = entry->window.sum;
    ind_alert_open_or_join(alerts, entry, &nothing, now);
}

/* The order of the list is that in which they were heard: the first that is not due ends it. */
static void look_for_silence(struct ind_alerts *alerts, struct ind_watch *watch, struct ind_clocks now)
{
    struct ind_alert_entry *entry, *next;
    DL_FOREACH_SAFE(watch->idle, entry, next)
    {
        if (!has_passed(entry->heard, watch->rule.span, now.steady))
            return;
        if (entry->silenced)
            continue;
        open_silent(alerts, entry, now);
    }
}

static int64_t part_of(const struct ind_watch *watch)
{
    return ind_alert_part(watch->rule.span);
}

static void look_for_few(struct ind_alerts *alerts, struct ind_watch *watch, struct ind_clocks now)
{
    struct ind_alert_entry *entry, *next;
    if (now.steady.ns / part_of(watch) == watch->looked.ns / part_of(watch))
        return;
    watch->looked = now.steady;
    DL_FOREACH_SAFE(watch->idle, entry, next)
    {
        ind_alert_window_turn(&entry->window, watch->rule.span, now.steady);
        entry->alert.count = entry->window.sum;
        if (entry->window.sum >= watch->rule.number || entry->silenced ||
            !has_passed(entry->begun, watch->rule.span, now.steady))
            continue;
        open_silent(alerts, entry, now);
    }
}

/* Those of which nothing is left that could count. */
static void forget_idle(struct ind_alerts *alerts, struct ind_watch *watch, struct ind_clocks now)
{
    const struct ind_alert_rule *rule = &watch->rule;
    struct ind_alert_entry *entry, *next;
    DL_FOREACH_SAFE(watch->idle, entry, next)
    {
        const struct ind_steady last = entry->over.ns > entry->heard.ns ? entry->over : entry->heard;
        const int64_t keep = rule->span > rule->join ? rule->span : rule->join;
        if (!has_passed(last, keep, now.steady))
            return;
        ind_alert_entry_free(alerts, entry);
    }
}

/* Once a second: whoever is heard is looked at anyhow. */
static void end_joining(struct ind_alerts *alerts, struct ind_watch *watch, struct ind_steady now)
{
    struct ind_alert_entry *entry;
    if (watch->rule.join == 0 || ind_steady_lately(watch->swept, now, IND_SECOND))
        return;
    watch->swept = now;
    DL_FOREACH(watch->idle, entry)
    {
        ind_alert_end_joining(alerts, entry, now);
    }
}

void ind_alerts_tick(struct ind_alerts *alerts, struct ind_clocks now)
{
    struct ind_watch *watch, *next;
    HASH_ITER(hh, alerts->watches, watch, next)
    {
        look_at_open(alerts, watch, now);
        end_joining(alerts, watch, now.steady);
        if (watch->rule.kind == IND_ALERT_NOTHING)
            look_for_silence(alerts, watch, now);
        else if (watch->rule.kind == IND_ALERT_FEWER)
            look_for_few(alerts, watch, now);
        else
            forget_idle(alerts, watch, now);
    }
}

static void sooner(struct ind_steady *next, struct ind_steady from, int64_t span)
{
    const struct ind_steady at = ind_steady_after(from, span);
    if (at.ns < next->ns)
        *next = at;
}

struct ind_steady ind_alerts_next(const struct ind_alerts *alerts, struct ind_steady now)
{
    struct ind_steady next = ind_steady_after(now, LONGEST);
    struct ind_watch *watch, *other;
    HASH_ITER(hh, alerts->watches, watch, other)
    {
        const struct ind_alert_rule *rule = &watch->rule;
        const struct ind_alert_entry *entry;
        DL_FOREACH(watch->open, entry)
        {
            if (rule->over == IND_OVER_QUIET)
                sooner(&next, entry->heard, rule->quiet);
            if (rule->remind && entry->alert.state == IND_ALERT_IS_OPEN)
                sooner(&next, entry->told, rule->remind);
        }
        if (rule->kind == IND_ALERT_FEWER && watch->idle)
            sooner(&next, (struct ind_steady){now.ns / part_of(watch) * part_of(watch)}, part_of(watch));
        if (rule->kind != IND_ALERT_NOTHING)
            continue;
        DL_FOREACH(watch->idle, entry)
        {
            if (entry->silenced)
                continue;
            sooner(&next, entry->heard, rule->span);
            break;
        }
    }
    return next.ns > now.ns ? next : ind_steady_after(now, 1);
}
