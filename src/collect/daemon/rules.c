/* A configuration made ready to be used: everything that can fail is done here, before any of it counts. */
#include "collect/daemon/collector_private.h"

#include "collect/intake/file_source.h"
#include "core/message/names.h"
#include "net/socket.h"
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

/* To the rules as an internal message; of messages from files at the time that they have come to. */
static void report_edit(void *context, const struct ind_edit_report *report)
{
    struct ind_collector *collector = context;
    if (collector->file_source)
        ind_file_source_report(collector->file_source, report);
    else
        ind_report_edit(&collector->reporter, report);
}

static bool make_intakes(struct ind_collector *collector, struct ind_rules *rules)
{
    if (rules->config->edits.remember && !collector->states)
        collector->states = ind_edit_states_new(report_edit, collector);
    if (rules->config->edits.remember && !collector->states)
        return false;
    for (unsigned i = 0; i < collector->intakes; i++) {
        rules->receivers[i] = (struct ind_receiver_rules){
            .intake = ind_intake_new(rules->config, collector->accounts[i], collector->states),
            .listeners = &rules->listeners,
            .marker = {.kind = IND_MARKER_RULES, .config = rules->config}};
        if (!rules->receivers[i].intake)
            return false;
        ind_intake_remember(rules->receivers[i].intake, collector->notes[i]);
        ind_intake_alert(rules->receivers[i].intake, collector->causes[i]);
    }
    ind_collector_divide_intakes(collector, rules);
    return true;
}

static bool make_plan(struct ind_collector *collector, struct ind_rules *rules, char *reason, size_t room)
{
    if (!collector->store)
        return true;
    rules->plan = ind_plan_new(ind_store_disk(collector->store), rules->config, reason, room);
    for (unsigned i = 0; i < collector->intakes; i++)
        rules->receivers[i].marker.plan = rules->plan;
    return rules->plan != NULL;
}

/* A socket, unless the one that is open serves on. */
static bool prepare_to_serve(struct ind_collector *collector, struct ind_rules *rules, char *reason,
                             size_t room)
{
    const struct ind_serve *serve = &rules->config->serve;
    rules->serves_as_before =
        collector->rules && ind_are_same_texts(serve->text, collector->rules->config->serve.text);
    if (rules->serves_as_before || !serve->address)
        return true;
    rules->serve = ind_server_listen(serve, reason, room);
    return rules->serve >= 0;
}

void ind_rules_serve(struct ind_collector *collector, struct ind_rules *rules)
{
    unsigned port = rules->serve >= 0 ? ind_socket_port(rules->serve) : 0;
    const char *address = rules->config->serve.address;
    bool good = ind_control_serve(collector->control, rules->serve);
    rules->serve = -1;
    if (!good)
        ind_report(&collector->reporter, IND_OWN_OUT_OF_MEMORY, NULL,
                   "out of memory: nothing is served over HTTP");
    else if (port)
        ind_report(&collector->reporter, IND_OWN_LISTENING, NULL,
                   strchr(address, ':') ? "serving at http://[%s]:%u/" : "serving at http://%s:%u/", address,
                   port);
}

static bool prepare(struct ind_collector *collector, struct ind_rules *rules, struct ind_listener **fresh,
                    char *reason, size_t room)
{
    bool files = ind_is_from_files(collector);
    rules->listeners.config = rules->config;
    if (!files && rules->config->listener_count == 0) {
        snprintf(reason, room,
                 "the configuration has no listen: to receive from; add one such as \"- udp: 0.0.0.0:514\", "
                 "or give --from FILE");
        return false;
    }
    if (!files &&
        !ind_listener_set_open(&collector->listeners, rules->config, &rules->listeners, fresh, reason, room))
        return false;
    if (!files && !prepare_to_serve(collector, rules, reason, room))
        return false;
    if (!make_intakes(collector, rules)) {
        snprintf(reason, room, "out of memory");
        return false;
    }
    return make_plan(collector, rules, reason, room);
}

struct ind_rules *ind_rules_prepare(struct ind_collector *collector, struct ind_loaded *loaded,
                                    const struct ind_config *config, char *reason, size_t room)
{
    struct ind_rules *rules = calloc(1, sizeof *rules);
    struct ind_listener *fresh = NULL;
    if (!rules) {
        snprintf(reason, room, "out of memory");
        return NULL;
    }
    rules->config = config;
    rules->serve = -1;
    if (!prepare(collector, rules, &fresh, reason, room)) {
        ind_listeners_discard(fresh);
        ind_rules_free(rules);
        return NULL;
    }
    /* From here on nothing fails. */
    if (loaded) {
        rules->loaded = *loaded;
        *loaded = (struct ind_loaded){0};
    }
    ind_listeners_add(&collector->listeners, fresh);
    return rules;
}

void ind_rules_free(struct ind_rules *rules)
{
    if (!rules)
        return;
    for (unsigned i = 0; i < IND_MOST_INTAKES; i++)
        ind_intake_free(rules->receivers[i].intake);
    ind_plan_free(rules->plan);
    ind_listener_set_end(&rules->listeners);
    if (rules->serve >= 0)
        close(rules->serve);
    ind_loaded_free(&rules->loaded);
    free(rules);
}
