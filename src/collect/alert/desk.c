#include "collect/alert/desk_private.h"

#include "collect/intake/alerting.h"

#include <signal.h>
#include <stdio.h>
#include <stdlib.h>

#define SAVE_EVERY (2 * IND_SECOND)
#define SAVE_WATCHED_EVERY (60 * IND_SECOND)
#define TELL_AGAIN (60 * IND_SECOND)
enum { MEMORY = 64 << 20 };

/* ---- What happens to alerts ---- */

/* With the mutex. */
static void happened(void *context, enum ind_alert_event event, const struct ind_alert *alert,
                     struct ind_clocks now)
{
    struct ind_desk *desk = context;
    const struct ind_desk_rules *rules = desk->next_rules ? desk->next_rules : desk->rules;
    const struct ind_desk_rule *rule = ind_desk_rule_find(rules, alert->rule->name);
    if (desk->event_count == desk->event_room && desk->event_room < IND_DESK_OPS) {
        const size_t room = desk->event_room ? 2 * desk->event_room : 64;
        struct ind_news **grown = realloc(desk->events, room * sizeof(struct ind_news *));
        desk->events = grown ? grown : desk->events;
        desk->event_room = grown ? room : desk->event_room;
    }
    struct ind_news *news = ind_news_new(event, alert, alert->rule->name, rule ? rule->reason : NULL,
                                         rule ? rule->when : NULL, now.wall);
    if (news && desk->event_count < desk->event_room)
        desk->events[desk->event_count++] = news;
    else
        ind_news_let_go(news);
}

struct hearing {
    struct ind_desk *desk;
    struct ind_clocks now;
};

static void hear(void *context, const struct ind_alert_cause *cause)
{
    const struct hearing *hearing = context;
    ind_alerts_hear(hearing->desk->alerts, cause, hearing->now);
}

static void save_as(struct ind_desk *desk, enum ind_desk_op_kind kind, const struct ind_alert *alert)
{
    const struct ind_desk_op op = {
        .kind = kind,
        .news = ind_news_new(IND_ALERT_OPENED, alert, alert->rule->name, NULL, NULL, IND_TIME_NONE)};
    ind_desk_ops_add(&desk->ops, op);
}

static void save_changed(void *context, const struct ind_alert *alert)
{
    save_as(context, IND_OP_SAVE, alert);
}

static void save_watched(void *context, const struct ind_alert *alert)
{
    save_as(context, IND_OP_WATCH, alert);
}

/* What changes all the time is written once in a while. With the mutex. */
static void save(struct ind_desk *desk, bool all, struct ind_clocks now)
{
    if (all || desk->save_now || !ind_steady_lately(desk->saved, now.steady, SAVE_EVERY)) {
        desk->saved = now.steady;
        desk->save_now = false;
        ind_alerts_visit(desk->alerts, true, save_changed, desk);
    }
    if (all || !ind_steady_lately(desk->watched_saved, now.steady, SAVE_WATCHED_EVERY)) {
        desk->watched_saved = now.steady;
        ind_alerts_visit_watched(desk->alerts, true, save_watched, desk);
    }
}

static void take_asked(struct ind_desk *desk)
{
    for (size_t i = 0; i < desk->asked.count; i++)
        ind_desk_ops_add(&desk->ops, desk->asked.list[i]);
    free(desk->asked.list);
    desk->asked = (struct ind_desk_ops){0};
}

/* True where mails go another way. */
static bool is_other_mail(const struct ind_mail *a, const struct ind_mail *b)
{
    const char *const one[] = {a->server, a->from, a->login, a->trust};
    const char *const other[] = {b->server, b->from, b->login, b->trust};
    for (int i = 0; i < 4; i++)
        if (!one[i] != !other[i] || (one[i] && strcmp(one[i], other[i]) != 0))
            return true;
    return a->tls_at_once != b->tls_at_once || a->plain != b->plain;
}

