/* Who is told what, and when. */
#include "collect/alert/desk_private.h"

#include "config/zones.h"

#include <stdio.h>
#include <stdlib.h>

#define TELL_AGAIN (60 * IND_SECOND)

/* ---- Ways ---- */

static struct ind_way *way_of(struct ind_desk *desk, const char *id)
{
    for (size_t i = 0; i < desk->way_count; i++)
        if (strcmp(desk->ways[i]->id, id) == 0)
            return desk->ways[i];
    return NULL;
}

static void id_of(const struct ind_tell *tell, char id[IND_PROGRAM_BYTES])
{
    struct ind_buffer text = ind_buffer_on(id, IND_PROGRAM_BYTES - 1);
    ind_way_id(tell, &text);
    id[text.length] = '\0';
}

static void want(struct ind_desk *desk, const struct ind_tell *tell, const struct ind_mail *mail)
{
    char id[IND_PROGRAM_BYTES];
    id_of(tell, id);
    struct ind_way *way = way_of(desk, id);
    if (!way && desk->way_count < IND_DESK_WAYS && (way = ind_way_new(tell, id, mail->at_most))) {
        way->zone = tell->zone ? ind_zone_named(tell->zone) : NULL;
        desk->ways[desk->way_count++] = way;
    }
    if (way)
        way->wanted = true;
    else
        ind_report(desk->settings.reporter, IND_OWN_ALERTS_FAILED, NULL,
                   "more than %d ways to tell: nothing is told by the last of them", IND_DESK_WAYS);
}

/* "mail noc@skerry.example", in `room`. */
static const char *shown(const struct ind_way *way, char room[120])
{
    struct ind_buffer text = ind_buffer_on(room, 119);
    ind_way_show(way, &text);
    room[text.length] = '\0';
    return room;
}

static void forget_way(struct ind_desk *desk, size_t place)
{
    struct ind_way *way = desk->ways[place];
    char name[120];
    if (way->count + way->left_out > 0)
        ind_report(desk->settings.reporter, IND_OWN_ALERTS_FAILED, NULL,
                   "%s: no alert is told there any more: %llu that waited are given up", shown(way, name),
                   (unsigned long long)(way->count + way->left_out));
    const struct ind_desk_op op = {.kind = IND_OP_TOLD, .way = strdup(way->id), .notice = {.id = way->upto}};
    if (op.way && way->upto)
        ind_desk_ops_add(&desk->ops, op);
    else
        free(op.way);
    ind_courier_free(desk->couriers[place]);
    ind_way_free(way);
    desk->way_count--;
    desk->ways[place] = desk->ways[desk->way_count];
    desk->couriers[place] = desk->couriers[desk->way_count];
    desk->couriers[desk->way_count] = NULL;
}

void ind_desk_make_ways(struct ind_desk *desk, bool mail_changed)
{
    const struct ind_desk_rules *rules = desk->rules;
    for (size_t i = 0; i < desk->way_count; i++)
        desk->ways[i]->wanted = false;
    for (size_t i = 0; i < rules->count; i++)
        for (size_t k = 0; k < rules->list[i].tell_count; k++)
            want(desk, &rules->list[i].tells[k], &rules->mail);
    for (size_t i = desk->way_count; i-- > 0;) {
        if (!desk->ways[i]->wanted) {
            forget_way(desk, i);
        } else if (mail_changed && desk->ways[i]->tell.kind == IND_TELL_MAIL) {
            ind_courier_free(desk->couriers[i]);
            desk->couriers[i] = NULL;
            desk->ways[i]->under_way = false;
        }
    }
}

void ind_desk_end_ways(struct ind_desk *desk)
{
    for (size_t i = 0; i < desk->way_count; i++) {
        ind_courier_free(desk->couriers[i]);
        ind_way_free(desk->ways[i]);
    }
    desk->way_count = 0;
    for (size_t i = 0; i < desk->held_count; i++)
        ind_news_let_go(desk->held[i].news);
    desk->held_count = 0;
}

/* ---- News ---- */

static struct ind_notice notice_of(struct ind_desk *desk, const struct ind_news *news, bool held)
{
    return (struct ind_notice){.id = desk->next_notice++,
                               .alert = news->alert.number,
                               .event = news->item.event,
                               .held = held,
                               .at = news->item.at};
}

