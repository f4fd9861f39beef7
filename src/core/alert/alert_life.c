/* core/alert/alert_life.c: from a cause to its end. */
#include "core/alert/alerts_private.h"

#include <stdlib.h>
#include <utlist.h>

const char *ind_alert_event_name(enum ind_alert_event event)
{
    static const char *const names[] = {"opened", "reopened", "reminder", "over"};
    return names[event];
}

void ind_alert_tell(struct ind_alerts *alerts, enum ind_alert_event event, struct ind_alert_entry *entry,
                    struct ind_clocks now)
{
    entry->changed = true;
    alerts->settings.happened(alerts->settings.context, event, &entry->alert, now);
}

/* Nothing is counted before it opens. */
static bool opens_at_once(const struct ind_alert_rule *rule)
{
    return rule->kind == IND_ALERT_EACH || rule->kind == IND_ALERT_UNUSUAL;
}

static void forget_hands(struct ind_alert *alert)
{
    alert->who[0] = '\0';
    free(alert->note);
    alert->note = NULL;
    alert->acknowledged = IND_TIME_NONE;
}

void ind_alert_open(struct ind_alerts *alerts, struct ind_alert_entry *entry, struct ind_clocks now)
{
    struct ind_alert *alert = &entry->alert;
    const bool again = ind_steady_is_set(entry->over);
    entry->over = IND_STEADY_NEVER;
    entry->told = now.steady;
    alert->ended = IND_TIME_NONE;
    forget_hands(alert);
    if (!again) {
        alert->number = alerts->settings.next_number++;
        alert->opened = now.wall;
    }
    ind_alert_entry_move(alerts, entry, IND_ALERT_IS_OPEN);
    ind_alert_tell(alerts, again ? IND_ALERT_REOPENED : IND_ALERT_OPENED, entry, now);
}

/* What counted up to here does not count again. */
void ind_alert_end(struct ind_alerts *alerts, struct ind_alert_entry *entry, struct ind_clocks now)
{
    struct ind_alert *alert = &entry->alert;
    const struct ind_alert_rule *rule = &entry->watch->rule;
    alert->ended = now.wall;
    ind_alert_tell(alerts, IND_ALERT_OVER, entry, now);
    memset(&entry->window, 0, sizeof entry->window);
    entry->begun = now.steady;
    entry->silenced = ind_watch_waits(entry->watch) && rule->over != IND_OVER_HEARD;
    entry->over = now.steady;
    ind_alert_entry_move(alerts, entry, IND_ALERT_WATCHED);
    if (entry->others) {
        ind_alert_entry_free(alerts, entry);
        return;
    }
    if (rule->join > 0)
        return;
    entry->over = IND_STEADY_NEVER;
    alert->number = alert->count = 0;
    alert->opened = alert->ended = IND_TIME_NONE;
    if (!ind_watch_waits(entry->watch))
        alert->first = alert->last = IND_TIME_NONE;
    forget_hands(alert);
    ind_alert_entry_drop_lines(alerts, entry);
    if (opens_at_once(rule))
        ind_alert_entry_free(alerts, entry);
}

void ind_alert_end_joining(struct ind_alerts *alerts, struct ind_alert_entry *entry, struct ind_steady now)
{
    struct ind_alert *alert = &entry->alert;
    if (!ind_steady_is_set(entry->over) || ind_steady_lately(entry->over, now, entry->watch->rule.join))
        return;
    entry->over = IND_STEADY_NEVER;
    alert->count = entry->window.sum;
    alert->number = 0;
    alert->opened = alert->ended = IND_TIME_NONE;
    forget_hands(alert);
    if (entry->window.sum == 0 && !ind_watch_waits(entry->watch)) {
        alert->first = alert->last = IND_TIME_NONE;
        ind_alert_entry_drop_lines(alerts, entry);
    }
}

/* ---- Causes ---- */