/* What has come since the last round; the news are the caller's. */
static struct ind_news **take(struct ind_desk *desk, bool all, struct ind_clocks now, size_t *count)
{
    struct hearing hearing = {desk, now};
    struct ind_desk_rules *before = NULL;
    bool mail_changed = false;
    ind_mutex_lock(&desk->mutex);
    if (desk->next_rules) {
        before = desk->rules;
        mail_changed = before && is_other_mail(&before->mail, &desk->next_rules->mail);
        desk->rules = desk->next_rules;
        desk->next_rules = NULL;
    }
    for (unsigned i = 0; i < desk->settings.cause_count; i++)
        if (desk->settings.causes[i])
            desk->missed += ind_causes_take(desk->settings.causes[i], hear, &hearing);
    ind_alerts_tick(desk->alerts, now);
    save(desk, all, now);
    take_asked(desk);
    struct ind_news **news = desk->events;
    *count = desk->event_count;
    desk->events = NULL;
    desk->event_count = desk->event_room = 0;
    ind_mutex_unlock(&desk->mutex);
    if (before)
        ind_desk_make_ways(desk, mail_changed);
    ind_desk_rules_free(before);
    return news;
}

/* ---- A round ---- */

static void tell_missed(struct ind_desk *desk, struct ind_clocks now)
{
    const uint64_t missed = desk->missed - desk->missed_at_last;
    if (missed == 0 || ind_steady_reported_lately(&desk->missed_told, now.steady, TELL_AGAIN))
        return;
    desk->missed_at_last = desk->missed;
    ind_report(desk->settings.reporter, IND_OWN_ALERTS_MISSED, NULL,
               "%llu messages that concern alerts came faster than they could be noted: alerts count too few "
               "of them; all are filed",
               (unsigned long long)missed);
}

static void publish(struct ind_desk *desk)
{
    ind_mutex_lock(&desk->mutex);
    struct ind_desk_count *count = &desk->count;
    count->alerts = ind_alerts_counts(desk->alerts);
    count->missed = desk->missed;
    count->held = desk->held_count;
    count->mutes = desk->mute_count;
    count->file_failed = desk->file_reason[0] != '\0';
    snprintf(count->file_reason, sizeof count->file_reason, "%.190s", desk->file_reason);
    count->way_count = desk->way_count;
    for (size_t i = 0; i < desk->way_count; i++) {
        const struct ind_way *way = desk->ways[i];
        struct ind_desk_way *one = &count->ways[i];
        *one = (struct ind_desk_way){.waiting = way->count + way->left_out,
                                     .delivered = way->delivered,
                                     .failed = way->failed_count,
                                     .failing = way->reason[0] != '\0'};
        struct ind_buffer shown = ind_buffer_on(one->id, sizeof one->id - 1);
        ind_way_show(way, &shown);
        one->id[shown.length] = '\0';
        snprintf(one->reason, sizeof one->reason, "%s", way->reason);
    }
    ind_mutex_unlock(&desk->mutex);
}

/* It is saved before it is told: whoever is killed between tells it at the next start. */
static void go_round(struct ind_desk *desk, bool all)
{
    const struct ind_clocks now = ind_clock_read(desk->settings.clock);
    size_t count;
    if (!all)
        ind_desk_look_at_volumes(desk, now);
    struct ind_news **news = take(desk, all, now, &count);
    for (size_t i = 0; i < count; i++) {
        if (news[i]->alert.number) {
            const struct ind_desk_op op = {.kind = IND_OP_SAVE, .news = ind_news_hold(news[i])};
            ind_desk_ops_add(&desk->ops, op);
        }
        ind_desk_tell(desk, news[i], now);
        ind_news_let_go(news[i]);
    }
    free(news);
    ind_desk_save_counted(desk, all, now);
    ind_desk_release(desk, now);
    (void)ind_desk_write(desk, now);
    ind_desk_send(desk, !all, now);
    (void)ind_desk_write(desk, now);
    tell_missed(desk, now);
    publish(desk);
}

static void *run(void *context)
{
    struct ind_desk *desk = context;
    while (!atomic_load(&desk->stop)) {
        go_round(desk, false);
        ind_desk_rest(desk);
    }
    return NULL;
}

/* ---- Beginning and end ---- */

IND_NOT_SHARED struct ind_desk *ind_desk_new(const struct ind_desk_settings *settings)
{
    struct ind_desk *desk = calloc(1, sizeof *desk);
    if (!desk)
        return NULL;
    desk->settings = *settings;
    desk->begun = ind_clock_read(settings->clock).wall;
    ind_mutex_begin(&desk->mutex);
    ind_mutex_begin(&desk->resting);
    ind_condition_variable_begin(&desk->bell);
    desk->programs = ind_programs_new(settings->spawner);
    if (desk->programs)
        return desk;
    ind_desk_free(desk);
    return NULL;
}