static void save_notice(struct ind_desk *desk, const char *way, const struct ind_notice *notice)
{
    const struct ind_desk_op op = {.kind = IND_OP_NOTICE, .way = strdup(way), .notice = *notice};
    if (op.way)
        ind_desk_ops_add(&desk->ops, op);
}

static void give_to_ways(struct ind_desk *desk, struct ind_news *news, bool held)
{
    const struct ind_desk_rule *rule = ind_desk_rule_find(desk->rules, news->item.name);
    for (size_t i = 0; rule && i < rule->tell_count; i++) {
        char id[IND_PROGRAM_BYTES];
        id_of(&rule->tells[i], id);
        struct ind_way *way = way_of(desk, id);
        if (!way)
            continue;
        const struct ind_notice notice = notice_of(desk, news, held);
        if (news->alert.number) /* a test is told now or never */
            save_notice(desk, id, &notice);
        ind_way_add(way, news, notice.id, held);
    }
}

static bool is_muted(const struct ind_desk *desk, const char *name, const char *key, ind_time now)
{
    for (size_t i = 0; i < desk->mute_count; i++) {
        const struct ind_desk_mute *mute = &desk->mutes[i];
        if (mute->until > now && strcmp(mute->name, name) == 0 && (!mute->key || strcmp(mute->key, key) == 0))
            return true;
    }
    return false;
}

static bool is_silent(struct ind_desk *desk, const struct ind_news *news, ind_time now)
{
    struct ind_desk_rule *rule = ind_desk_rule_find(desk->rules, news->item.name);
    ind_mutex_lock(&desk->mutex);
    const bool muted = is_muted(desk, news->item.name, news->alert.key, now);
    ind_mutex_unlock(&desk->mutex);
    return muted || (rule && ind_desk_rule_is_silent(rule, now));
}

/* Of one alert only the last counts: how it stands when it is told. */
static void hold_back(struct ind_desk *desk, struct ind_news *news)
{
    size_t at = 0;
    while (at < desk->held_count && desk->held[at].news->alert.number != news->alert.number)
        at++;
    if (at == IND_DESK_HELD)
        return; /* the list of alerts has it all the same */
    if (at < desk->held_count) {
        const struct ind_desk_op op = {.kind = IND_OP_DROP, .notice = {.id = desk->held[at].id}};
        ind_desk_ops_add(&desk->ops, op);
        ind_news_let_go(desk->held[at].news);
    } else {
        desk->held_count++;
    }
    if (news->item.event == IND_ALERT_REMINDER)
        news->item.event = IND_ALERT_OPENED;
    const struct ind_notice notice = notice_of(desk, news, true);
    save_notice(desk, "", &notice);
    desk->held[at] = (struct ind_desk_held){ind_news_hold(news), notice.id};
}

void ind_desk_tell(struct ind_desk *desk, struct ind_news *news, struct ind_clocks now)
{
    if (news->alert.number && is_silent(desk, news, now.wall))
        hold_back(desk, news);
    else
        give_to_ways(desk, news, false);
}

void ind_desk_release(struct ind_desk *desk, struct ind_clocks now)
{
    size_t kept = 0;
    for (size_t i = 0; i < desk->held_count; i++) {
        const struct ind_desk_held held = desk->held[i];
        if (is_silent(desk, held.news, now.wall)) {
            desk->held[kept++] = held;
            continue;
        }
        give_to_ways(desk, held.news, true);
        const struct ind_desk_op op = {.kind = IND_OP_DROP, .notice = {.id = held.id}};
        ind_desk_ops_add(&desk->ops, op);
        ind_news_let_go(held.news);
    }
    desk->held_count = kept;
}

void ind_desk_take_notice(struct ind_desk *desk, const char *way, const struct ind_notice *notice,
                          struct ind_news *news)
{
    struct ind_way *known = way_of(desk, way);
    if (way[0] == '\0' && desk->held_count < IND_DESK_HELD) {
        desk->held[desk->held_count++] = (struct ind_desk_held){ind_news_hold(news), notice->id};
        return;
    }
    if (known) {
        ind_way_add(known, news, notice->id, notice->held);
        return;
    }
    const struct ind_desk_op op = {.kind = IND_OP_DROP,
                                   .notice = *notice}; /* nobody is told there any more */
    ind_desk_ops_add(&desk->ops, op);
}

/* ---- Sending ---- */

