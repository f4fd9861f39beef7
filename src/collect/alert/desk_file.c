/* What outlives a restart: written as it happens, and taken up again. */
#include "collect/alert/desk_private.h"

#include <stdio.h>
#include <stdlib.h>

#define TRY_AGAIN (2 * IND_SECOND)
#define TELL_AGAIN (60 * IND_SECOND)
#define KEPT (400 * (int64_t)IND_DAY_SECONDS * IND_SECOND)
#define COUNT_EVERY (2 * IND_SECOND)
enum { KEPT_MOST = 100000, COUNTED_AT_ONCE = 5000 };

/* ---- What is to be written ---- */

static bool write_op(struct ind_alert_file *file, const struct ind_desk_op *op)
{
    struct ind_alert_rule rule = {0};
    struct ind_alert alert;
    if (op->news) {
        rule.name = op->news->item.name;
        rule.by_text = op->way;
        alert = op->news->alert;
        alert.rule = &rule;
    }
    switch (op->kind) {
    case IND_OP_SAVE:
        return !op->news || ind_alert_file_save(file, &alert);
    case IND_OP_WATCH:
        return !op->news || ind_alert_file_watch(file, &alert);
    case IND_OP_COUNT:
        return !op->news || !op->counted || ind_alert_file_count(file, &alert, op->counted, op->until);
    case IND_OP_NOTICE:
        return ind_alert_file_add_notice(file, op->way, &op->notice);
    case IND_OP_TOLD:
        return ind_alert_file_told(file, op->way, op->notice.id);
    case IND_OP_DROP:
        return ind_alert_file_drop_notice(file, op->notice.id);
    case IND_OP_MUTE:
        return ind_alert_file_mute(file, op->news->item.name, op->way, op->until, op->who);
    }
    return true;
}

/* ---- The file ---- */

static void tell_failed(struct ind_desk *desk, struct ind_clocks now)
{
    if (ind_steady_reported_lately(&desk->file_told, now.steady, TELL_AGAIN))
        return;
    desk->told_file_failed = true;
    ind_report(desk->settings.reporter, IND_OWN_ALERTS_FAILED, NULL,
               "alerts cannot be saved: %s; they are told all the same, and it is tried again",
               desk->file_reason);
}

static void open_file(struct ind_desk *desk)
{
    char reason[300];
    const char *state = desk->settings.state;
    enum ind_alert_file_status status = ind_alert_file_open(state, false, &desk->file, reason, sizeof reason);
    if (status == IND_ALERT_FILE_DAMAGED && ind_alert_file_set_aside(state)) {
        ind_report(desk->settings.reporter, IND_OWN_ALERTS_FAILED, NULL,
                   "%s; it is kept as %s/" IND_ALERT_FILE_NAME ".damaged, and alerts begin anew", reason,
                   state);
        status = ind_alert_file_open(state, false, &desk->file, reason, sizeof reason);
    }
    snprintf(desk->file_reason, sizeof desk->file_reason, "%s", status == IND_ALERT_FILE_GOOD ? "" : reason);
}

static bool write_all(struct ind_desk *desk)
{
    struct ind_alert_file *file = desk->file;
    if (!ind_alert_file_begin(file))
        return false;
    bool good = true;
    for (size_t i = 0; good && i < desk->ops.count; i++)
        good = write_op(file, &desk->ops.list[i]);
    return ind_alert_file_end(file, good);
}

static void prune(struct ind_desk *desk, struct ind_clocks now)
{
    if (ind_steady_lately(desk->pruned, now.steady, 3600 * IND_SECOND))
        return;
    desk->pruned = now.steady;
    (void)ind_alert_file_prune(desk->file, now.wall - KEPT, KEPT_MOST);
    (void)ind_alert_file_prune_counted(desk->file, now.wall);
}

bool ind_desk_write(struct ind_desk *desk, struct ind_clocks now)
{
    if (desk->ops.count == 0 && desk->file && !desk->file_reason[0])
        return true;
    if (desk->file_reason[0] && ind_steady_lately(desk->file_tried, now.steady, TRY_AGAIN))
        return false;
    desk->file_tried = now.steady;
    if (!desk->file)
        open_file(desk);
    if (!desk->file || !write_all(desk)) {
        if (desk->file) {
            snprintf(desk->file_reason, sizeof desk->file_reason, "%s", ind_alert_file_reason(desk->file));
            ind_alert_file_close(desk->file); /* it may have been replaced, or be damaged */
            desk->file = NULL;
        }
        tell_failed(desk, now);
        return false;
    }
    desk->file_reason[0] = '\0';
    if (desk->told_file_failed)
        ind_report(desk->settings.reporter, IND_OWN_ALERTS_WORK, NULL, "alerts are saved again");
    desk->told_file_failed = false;
    ind_desk_ops_free(&desk->ops);
    prune(desk, now);
    return true;
}

/* ---- What has been counted ---- */

struct counting {
    struct ind_desk *desk;
    struct ind_clocks now;
};

