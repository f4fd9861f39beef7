#include "collect/alert/desk_private.h"

#include "config/zones.h"

#include <stdlib.h>

static char *copy_of(const char *text, bool *whole)
{
    char *copy = text ? strdup(text) : NULL;
    *whole &= !text || copy;
    return copy;
}

static void free_text(const char *text)
{
    free((void *)(uintptr_t)text);
}

/* ---- Tells ---- */

/* Whoever is told nowhere is told by a message. */
static bool copy_tells(struct ind_desk_rule *rule, const struct ind_alert_rule *from)
{
    static const struct ind_tell message = {.kind = IND_TELL_MESSAGE};
    const struct ind_tell *tells = from->tell_count ? from->tells : &message;
    bool whole = true;
    const size_t count = from->tell_count ? from->tell_count : 1;
    rule->tells = calloc(count, sizeof *rule->tells);
    for (size_t i = 0; rule->tells && i < count; i++) {
        rule->tells[i] = (struct ind_tell){.kind = tells[i].kind,
                                           .to = copy_of(tells[i].to, &whole),
                                           .zone = copy_of(tells[i].zone, &whole)};
        if (tells[i].program)
            whole &= (rule->tells[i].program = ind_program_copy(tells[i].program)) != NULL;
        rule->tell_count++;
    }
    return rule->tells && whole;
}

static void free_tell(struct ind_tell *tell)
{
    free_text(tell->to);
    free_text(tell->zone);
    ind_program_free((char **)(uintptr_t)tell->program);
}

/* ---- Rules ---- */

static void free_rule(struct ind_desk_rule *rule)
{
    for (size_t i = 0; i < rule->tell_count; i++)
        free_tell(&rule->tells[i]);
    free(rule->tells);
    if (rule->set)
        ind_answers_free(&rule->answers);
    ind_conditions_free(rule->set);
    free(rule->name);
    free(rule->reason);
    free(rule->when);
}

/* It has a set of its own, which outlives the configuration. */
static bool make_not_during(struct ind_desk_rule *rule, const struct ind_config *config, const char *text)
{
    struct ind_mistake mistake = {0};
    if (!text)
        return true;
    const bool good =
        ind_config_condition(config, ind_slice_of(text), &rule->set, &rule->not_during, &mistake);
    if (rule->set)
        return ind_answers_begin(&rule->answers, rule->set) && good;
    return false;
}

static bool make_rule(struct ind_desk_rule *rule, const struct ind_config *config,
                      const struct ind_alert_rule *from)
{
    char text[2000];
    struct ind_buffer reason = ind_buffer_on(text, sizeof text - 1);
    bool whole = true;
    ind_alert_describe(from, &reason);
    text[reason.length] = '\0';
    rule->name = copy_of(from->name, &whole);
    rule->reason = copy_of(text, &whole);
    rule->when = copy_of(from->when_text ? from->when_text : "", &whole);
    rule->unusual = from->kind == IND_ALERT_UNUSUAL;
    rule->by_device = from->by != NULL;
    return copy_tells(rule, from) && make_not_during(rule, config, from->not_during) && whole;
}

static int by_name(const void *a, const void *b)
{
    return strcmp(((const struct ind_desk_rule *)a)->name, ((const struct ind_desk_rule *)b)->name);
}

static bool copy_mail(struct ind_desk_rules *rules, const struct ind_mail *mail)
{
    bool whole = true;
    rules->mail = *mail;
    rules->mail.server = copy_of(mail->server, &whole);
    rules->mail.from = copy_of(mail->from, &whole);
    rules->mail.login = copy_of(mail->login, &whole);
    rules->mail.trust = copy_of(mail->trust, &whole);
    if (rules->mail.at_most == 0)
        rules->mail.at_most = IND_MAILS_AN_HOUR;
    return whole;
}

struct ind_desk_rules *ind_desk_rules_new(const struct ind_config *config)
{
    struct ind_desk_rules *rules = calloc(1, sizeof *rules);
    if (!rules)
        return NULL;
    rules->list = calloc(config->alerts.count + 1, sizeof *rules->list);
    bool whole = copy_mail(rules, &config->mail) && rules->list;
    for (size_t i = 0; whole && i < config->alerts.count; i++) {
        rules->count++;
        whole = make_rule(&rules->list[i], config, &config->alerts.list[i]);
    }
    rules->zone = config->zone_text ? ind_zone_named(config->zone_text) : ind_zone_of_machine();
    rules->zone_text = copy_of(config->zone_text ? config->zone_text : "this machine", &whole);
    if (!whole) {
        ind_desk_rules_free(rules);
        return NULL;
    }
    qsort(rules->list, rules->count, sizeof *rules->list, by_name);
    return rules;
}

void ind_desk_rules_free(struct ind_desk_rules *rules)
{
    if (!rules)
        return;
    for (size_t i = 0; i < rules->count; i++)
        free_rule(&rules->list[i]);
    free(rules->list);
    free_text(rules->mail.server);
    free_text(rules->mail.from);
    free_text(rules->mail.login);
    free_text(rules->mail.trust);
    ind_zone_free(rules->zone);
    free(rules->zone_text);
    free(rules);
}

struct ind_desk_rule *ind_desk_rule_find(const struct ind_desk_rules *rules, const char *name)
{
    struct ind_desk_rule key = {.name = (char *)(uintptr_t)name};
    return rules && rules->count ? bsearch(&key, rules->list, rules->count, sizeof *rules->list, by_name)
                                 : NULL;
}

bool ind_desk_rule_is_silent(struct ind_desk_rule *rule, ind_time now)
{
    const struct ind_message message = {.facility = IND_FACILITY_USER,
                                        .severity = IND_SEVERITY_NOTICE,
                                        .time = now,
                                        .sent = IND_TIME_NONE,
                                        .received = now};
    if (!rule->set)
        return false;
    ind_answers_next(&rule->answers);
    return ind_condition_holds(rule->set, rule->not_during, &message, &rule->answers);
}