static void note_end(struct ind_desk *desk, struct ind_way *way, bool delivered, const char *reason,
                     struct ind_clocks now)
{
    uint64_t upto;
    char why[200], name[120];
    /* What stands on a terminal an hour later helps nobody: it is tried once. */
    const bool once = way->tell.kind == IND_TELL_TERMINALS;
    snprintf(why, sizeof why, "%s", reason);
    ind_way_end(way, delivered || once, why, now.steady, &upto);
    if (!delivered && once) {
        snprintf(way->reason, sizeof way->reason, "%s", why);
        way->failed_count++;
    }
    const struct ind_desk_op op = {.kind = IND_OP_TOLD, .way = strdup(way->id), .notice = {.id = upto}};
    if (upto && op.way)
        ind_desk_ops_add(&desk->ops, op);
    else
        free(op.way);
    if (!delivered && !ind_steady_reported_lately(&way->told, now.steady, TELL_AGAIN)) {
        way->told_failed = !once;
        ind_report(desk->settings.reporter, IND_OWN_ALERTS_FAILED,
                   IND_WITH({"way", ind_slice_of(shown(way, name))}), "alerts cannot be told by %s: %s%s",
                   shown(way, name), why, once ? "" : "; it is tried again, after growing pauses");
    } else if (delivered && way->told_failed) {
        way->told_failed = false;
        ind_report(desk->settings.reporter, IND_OWN_ALERTS_WORK,
                   IND_WITH({"way", ind_slice_of(shown(way, name))}), "alerts are told by %s again",
                   shown(way, name));
    }
}

static void file_message(struct ind_desk *desk, const struct ind_way *way)
{
    static const enum ind_own kinds[] = {IND_OWN_ALERT_OPENED, IND_OWN_ALERT_OPENED, IND_OWN_ALERT_REMINDER,
                                         IND_OWN_ALERT_OVER};
    for (size_t i = 0; i < way->going; i++) {
        const struct ind_news *news = way->list[i].news;
        char line[600], number[24], count[24];
        struct ind_buffer text = ind_buffer_on(line, sizeof line - 1);
        ind_letter_line(&news->item, &text);
        line[text.length] = '\0';
        snprintf(number, sizeof number, "%llu", (unsigned long long)news->alert.number);
        snprintf(count, sizeof count, "%llu", (unsigned long long)news->alert.count);
        ind_report(desk->settings.reporter, kinds[news->item.event],
                   IND_WITH({"alert", ind_slice_of(news->item.name)}, {"key", ind_slice_of(news->alert.key)},
                            {"number", ind_slice_of(number)}, {"messages", ind_slice_of(count)}),
                   "the alert %s", line);
    }
}

static struct ind_courier *courier_of(struct ind_desk *desk, size_t place)
{
    if (!desk->couriers[place]) {
        const struct ind_courier_settings settings = {.host = desk->settings.host,
                                                      .mail = &desk->rules->mail,
                                                      .programs = desk->programs,
                                                      .ended = ind_desk_ring,
                                                      .context = desk};
        desk->couriers[place] = ind_courier_new(&settings);
    }
    return desk->couriers[place];
}

static void send_next(struct ind_desk *desk, size_t place, struct ind_clocks now)
{
    struct ind_way *way = desk->ways[place];
    uint64_t left_out;
    while (ind_way_begin(way, now.steady, &left_out)) {
        if (way->tell.kind == IND_TELL_MESSAGE) {
            file_message(desk, way);
            note_end(desk, way, true, "", now);
            continue;
        }
        struct ind_courier *courier = courier_of(desk, place);
        if (!courier) {
            note_end(desk, way, false, "cannot start a thread", now);
            return;
        }
        const struct ind_parcel parcel = ind_desk_parcel(desk, way, left_out, now);
        ind_courier_send(courier, &parcel);
        return;
    }
}

void ind_desk_send(struct ind_desk *desk, bool begin, struct ind_clocks now)
{
    for (size_t i = 0; i < desk->way_count; i++) {
        char reason[200];
        bool delivered;
        if (desk->couriers[i] && desk->ways[i]->under_way &&
            ind_courier_has_ended(desk->couriers[i], &delivered, reason, sizeof reason))
            note_end(desk, desk->ways[i], delivered, reason, now);
        if (begin)
            send_next(desk, i, now);
    }
}
