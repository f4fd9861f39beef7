#include "collect/relay/relays.h"

#include "thread/mutex.h"
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define PATIENCE (5 * IND_SECOND)

/* One that was, or is, in the configuration. */
struct entry {
    struct entry *next;
    struct ind_relay *relay;
    bool wanted; /* by the present configuration */
};

struct ind_relays {
    struct ind_relays_settings settings;
    struct ind_relay **of_route; /* NULL: another's, or none could be made */
    bool *to_relay;
    size_t route_count;
    struct ind_steady stuck; /* since when nothing had room, for those who wait */

    struct ind_mutex mutex;
    struct entry *list IND_GUARDED_BY(mutex); /* changed by the thread that adopts only */
};

struct ind_relays *ind_relays_new(const struct ind_relays_settings *settings)
{
    struct ind_relays *relays = calloc(1, sizeof *relays);
    if (!relays)
        return NULL;
    relays->settings = *settings;
    ind_mutex_begin(&relays->mutex);
    return relays;
}

void ind_relays_end(struct ind_relays *relays, bool patient)
{
    ind_mutex_lock(&relays->mutex);
    for (struct entry *entry = relays->list; entry; entry = entry->next)
        ind_relay_end(entry->relay, patient);
    ind_mutex_unlock(&relays->mutex);
}

bool ind_relays_have_ended(struct ind_relays *relays)
{
    bool ended = true;
    ind_mutex_lock(&relays->mutex);
    for (const struct entry *entry = relays->list; entry; entry = entry->next)
        ended &= ind_relay_has_ended(entry->relay);
    ind_mutex_unlock(&relays->mutex);
    return ended;
}

IND_NOT_SHARED void ind_relays_free(struct ind_relays *relays)
{
    if (!relays)
        return;
    ind_relays_end(relays, false);
    while (relays->list) {
        struct entry *next = relays->list->next;
        ind_relay_free(relays->list->relay);
        free(relays->list);
        relays->list = next;
    }
    ind_mutex_end(&relays->mutex);
    free(relays->of_route);
    free(relays->to_relay);
    free(relays);
}

static struct entry *entry_named(struct ind_relays *relays, const char *name) IND_REQUIRES(relays->mutex)
{
    for (struct entry *entry = relays->list; entry; entry = entry->next)
        if (strcmp(ind_relay_rule(entry->relay)->name, name) == 0)
            return entry;
    return NULL;
}

/* The relay of a rule: the one there is, or a new one that takes over from it. */
static struct ind_relay *relay_for(struct ind_relays *relays, const struct ind_config *config,
                                   const struct ind_relay_rule *rule) IND_REQUIRES(relays->mutex)
{
    struct entry *entry = entry_named(relays, rule->name);
    if (entry && entry->wanted)
        return entry->relay;
    if (entry && ind_relay_rules_equal(ind_relay_rule(entry->relay), rule) &&
        !ind_relay_is_ending(entry->relay)) {
        entry->wanted = true;
        return entry->relay;
    }
    struct entry *made = entry ? NULL : calloc(1, sizeof *made);
    const struct ind_relay_settings settings = {.rule = rule,
                                                .state = config->state,
                                                .reporter = relays->settings.reporter,
                                                .hold = relays->settings.hold,
                                                .before = entry ? entry->relay : NULL};
    if (!entry && !made)
        return NULL;
    if (entry)
        ind_relay_end(entry->relay, false);
    struct ind_relay *relay = ind_relay_new(&settings);
    if (!relay) {
        free(made);
        return NULL;
    }
    if (made) {
        made->next = relays->list;
        relays->list = entry = made;
    }
    entry->relay = relay;
    entry->wanted = true;
    return relay;
}

