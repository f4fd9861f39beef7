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
    if (!entry || entry->alert.state != IND_ALERT_WATCHED || saved->state == IND_ALERT_WATCHED)
        return false;
    struct ind_alert *alert = &entry->alert;
    alert->number = saved->number;
    alert->opened = saved->opened;
    alert->ended = IND_TIME_NONE;
    entry->over = IND_STEADY_NEVER;
    alert->first = saved->first;
    alert->last = saved->last;
    alert->count = saved->count;
    alert->acknowledged = saved->acknowledged;
    memcpy(alert->who, saved->who, sizeof alert->who);
    free(alert->note);
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

/* ---- What has been counted ---- */

static void read_window(struct ind_alert_entry *entry, struct ind_clocks now,
                        struct ind_alert_counted *counted)
{
    struct ind_alert_window *window = &entry->window;
    counted->part = ind_alert_part(entry->watch->rule.span);
    counted->newest = now.wall - (now.steady.ns - window->turn * counted->part);
    for (int64_t i = 0; i < IND_ALERT_PARTS; i++)
        counted->parts[i] = *ind_alert_window_part(window, window->turn - i);
}

size_t ind_alerts_visit_counted(struct ind_alerts *alerts, size_t most, ind_visit_counted *visit,
                                void *context, struct ind_clocks now)
{
    struct ind_watch *watch, *next;
    size_t count = 0;
    HASH_ITER(hh, alerts->watches, watch, next)
    {
        struct ind_alert_entry *entry;
        if (watch->rule.kind != IND_ALERT_MORE)
            continue;
        DL_FOREACH(watch->idle, entry)
        {
            struct ind_alert_counted counted;
            if (count == most)
                return count;
            if (!entry->changed || entry->window.sum == 0)
                continue;
            entry->changed = false;
            read_window(entry, now, &counted);
            visit(context, &entry->alert, &counted);
            count++;
        }
    }
    return count;
}

/* How many parts ago the newest began; one that has begun meanwhile counts as whole. */
static int64_t parts_ago(const struct ind_alert_counted *counted, struct ind_clocks now)
{
    const ind_time begun = now.wall - now.steady.ns % counted->part; /* the present part */
    if (counted->newest >= begun)
        return 0; /* or the clock on the wall was set back */
    return (begun - counted->newest - 1) / counted->part + 1;
}

static void write_window(struct ind_alert_entry *entry, const struct ind_alert_counted *counted,
                         struct ind_clocks now)
{
    struct ind_alert_window *window = &entry->window;
    const int64_t ago = parts_ago(counted, now);
    ind_alert_window_turn(window, entry->watch->rule.span, now.steady);
    for (int64_t i = 0; i + ago < IND_ALERT_PARTS; i++) {
        *ind_alert_window_part(window, window->turn - i - ago) = counted->parts[i];
        window->sum += counted->parts[i];
    }
}

bool ind_alerts_restore_counted(struct ind_alerts *alerts, struct ind_slice name, const char *by,
                                const struct ind_alert *saved, const struct ind_alert_counted *counted,
                                struct ind_clocks now)
{
    struct ind_watch *watch = ind_watch_find(alerts, name);
    if (!watch || watch->rule.kind != IND_ALERT_MORE || counted->part != ind_alert_part(watch->rule.span) ||
        strcmp(watch->by ? watch->by : "", by) != 0)
        return false;
    ind_alerts_make_room(alerts);
    struct ind_alert_entry *entry = ind_alert_entry_for(alerts, watch, ind_slice_of(saved->key), now);
    if (!entry || entry->alert.state != IND_ALERT_WATCHED || entry->window.sum > 0)
        return false;
    write_window(entry, counted, now);
    if (entry->window.sum == 0) { /* all of it is too old */
        ind_alert_entry_free(alerts, entry);
        return true;
    }
    entry->alert.first = saved->first;
    entry->alert.last = saved->last;
    entry->alert.count = entry->window.sum;
    for (size_t i = 0; i < IND_ALERT_LINES; i++)
        if (saved->lines[i])
            ind_alert_entry_add_line(alerts, entry, ind_slice_of(saved->lines[i]));
    return true;
}