static void count(struct ind_alerts *alerts, struct ind_alert_entry *entry,
                  const struct ind_alert_cause *cause, struct ind_clocks now)
{
    struct ind_alert *alert = &entry->alert;
    if (alert->first == IND_TIME_NONE)
        alert->first = cause->time;
    alert->last = alert->last == IND_TIME_NONE || cause->last > alert->last ? cause->last : alert->last;
    alert->count += cause->count;
    entry->heard = now.steady;
    entry->changed = true;
    if (cause->line.length)
        ind_alert_entry_add_line(alerts, entry, cause->line);
}

/* Where too many are open this one is counted with all others for which there is no room. */
void ind_alert_open_or_join(struct ind_alerts *alerts, struct ind_alert_entry *entry,
                            const struct ind_alert_cause *cause, struct ind_clocks now)
{
    struct ind_watch *watch = entry->watch;
    if (watch->open_count < IND_ALERT_OPEN && alerts->open < IND_ALERTS_OPEN) {
        ind_alert_open(alerts, entry, now);
        return;
    }
    alerts->counts.joined++;
    if (opens_at_once(&watch->rule))
        ind_alert_entry_free(alerts, entry);
    else
        memset(&entry->window, 0, sizeof entry->window);
    struct ind_alert_entry *others = ind_alert_entry_for(alerts, watch, ind_slice_of(IND_ALERT_OTHERS), now);
    if (!others)
        return;
    others->others = true;
    count(alerts, others, cause, now);
    if (others->alert.state == IND_ALERT_WATCHED)
        ind_alert_open(alerts, others, now);
}

/* An entry that is idle goes to the end of the list: the oldest are at its beginning. */
static void refresh(struct ind_alerts *alerts, struct ind_alert_entry *entry)
{
    if (entry->alert.state == IND_ALERT_WATCHED)
        ind_alert_entry_move(alerts, entry, IND_ALERT_WATCHED);
}

/* Where messages never stop, the first of those that count came later than the first since the last pause:
 * with the oldest part of the window in which there is one, at the earliest. */
static void move_first(struct ind_alert_entry *entry, struct ind_clocks now)
{
    struct ind_alert_window *window = &entry->window;
    struct ind_alert *alert = &entry->alert;
    int64_t oldest = window->turn - IND_ALERT_PARTS + 1;
    while (oldest < window->turn && *ind_alert_window_part(window, oldest) == 0)
        oldest++;
    const ind_time begun = now.wall - (now.steady.ns - oldest * ind_alert_part(entry->watch->rule.span));
    if (alert->first < begun)
        alert->first = begun < alert->last ? begun : alert->last;
}

/* Those in the window that is empty now are no cause any more. */
static void hear_more(struct ind_alerts *alerts, struct ind_alert_entry *entry,
                      const struct ind_alert_cause *cause, struct ind_clocks now)
{
    const struct ind_alert_rule *rule = &entry->watch->rule;
    struct ind_alert *alert = &entry->alert;
    ind_alert_window_turn(&entry->window, rule->span, now.steady);
    if (entry->window.sum == 0 && alert->state == IND_ALERT_WATCHED && !ind_steady_is_set(entry->over)) {
        alert->count = 0;
        alert->first = alert->last = IND_TIME_NONE;
        ind_alert_entry_drop_lines(alerts, entry);
    }
    ind_alert_window_add(&entry->window, cause->count);
    count(alerts, entry, cause, now);
    if (alert->state != IND_ALERT_WATCHED || entry->window.sum <= rule->number)
        return;
    if (!ind_steady_is_set(entry->over)) {
        alert->count = entry->window.sum;
        move_first(entry, now);
    }
    ind_alert_open_or_join(alerts, entry, cause, now);
}