bool ind_relays_adopt(struct ind_relays *relays, const struct ind_config *config)
{
    bool good = true;
    free(relays->of_route);
    free(relays->to_relay);
    relays->of_route = calloc(config->route_count + 1, sizeof *relays->of_route);
    relays->to_relay = calloc(config->route_count + 1, sizeof *relays->to_relay);
    relays->route_count = relays->of_route && relays->to_relay ? config->route_count : 0;
    ind_mutex_lock(&relays->mutex);
    for (struct entry *entry = relays->list; entry; entry = entry->next)
        entry->wanted = false;
    /* Also those that no route names: what waits for them is passed on. */
    for (size_t i = 0; i < config->relay_count; i++)
        good &= relay_for(relays, config, &config->relays[i]) != NULL;
    for (size_t i = 0; i < relays->route_count; i++) {
        if (config->routes[i].to != IND_TO_RELAY)
            continue;
        relays->to_relay[i] = true;
        const struct entry *entry = entry_named(relays, config->routes[i].relay);
        relays->of_route[i] = entry && entry->wanted ? entry->relay : NULL;
    }
    for (struct entry *entry = relays->list; entry; entry = entry->next)
        if (!entry->wanted)
            ind_relay_end(entry->relay, false);
    ind_mutex_unlock(&relays->mutex);
    return good && relays->route_count == config->route_count;
}

bool ind_relays_have(const struct ind_relays *relays, uint32_t route)
{
    return relays && route < relays->route_count && relays->to_relay[route];
}

void ind_relays_lose(struct ind_relays *relays, uint32_t owner)
{
    relays->settings.settle(relays->settings.context, owner, false);
}

bool ind_relays_add(struct ind_relays *relays, uint32_t route, struct ind_slice message, ind_time time,
                    uint32_t owner, struct ind_steady now)
{
    struct ind_relay *relay = relays->of_route[route];
    bool hold = relays->settings.hold;
    if (hold && ind_steady_is_set(relays->stuck) && ind_steady_from(relays->stuck, now) > PATIENCE)
        hold = false;
    if (relay && ind_relay_rule(relay)->form == IND_PASS_ON_JSON && message.length)
        message.length--; /* the end of the line: records have none */
    const enum ind_relay_took took =
        relay ? ind_relay_add(relay, message, time, now, hold) : IND_RELAY_LOOPED;
    if (took == IND_RELAY_HAS_NO_ROOM && hold) {
        if (!ind_steady_is_set(relays->stuck))
            relays->stuck = now;
        return false;
    }
    if (took == IND_RELAY_TOOK)
        relays->stuck = IND_STEADY_NEVER;
    relays->settings.settle(relays->settings.context, owner, took == IND_RELAY_TOOK);
    return true;
}

/* One that is wanted no more has ended. */
static void sweep(struct ind_relays *relays)
{
    ind_mutex_lock(&relays->mutex);
    for (struct entry **place = &relays->list; *place;) {
        struct entry *entry = *place;
        if (entry->wanted || !ind_relay_has_ended(entry->relay)) {
            place = &entry->next;
            continue;
        }
        *place = entry->next;
        ind_relay_free(entry->relay);
        free(entry);
    }
    ind_mutex_unlock(&relays->mutex);
}

/* The list is changed by this thread only. */
IND_NOT_SHARED void ind_relays_run(struct ind_relays *relays)
{
    bool unwanted = false;
    for (const struct entry *entry = relays->list; entry; entry = entry->next) {
        ind_relay_wake(entry->relay);
        unwanted |= !entry->wanted;
    }
    if (unwanted)
        sweep(relays);
}

size_t ind_relays_count(struct ind_relays *relays, struct ind_named_relay_count **counts)
{
    size_t count = 0;
    ind_mutex_lock(&relays->mutex);
    for (const struct entry *entry = relays->list; entry; entry = entry->next)
        count++;
    *counts = count ? calloc(count, sizeof **counts) : NULL;
    size_t at = count;
    for (const struct entry *entry = relays->list; entry && *counts; entry = entry->next) {
        struct ind_named_relay_count *one = &(*counts)[--at]; /* they were put in front */
        const struct ind_relay_rule *rule = ind_relay_rule(entry->relay);
        snprintf(one->name, sizeof one->name, "%s", rule->name);
        for (unsigned i = 0; i < rule->target_count; i++)
            snprintf(one->targets[i], sizeof one->targets[i], "%s", rule->targets[i].text);
        one->share = rule->share;
        one->space = rule->space;
        ind_relay_read_counts(entry->relay, &one->count);
    }
    ind_mutex_unlock(&relays->mutex);
    return *counts ? count : 0;
}
