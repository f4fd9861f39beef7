/* A reload in steps, none of which waits: rules are prepared (which may fail, and touches nothing that runs);
 * they are handed to the receivers; when all of them and the writer have adopted them they are in force;
 * housekeeping adopts them, and the old ones are freed. */
#include "collect/daemon/collector_private.h"

#include "collect/runtime/clock.h"
#include "core/message/names.h"
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { CONFLICT = 409, DONE = 200, MOST_DIAGNOSTICS = 10 };

/* New, to be freed; NULL where memory is out. */
static char *mistakes_text(const struct ind_diagnostics *diagnostics)
{
    char *text = NULL;
    size_t size = 0;
    FILE *memory = open_memstream(&text, &size);
    if (!memory)
        return NULL;
    for (size_t i = 0; i < diagnostics->count; i++)
        if (!diagnostics->list[i].warning)
            ind_diagnostic_print(&diagnostics->list[i], memory);
    fclose(memory);
    return text;
}

static void report_mistakes(struct ind_reporter *reporter, const struct ind_diagnostics *diagnostics)
{
    size_t reported = 0;
    for (size_t i = 0; i < diagnostics->count && reported < MOST_DIAGNOSTICS; i++) {
        const struct ind_diagnostic *diagnostic = &diagnostics->list[i];
        if (diagnostic->warning)
            continue;
        reported++;
        if (diagnostic->source)
            ind_report(reporter, IND_OWN_RELOAD_REFUSED, NULL, "reload: %s:%zu:%zu: %s",
                       diagnostic->source->path, diagnostic->line, diagnostic->column, diagnostic->text);
        else
            ind_report(reporter, IND_OWN_RELOAD_REFUSED, NULL, "reload: %s", diagnostic->text);
    }
}

static bool are_same_groups(const struct ind_config *now, const struct ind_config *then)
{
    bool same = now->group_count == then->group_count;
    for (size_t i = 0; same && i < now->group_count; i++)
        same = strcmp(now->groups[i], then->groups[i]) == 0;
    return same;
}

/* What cannot change while we run. NULL: nothing of it does. */
static const char *needs_restart(const struct ind_config *now, const struct ind_config *then)
{
    return strcmp(now->store, then->store) != 0         ? "store"
           : strcmp(now->state, then->state) != 0       ? "state"
           : !ind_are_same_texts(now->user, then->user) ? "user"
           : !are_same_groups(now, then)                ? "group"
           : now->threads != then->threads              ? "threads"
           : now->open_files != then->open_files        ? "open files"
           : now->burst_buffer != then->burst_buffer    ? "burst buffer"
                                                        : NULL;
}

static void refuse(struct ind_collector *collector, const char *reason)
{
    char text[1600];
    ind_report(&collector->reporter, IND_OWN_RELOAD_REFUSED, NULL, "reload: %s; the rules stay as they were",
               reason);
    snprintf(text, sizeof text, "%s\n", reason);
    ind_service_manager_tell(collector->settings->manager, "READY=1");
    ind_control_give_reload(collector->control, CONFLICT, text);
}

static void refuse_mistakes(struct ind_collector *collector, const struct ind_diagnostics *diagnostics)
{
    char *text = mistakes_text(diagnostics);
    report_mistakes(&collector->reporter, diagnostics);
    ind_report(&collector->reporter, IND_OWN_RELOAD_REFUSED, NULL, "reload: the rules stay as they were");
    ind_service_manager_tell(collector->settings->manager, "READY=1");
    ind_control_give_reload(collector->control, CONFLICT, text ? text : "out of memory\n");
    free(text);
}