/* A message that was waited for. */
static void hear_awaited(struct ind_alerts *alerts, struct ind_alert_entry *entry,
                         const struct ind_alert_cause *cause, struct ind_clocks now)
{
    const struct ind_alert_rule *rule = &entry->watch->rule;
    struct ind_alert *alert = &entry->alert;
    ind_alert_window_turn(&entry->window, rule->span, now.steady);
    ind_alert_window_add(&entry->window, cause->count);
    alert->count = entry->window.sum;
    alert->last = cause->last;
    if (alert->first == IND_TIME_NONE)
        alert->first = cause->time;
    entry->heard = now.steady;
    entry->changed = true;
    entry->silenced = false;
    if (cause->line.length) { /* the last one says most of who is silent now */
        ind_alert_entry_drop_lines(alerts, entry);
        ind_alert_entry_add_line(alerts, entry, cause->line);
    }
    const bool enough = rule->kind == IND_ALERT_NOTHING || entry->window.sum >= rule->number;
    if (alert->state != IND_ALERT_WATCHED && rule->over == IND_OVER_HEARD && enough)
        ind_alert_end(alerts, entry, now);
}

static void end_by_message(struct ind_alerts *alerts, struct ind_watch *watch,
                           const struct ind_alert_cause *cause, struct ind_clocks now)
{
    struct ind_alert_entry *entry = ind_alert_entry_find(watch, cause->key);
    const bool may_end = watch->rule.over == IND_OVER_WHEN ||
                         (watch->rule.kind == IND_ALERT_UNUSUAL && watch->rule.over == IND_OVER_HEARD);
    if (!entry || entry->alert.state == IND_ALERT_WATCHED || !may_end)
        return;
    if (cause->line.length)
        ind_alert_entry_add_line(alerts, entry, cause->line);
    ind_alert_end(alerts, entry, now);
}

void ind_alerts_hear(struct ind_alerts *alerts, const struct ind_alert_cause *cause, struct ind_clocks now)
{
    struct ind_watch *watch = ind_watch_find(alerts, cause->alert);
    if (!watch)
        return; /* a reload has taken it away meanwhile */
    if (cause->ends) {
        end_by_message(alerts, watch, cause, now);
        return;
    }
    ind_alerts_make_room(alerts);
    struct ind_alert_entry *entry = ind_alert_entry_for(alerts, watch, cause->key, now);
    if (!entry)
        return;
    refresh(alerts, entry);
    ind_alert_end_joining(alerts, entry, now.steady);
    if (ind_watch_waits(watch)) {
        hear_awaited(alerts, entry, cause, now);
    } else if (watch->rule.kind == IND_ALERT_MORE) {
        hear_more(alerts, entry, cause, now);
    } else {
        count(alerts, entry, cause, now);
        if (entry->alert.state == IND_ALERT_WATCHED)
            ind_alert_open_or_join(alerts, entry, cause, now);
    }
}

/* ---- People ---- */

static void acknowledge(struct ind_alerts *alerts, struct ind_alert_entry *entry, const char *who,
                        const char *note, struct ind_clocks now)
{
    struct ind_alert *alert = &entry->alert;
    const struct ind_slice name =
        ind_slice_begin(ind_slice_of(who && *who ? who : "somebody"), sizeof alert->who - 1);
    memcpy(alert->who, name.at, name.length);
    alert->who[name.length] = '\0';
    free(alert->note);
    alert->note = ind_alert_text(ind_slice_begin(ind_slice_of(note ? note : ""), IND_ALERT_NOTE));
    alert->acknowledged = now.wall;
    entry->changed = true;
    if (entry->watch->rule.over == IND_OVER_ACKNOWLEDGED || entry->others)
        ind_alert_end(alerts, entry, now);
    else
        ind_alert_entry_move(alerts, entry, IND_ALERT_ACKNOWLEDGED);
}

size_t ind_alerts_acknowledge(struct ind_alerts *alerts, const char *alert, const char *key, const char *who,
                              const char *note, struct ind_clocks now)
{
    struct ind_watch *watch = ind_watch_find(alerts, ind_slice_of(alert));
    struct ind_alert_entry *entry = watch ? watch->open : NULL, *next;
    size_t count = 0;
    /* One that stays goes to the end of the list: each is looked at once. */
    for (size_t left = watch ? watch->open_count : 0; left > 0 && entry; left--, entry = next) {
        next = entry->next;
        if (entry->alert.state != IND_ALERT_IS_OPEN || (key && strcmp(key, entry->key) != 0))
            continue;
        acknowledge(alerts, entry, who, note, now);
        count++;
    }
    return count;
}