static void count_one(void *context, const struct ind_alert *alert, const struct ind_alert_counted *counted)
{
    const struct counting *counting = context;
    struct ind_desk_op op = {
        .kind = IND_OP_COUNT,
        .news = ind_news_new(IND_ALERT_OPENED, alert, alert->rule->name, NULL, NULL, IND_TIME_NONE),
        .way = alert->rule->by_text ? strdup(alert->rule->by_text) : NULL,
        .counted = malloc(sizeof *counted),
        .until = counting->now.wall + alert->rule->span};
    if (op.counted)
        *op.counted = *counted;
    ind_desk_ops_add(&counting->desk->ops, op);
}

static size_t visit_counted(struct ind_desk *desk, struct ind_clocks now)
{
    struct counting counting = {desk, now};
    ind_mutex_lock(&desk->mutex);
    const size_t count = ind_alerts_visit_counted(desk->alerts, COUNTED_AT_ONCE, count_one, &counting, now);
    ind_mutex_unlock(&desk->mutex);
    return count;
}

IND_NOT_SHARED void ind_desk_save_counted(struct ind_desk *desk, bool all, struct ind_clocks now)
{
    if (!all && ind_steady_lately(desk->counted_saved, now.steady, COUNT_EVERY))
        return;
    if (desk->ops.count > IND_DESK_OPS / 2) /* the disk is full, or gone */
        return;
    desk->counted_saved = now.steady;
    size_t count = visit_counted(desk, now);
    while (all && count == COUNTED_AT_ONCE && ind_desk_write(desk, now))
        count = visit_counted(desk, now);
}

/* ---- Taking up ---- */

struct taking {
    struct ind_desk *desk;
    struct ind_clocks now;
    struct ind_news *news; /* the last row */
};

/* One whose rule is gone is over. */
static void take_alert(void *context, const struct ind_saved_alert *saved)
{
    struct taking *taking = context;
    struct ind_desk *desk = taking->desk;
    if (ind_alerts_restore(desk->alerts, ind_slice_of(saved->name), &saved->alert, taking->now))
        return;
    struct ind_alert over = saved->alert;
    over.ended = taking->now.wall;
    const struct ind_desk_op op = {
        .kind = IND_OP_SAVE,
        .news = ind_news_new(IND_ALERT_OVER, &over, saved->name, NULL, NULL, taking->now.wall)};
    ind_desk_ops_add(&desk->ops, op);
}

static void take_watched(void *context, const struct ind_saved_alert *saved)
{
    const struct taking *taking = context;
    ind_alerts_watch(taking->desk->alerts, ind_slice_of(saved->name), ind_slice_of(saved->alert.key),
                     saved->alert.last, taking->now);
}

static void take_counted(void *context, const struct ind_saved_alert *saved, const char *by,
                         const struct ind_alert_counted *counted)
{
    const struct taking *taking = context;
    (void)ind_alerts_restore_counted(taking->desk->alerts, ind_slice_of(saved->name), by, &saved->alert,
                                     counted, taking->now);
}

static void take_row(void *context, const struct ind_saved_alert *saved)
{
    struct taking *taking = context;
    const struct ind_desk_rule *rule = ind_desk_rule_find(taking->desk->rules, saved->name);
    taking->news = ind_news_new(IND_ALERT_OPENED, &saved->alert, saved->name, rule ? rule->reason : NULL,
                                rule ? rule->when : NULL, taking->now.wall);
}

static void take_notice(void *context, const char *way, const struct ind_notice *notice)
{
    struct taking *taking = context;
    taking->news = NULL;
    if (!ind_alert_file_one(taking->desk->file, notice->alert, take_row, taking) || !taking->news)
        return;
    taking->news->item.event = notice->event;
    taking->news->item.at = notice->at;
    ind_desk_take_notice(taking->desk, way, notice, taking->news);
    ind_news_let_go(taking->news);
}

static void take_mute(void *context, const char *name, const char *key, ind_time until, const char *who)
{
    struct ind_desk *desk = ((struct taking *)context)->desk;
    (void)who;
    if (desk->mute_count == IND_DESK_MUTES)
        return;
    struct ind_desk_mute *mute = &desk->mutes[desk->mute_count];
    *mute = (struct ind_desk_mute){strdup(name), key ? strdup(key) : NULL, until};
    desk->mute_count += mute->name != NULL;
}

IND_NOT_SHARED void ind_desk_take_up(struct ind_desk *desk, struct ind_clocks now)
{
    struct taking taking = {.desk = desk, .now = now};
    if (!desk->file)
        return;
    if (!ind_alert_file_mutes(desk->file, now.wall, take_mute, &taking) ||
        !ind_alert_file_list(desk->file, false, NULL, NULL, UINT64_MAX, take_alert, &taking) ||
        !ind_alert_file_watched(desk->file, take_watched, &taking) ||
        !ind_alert_file_counted(desk->file, now.wall, take_counted, &taking) ||
        !ind_alert_file_notices(desk->file, take_notice, &taking))
        ind_report(desk->settings.reporter, IND_OWN_ALERTS_FAILED, NULL,
                   "not all that was saved of alerts can be read: %s", ind_alert_file_reason(desk->file));
}