static void wake_by_causes(struct ind_desk *desk, void (*how)(void *context))
{
    for (unsigned i = 0; i < desk->settings.cause_count; i++)
        if (desk->settings.causes[i])
            ind_causes_wake(desk->settings.causes[i], how, desk);
}

IND_NOT_SHARED void ind_desk_free(struct ind_desk *desk)
{
    if (!desk)
        return;
    atomic_store(&desk->stop, true);
    if (desk->running) {
        wake_by_causes(desk, NULL);
        ind_desk_ring(desk);
        pthread_join(desk->thread, NULL);
        go_round(desk, true);
    }
    ind_desk_end_ways(desk);
    ind_desk_ops_free(&desk->ops);
    ind_desk_ops_free(&desk->asked);
    for (size_t i = 0; i < desk->event_count; i++)
        ind_news_let_go(desk->events[i]);
    free(desk->events);
    for (size_t i = 0; i < desk->mute_count; i++) {
        free(desk->mutes[i].name);
        free(desk->mutes[i].key);
    }
    ind_alerts_free(desk->alerts);
    ind_desk_rules_free(desk->rules);
    ind_desk_rules_free(desk->next_rules);
    ind_alert_file_close(desk->file);
    ind_programs_free(desk->programs);
    ind_condition_variable_end(&desk->bell);
    ind_mutex_end(&desk->resting);
    ind_mutex_end(&desk->mutex);
    free(desk);
}

bool ind_desk_start(struct ind_desk *desk)
{
    sigset_t all, before; /* signals are for the control thread alone */
    sigfillset(&all);
    pthread_sigmask(SIG_BLOCK, &all, &before);
    desk->running = pthread_create(&desk->thread, NULL, run, desk) == 0;
    pthread_sigmask(SIG_SETMASK, &before, NULL);
    if (desk->running)
        wake_by_causes(desk, ind_desk_ring);
    return desk->running;
}

/* ---- Rules ---- */

struct watching {
    struct ind_desk *desk;
    struct ind_clocks now;
};

static void watch(void *context, struct ind_slice alert, struct ind_slice key)
{
    const struct watching *watching = context;
    ind_alerts_watch(watching->desk->alerts, alert, key, IND_TIME_NONE, watching->now);
}

/* Those that are configured are waited for, also before they were ever heard. */
static bool watch_configured(struct ind_desk *desk, const struct ind_config *config, struct ind_clocks now)
{
    struct ind_answers answers;
    struct ind_alerting alerting;
    struct watching watching = {desk, now};
    bool good = ind_answers_begin(&answers, config->conditions);
    if (good) {
        good = ind_alerting_begin(&alerting, config, &answers);
        if (good)
            ind_alerting_configured(&alerting, &answers, watch, &watching);
        ind_alerting_end(&alerting);
    }
    ind_answers_free(&answers);
    return good;
}

/* Of the first rules: with what the last run has saved. */
IND_NOT_SHARED static bool take_up(struct ind_desk *desk, const struct ind_config *config,
                                   struct ind_desk_rules *rules, struct ind_clocks now)
{
    desk->rules = rules;
    (void)ind_desk_write(desk, now); /* opens the file */
    const struct ind_alerts_settings settings = {.memory = MEMORY,
                                                 .next_number =
                                                     desk->file ? ind_alert_file_next(desk->file) : 1,
                                                 .happened = happened,
                                                 .context = desk};
    desk->next_notice = desk->file ? ind_alert_file_next_notice(desk->file) : 1;
    desk->alerts = ind_alerts_new(&settings);
    if (!desk->alerts || !ind_alerts_adopt(desk->alerts, config->alerts.list, config->alerts.count, now))
        return false;
    ind_desk_make_ways(desk, false);
    ind_desk_take_up(desk, now);
    desk->taken_up = true;
    return watch_configured(desk, config, now);
}

