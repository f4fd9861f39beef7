/* core/alert/alerts_saved.c: what outlives a restart, out and in. */
#include "core/alert/alerts_private.h"

#include <stdlib.h>
#include <utlist.h>

static void visit_list(struct ind_alert_entry *list, bool changed,
                       void (*visit)(void *context, const struct ind_alert *alert), void *context)
{
    struct ind_alert_entry *entry;
    DL_FOREACH(list, entry)
    {
        if (changed && !entry->changed)
            continue;
        entry->changed = entry->changed && !changed;
        visit(context, &entry->alert);
    }
}

void ind_alerts_visit(struct ind_alerts *alerts, bool changed,
                      void (*visit)(void *context, const struct ind_alert *alert), void *context)
{
    struct ind_watch *watch, *next;
    HASH_ITER(hh, alerts->watches, watch, next)
    {
        visit_list(watch->open, changed, visit, context);
    }
}

void ind_alerts_visit_watched(struct ind_alerts *alerts, bool changed,
                              void (*visit)(void *context, const struct ind_alert *alert), void *context)
{
    struct ind_watch *watch, *next;
    HASH_ITER(hh, alerts->watches, watch, next)
    {
        if (ind_watch_waits(watch))
            visit_list(watch->idle, changed, visit, context);
    }
}

/* How long ago something was, by the wall clock: what lies ahead was just now. */
static struct ind_steady moment_of(ind_time time, struct ind_clocks now)
{
    if (time == IND_TIME_NONE || time > now.wall || now.wall - time >= now.steady.ns)
        return time == IND_TIME_NONE || time > now.wall ? now.steady : (struct ind_steady){1};
    return ind_steady_after(now.steady, time - now.wall);
}

void ind_alerts_watch(struct ind_alerts *alerts, struct ind_slice alert, struct ind_slice key, ind_time last,
                      struct ind_clocks now)
{
    struct ind_watch *watch = ind_watch_find(alerts, alert);
    if (!watch || !ind_watch_waits(watch))
        return;
    ind_alerts_make_room(alerts);
    struct ind_alert_entry *entry = ind_alert_entry_for(alerts, watch, key, now);
    if (entry && entry->alert.last == IND_TIME_NONE)
        entry->alert.first = entry->alert.last = last;
}

bool ind_alerts_restore(struct ind_alerts *alerts, struct ind_slice name, const struct ind_alert *saved,
                        struct ind_clocks now)
{
    struct ind_watch *watch = ind_watch_find(alerts, name);
    struct ind_alert_entry *entry =
        watch ? ind_alert_entry_for(alerts, watch, ind_slice_of(saved->key), now) : NULL;
    if (!entry || entry->alert.state != IND_ALERT_WATCHED)
        return false;
    struct ind_alert *alert = &entry->alert;
    alert->number = saved->number;
    alert->opened = saved->opened;
    alert->first = saved->first;
    alert->last = saved->last;
    alert->count = saved->count;
    alert->acknowledged = saved->acknowledged;
    memcpy(alert->who, saved->who, sizeof alert->who);
    alert->note = ind_alert_text(ind_slice_of(saved->note ? saved->note : ""));
    for (size_t i = 0; i < IND_ALERT_LINES; i++)
        if (saved->lines[i])
            ind_alert_entry_add_line(alerts, entry, ind_slice_of(saved->lines[i]));
    entry->heard = moment_of(saved->last, now);
    entry->told = now.steady; /* nobody is reminded at each start */
    entry->changed = false;
    entry->others = strcmp(saved->key, IND_ALERT_OTHERS) == 0;
    entry->silenced = true;
    ind_alert_entry_move(alerts, entry, saved->state);
    if (saved->state == IND_ALERT_ACKNOWLEDGED &&
        (watch->rule.over == IND_OVER_ACKNOWLEDGED || entry->others))
        ind_alert_end(alerts, entry, now);
    return true;
}