/* NULL where it could not be done, which has been reported and answered. */
static struct ind_rules *prepare(struct ind_collector *collector)
{
    char reason[1400];
    struct ind_loaded loaded;
    struct ind_rules *rules = NULL;
    const ind_time read = ind_now();
    ind_config_load(collector->settings->config_path, &loaded);
    const char *changed = loaded.config ? needs_restart(collector->rules->config, loaded.config) : NULL;
    if (!loaded.config) {
        refuse_mistakes(collector, &loaded.diagnostics);
    } else if (changed) {
        snprintf(reason, sizeof reason, "\"%s\" has changed: this needs a restart", changed);
        refuse(collector, reason);
    } else {
        rules = ind_rules_prepare(collector, &loaded, loaded.config, reason, sizeof reason);
        if (!rules)
            refuse(collector, reason);
        else
            collector->rules_since = read;
    }
    ind_loaded_free(&loaded);
    return rules;
}

/* From here on nothing can fail. */
void ind_reload_commit(struct ind_collector *collector, struct ind_rules *rules, bool quietly)
{
    const struct ind_listener_set *set = &rules->listeners;
    collector->reload.before = collector->rules;
    collector->reload.in_force = false;
    collector->reload.quietly = quietly;
    collector->rules = rules;
    collector->ends_told = IND_STEADY_NEVER;
    for (size_t i = 0; i < set->count; i++)
        ind_listener_set_settings(set->list[i], &rules->config->listeners[set->item_of[i]]);
    atomic_store(&collector->receivers.behind, collector->intakes + 1); /* the door is one, too */
    ind_collector_await_writers(collector);
    atomic_store(&collector->housekeeping.behind, true);
    ind_engine_begin(collector, rules->config);
    for (unsigned i = 0; i < collector->intakes; i++)
        ind_receiver_order_rules(collector->receivers.list[i], &rules->receivers[i]);
    ind_door_order_listeners(collector->door, set);
    ind_control_adopt(collector->control, rules->config);
    (void)ind_alerts_follow(collector);
    ind_reports_follow(collector);
    if (!rules->serves_as_before)
        ind_rules_serve(collector, rules);
}

void ind_reload_begin(struct ind_collector *collector)
{
    if (collector->reload.before) {
        collector->reload.again = true;
        return;
    }
    ind_service_manager_tell(collector->settings->manager, "RELOADING=1\nMONOTONIC_USEC=%lld",
                             (long long)(ind_steady_now().ns / 1000));
    struct ind_rules *rules = prepare(collector);
    if (rules)
        ind_reload_commit(collector, rules, false);
}

/* Receivers and writer have adopted the new rules. */
static void come_into_force(struct ind_collector *collector)
{
    char text[160];
    const struct ind_config *config = collector->rules->config;
    collector->reload.in_force = true;
    if (!ind_is_stopping(&collector->lifecycle)) /* see may_adopt in collect/input/receiver.c */
        ind_listeners_close_others(&collector->listeners, &collector->rules->listeners);
    atomic_store(&collector->housekeeping.adopt, collector->rules->plan);
    if (collector->reload.quietly)
        return;
    ind_tell_doubts(&collector->reporter, &collector->rules->loaded.diagnostics);
    ind_report(&collector->reporter, IND_OWN_RELOADED, NULL, "reloaded: the new rules are in force");
    snprintf(text, sizeof text, "{\"listeners\":%zu,\"devices\":%zu,\"routes\":%zu}\n",
             config->listener_count, ind_devices_count(config->devices), config->route_count);
    ind_service_manager_tell(collector->settings->manager, "READY=1");
    ind_control_give_reload(collector->control, DONE, text);
}

void ind_reload_look(struct ind_collector *collector)
{
    struct ind_reload *reload = &collector->reload;
    if (!reload->before)
        return;
    if (!reload->in_force && atomic_load(&collector->receivers.behind) == 0 &&
        !ind_collector_writers_are_behind(collector))
        come_into_force(collector);
    if (!reload->in_force || atomic_load(&collector->housekeeping.behind))
        return;
    ind_rules_free(reload->before);
    reload->before = NULL;
    if (ind_control_next_reload(collector->control) || reload->again) {
        reload->again = false;
        ind_reload_begin(collector);
    }
}
