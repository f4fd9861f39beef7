/* collect/daemon/pause.c: listeners that somebody has paused: /health says so at once, so that whoever passes
 * messages on looks elsewhere; then, after a span, they are closed as a reload would that no longer names
 * them, and what stands in their sockets is filed. A pause outlives reloads; a restart ends it. */
#include "collect/daemon/collector_private.h"

#include "core/base/escape.h"
#include "core/message/names.h"
#include <stdio.h>
#include <string.h>

enum { DONE = 200, NOT_FOUND = 404, CONFLICT = 409, RETRY_SECONDS = 10 };

/* "udp 0.0.0.0:514", its "udp", or its "0.0.0.0:514". */
static bool is_meant(const char *listener, const char *name)
{
    if (!name)
        return false;
    const char *space = strchr(listener, ' ');
    size_t kind = space ? (size_t)(space - listener) : strlen(listener);
    return strcmp(listener, name) == 0 || (space && strcmp(space + 1, name) == 0) ||
           (strlen(name) == kind && strncmp(listener, name, kind) == 0);
}

static bool is_configured(const struct ind_collector *collector, uint16_t number)
{
    const struct ind_config *config = collector->rules->config;
    for (size_t i = 0; i < config->listener_count; i++)
        if (strcmp(config->listeners[i].text, collector->listeners.names[number]) == 0)
            return true;
    return false;
}

static bool is_asked_for(const struct ind_collector *collector, uint16_t number, const char *const *names,
                         size_t count)
{
    bool asked = count == 0;
    for (size_t i = 0; i < count; i++)
        asked |= is_meant(collector->listeners.names[number], names[i]);
    return asked && is_configured(collector, number);
}

/* The first of the names that is no listener's; NULL: each is. */
static const char *unknown_name(const struct ind_collector *collector, const char *const *names, size_t count)
{
    for (size_t i = 0; i < count; i++) {
        bool known = false;
        for (uint16_t n = 0; n < collector->listeners.name_count; n++)
            known |= is_configured(collector, n) && is_meant(collector->listeners.names[n], names[i]);
        if (!known)
            return names[i];
    }
    return NULL;
}

/* {"listeners":["udp 0.0.0.0:514"]}: those that are paused now. */
static void tell_paused(const struct ind_collector *collector, char *text, size_t room)
{
    struct ind_buffer out = ind_buffer_on(text, room - 1);
    bool any = false;
    ind_buffer_text(&out, "{\"paused\":[");
    for (uint16_t i = 0; i < collector->listeners.name_count; i++) {
        if (!collector->paused[i])
            continue;
        ind_buffer_text(&out, any ? ",\"" : "\"");
        (void)ind_escape_json(&out, ind_slice_of(collector->listeners.names[i]), false, false);
        ind_buffer_byte(&out, '"');
        any = true;
    }
    ind_buffer_text(&out, "]}\n");
    text[out.length] = '\0';
}

int ind_pause(struct ind_collector *collector, const char *const *names, size_t count, int64_t after,
              char *text, size_t room)
{
    const char *unknown = unknown_name(collector, names, count);
    if (unknown) {
        snprintf(text, room, "\"%s\" is no listener here; \"indagator status\" lists them\n", unknown);
        return NOT_FOUND;
    }
    for (uint16_t i = 0; i < collector->listeners.name_count; i++) {
        if (collector->paused[i] || !is_asked_for(collector, i, names, count))
            continue;
        collector->paused[i] = true;
        collector->pause_due[i] = ind_steady_after(ind_steady_now(), after);
        ind_report(&collector->reporter, IND_OWN_LISTENER_PAUSED,
                   IND_WITH({"listener", ind_slice_of(collector->listeners.names[i])}),
                   "%s is paused: it closes in %.1f s, and what stands in its sockets is filed",
                   collector->listeners.names[i], (double)after / (double)IND_SECOND);
    }
    tell_paused(collector, text, room);
    return DONE;
}

/* The rules as they are, but for the listeners that are closed. False with `reason` filled in. */
static bool apply(struct ind_collector *collector, char *reason, size_t room)
{
    struct ind_loaded *loaded = collector->rules->loaded.config ? &collector->rules->loaded : NULL;
    struct ind_rules *rules = ind_rules_prepare(collector, loaded, collector->rules->config, reason, room);
    if (rules)
        ind_reload_commit(collector, rules, true);
    return rules != NULL;
}

/* Tells what was taken up again, or puts the pause back where that could not be done. */
static void settle_resumed(struct ind_collector *collector, const bool before[IND_LISTENER_NAMES], bool good)
{
    for (uint16_t i = 0; i < collector->listeners.name_count; i++) {
        if (!before[i] || collector->paused[i])
            continue;
        if (good)
            ind_report(&collector->reporter, IND_OWN_LISTENER_RESUMED,
                       IND_WITH({"listener", ind_slice_of(collector->listeners.names[i])}),
                       "%s is taken up again", collector->listeners.names[i]);
        collector->paused[i] = !good;
    }
}

static bool is_to_be_closed(const struct ind_collector *collector, uint16_t number, struct ind_steady now)
{
    return collector->paused[number] && ind_steady_from(collector->pause_due[number], now) >= 0;
}

/* Opens and closes what differs from what is asked for. False with `reason` filled in: all is as before. */
static bool bring_about(struct ind_collector *collector, char *reason, size_t room)
{
    const struct ind_steady now = ind_steady_now();
    bool before[IND_LISTENER_NAMES], changed = false;
    memcpy(before, collector->listeners.closed, sizeof before);
    for (uint16_t i = 0; i < collector->listeners.name_count; i++) {
        collector->listeners.closed[i] = is_to_be_closed(collector, i, now);
        changed |= collector->listeners.closed[i] != before[i];
    }
    if (!changed || apply(collector, reason, room))
        return true;
    memcpy(collector->listeners.closed, before, sizeof before);
    return false;
}

int ind_resume(struct ind_collector *collector, const char *const *names, size_t count, char *text,
               size_t room)
{
    bool before[IND_LISTENER_NAMES];
    const char *unknown = unknown_name(collector, names, count);
    if (unknown) {
        snprintf(text, room, "\"%s\" is no listener here; \"indagator status\" lists them\n", unknown);
        return NOT_FOUND;
    }
    memcpy(before, collector->paused, sizeof before);
    for (uint16_t i = 0; i < collector->listeners.name_count; i++)
        if (collector->paused[i] && (count == 0 || is_asked_for(collector, i, names, count)))
            collector->paused[i] = false;
    /* Where a reload is under way it is brought about when that is through. */
    if (!collector->reload.before && !bring_about(collector, text, room - 1)) {
        settle_resumed(collector, before, false);
        size_t length = strlen(text);
        snprintf(text + length, room - length, "\n");
        return CONFLICT;
    }
    settle_resumed(collector, before, true);
    tell_paused(collector, text, room);
    return DONE;
}

void ind_pause_look(struct ind_collector *collector)
{
    char reason[400];
    const struct ind_steady now = ind_steady_now();
    if (collector->reload.before || ind_is_stopping(&collector->lifecycle) ||
        ind_steady_lately(collector->pause_again, now, RETRY_SECONDS * IND_SECOND))
        return;
    if (bring_about(collector, reason, sizeof reason))
        return;
    ind_report(&collector->reporter, IND_OWN_CONTROL_FAILED, NULL, "pause, resume: %s; it is tried again",
               reason);
    collector->pause_again = now;
}