IND_NOT_SHARED bool ind_desk_adopt(struct ind_desk *desk, const struct ind_config *config)
{
    const struct ind_clocks now = ind_clock_read(desk->settings.clock);
    struct ind_desk_rules *rules = ind_desk_rules_new(config);
    if (!rules)
        return false;
    for (size_t i = 0; i < config->alerts.count && !desk->has_begun_couriers; i++)
        for (size_t k = 0; k < config->alerts.list[i].tell_count && !desk->has_begun_couriers; k++)
            if (config->alerts.list[i].tells[k].kind <= IND_TELL_POST) {
                ind_courier_begin();
                desk->has_begun_couriers = true;
            }
    if (!desk->taken_up)
        return take_up(desk, config, rules, now);
    ind_mutex_lock(&desk->mutex);
    struct ind_desk_rules *unused = desk->next_rules;
    desk->next_rules = rules;
    bool good = ind_alerts_adopt(desk->alerts, config->alerts.list, config->alerts.count, now) &&
                watch_configured(desk, config, now);
    ind_mutex_unlock(&desk->mutex);
    ind_desk_rules_free(unused);
    return good;
}

/* ---- What people ask ---- */

static const struct ind_desk_rule *rule_of(const struct ind_desk *desk, const char *name)
{
    return ind_desk_rule_find(desk->next_rules ? desk->next_rules : desk->rules, name);
}

int64_t ind_desk_acknowledge(struct ind_desk *desk, const char *name, const char *key, const char *who,
                             const char *note)
{
    const struct ind_clocks now = ind_clock_read(desk->settings.clock);
    int64_t count = -1;
    ind_mutex_lock(&desk->mutex);
    if (rule_of(desk, name)) {
        count = (int64_t)ind_alerts_acknowledge(desk->alerts, name, key, who, note, now);
        desk->save_now = true;
    }
    ind_mutex_unlock(&desk->mutex);
    return count;
}

static void set_mute(struct ind_desk *desk, const char *name, const char *key, ind_time until, ind_time now)
{
    size_t at = 0;
    for (size_t i = desk->mute_count; i-- > 0;) /* those that have passed make room */
        if (desk->mutes[i].until < now) {
            free(desk->mutes[i].name);
            free(desk->mutes[i].key);
            desk->mutes[i] = desk->mutes[--desk->mute_count];
        }
    while (at < desk->mute_count &&
           (strcmp(desk->mutes[at].name, name) != 0 || !desk->mutes[at].key != !key ||
            (key && strcmp(desk->mutes[at].key, key) != 0)))
        at++;
    if (at == desk->mute_count) {
        if (at == IND_DESK_MUTES)
            return;
        desk->mutes[at] = (struct ind_desk_mute){strdup(name), key ? strdup(key) : NULL, until};
        if (!desk->mutes[at].name || (key && !desk->mutes[at].key)) {
            free(desk->mutes[at].name);
            return;
        }
        desk->mute_count++;
    }
    desk->mutes[at].until = until;
}

bool ind_desk_mute(struct ind_desk *desk, const char *name, const char *key, ind_time until, const char *who)
{
    const struct ind_alert nothing = {.key = ""};
    ind_mutex_lock(&desk->mutex);
    const bool known = rule_of(desk, name) != NULL;
    if (known) {
        const struct ind_desk_op op = {
            .kind = IND_OP_MUTE,
            .news = ind_news_new(IND_ALERT_OPENED, &nothing, name, NULL, NULL, IND_TIME_NONE),
            .way = key ? strdup(key) : NULL,
            .who = who ? strdup(who) : NULL,
            .until = until};
        set_mute(desk, name, key, until, ind_clock_read(desk->settings.clock).wall);
        if (op.news)
            ind_desk_ops_add(&desk->asked, op);
    }
    ind_mutex_unlock(&desk->mutex);
    return known;
}

bool ind_desk_test(struct ind_desk *desk, const char *name)
{
    const struct ind_clocks now = ind_clock_read(desk->settings.clock);
    ind_mutex_lock(&desk->mutex);
    const bool known = rule_of(desk, name) != NULL;
    if (known) {
        const struct ind_alert_rule rule = {.name = name};
        char line[] = "this is a test: nothing has happened";
        const struct ind_alert alert = {.rule = &rule,
                                        .key = "test",
                                        .opened = now.wall,
                                        .ended = IND_TIME_NONE,
                                        .first = now.wall,
                                        .last = now.wall,
                                        .acknowledged = IND_TIME_NONE,
                                        .lines = {line}};
        happened(desk, IND_ALERT_OPENED, &alert, now);
    }
    ind_mutex_unlock(&desk->mutex);
    return known;
}

void ind_desk_read_count(struct ind_desk *desk, struct ind_desk_count *count)
{
    ind_mutex_lock(&desk->mutex);
    *count = desk->count;
    ind_mutex_unlock(&desk->mutex);
}
