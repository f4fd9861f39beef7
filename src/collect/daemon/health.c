#include "collect/daemon/health.h"

#include "collect/daemon/collector_private.h"
#include "core/message/names.h"
#include <stdio.h>
#include <string.h>

#define HANGS_AFTER (IND_SECOND * 3 / 4) /* with the time between two looks: within a second */
enum { TELL_SECONDS = 5, FEEDINGS = 3 /* in the time that the watchdog allows */ };

/* ---- The disk ---- */

void ind_health_trouble(const struct ind_collector *collector, char text[IND_HEALTH_TROUBLE])
{
    const struct ind_health *health = &collector->health;
    int error = atomic_load(&collector->writer.facts.disk_error);
    text[0] = '\0';
    if (health->hangs)
        snprintf(text, IND_HEALTH_TROUBLE, "the disk has not answered for %lld s: messages wait in memory",
                 (long long)(ind_steady_from(health->hangs_since, ind_steady_now()) / IND_SECOND));
    else if (error)
        snprintf(text, IND_HEALTH_TROUBLE, "the disk takes nothing (%s): messages wait in memory",
                 strerror(error));
}

/* A write that does not come back stops the writer, which can tell nobody itself. */
static void look_at_writer(struct ind_collector *collector, struct ind_steady now)
{
    struct ind_health *health = &collector->health;
    int64_t age = ind_pulse_age(&collector->writer.pulse, now);
    bool hangs = age >= HANGS_AFTER && !ind_is_written(&collector->lifecycle);
    if (hangs == health->hangs)
        return;
    health->hangs = hangs;
    if (hangs) {
        health->hangs_since = ind_steady_after(now, -age);
        ind_report(&collector->reporter, IND_OWN_DISK_SILENT, NULL,
                   "the disk has not answered for a second: messages wait in memory until it does");
    } else {
        ind_report(&collector->reporter, IND_OWN_DISK_ANSWERS, NULL, "the disk answers again after %.1f s",
                   (double)ind_steady_from(health->hangs_since, now) / (double)IND_SECOND);
    }
}

/* ---- The service manager ---- */

/* Whoever hears from us for so long as everyone works: a thread that hangs is seen. */
static bool all_live(const struct ind_collector *collector, struct ind_steady now, int64_t most)
{
    bool live = ind_pulse_age(&collector->writer.pulse, now) < most;
    if (collector->door)
        live &= ind_pulse_age(ind_door_pulse(collector->door), now) < most;
    for (unsigned i = 0; i < collector->intakes && collector->receivers.list[i]; i++)
        live &= ind_pulse_age(ind_receiver_pulse(collector->receivers.list[i]), now) < most;
    return live;
}

static void feed_watchdog(struct ind_collector *collector, struct ind_steady now)
{
    struct ind_health *health = &collector->health;
    const struct ind_service_manager *manager = collector->settings->manager;
    int64_t span = ind_service_manager_watchdog(manager);
    if (!span || ind_steady_lately(health->fed, now, span / FEEDINGS) || !all_live(collector, now, span))
        return;
    ind_service_manager_tell(manager, "WATCHDOG=1");
    health->fed = now;
}

static void tell_how_it_is(struct ind_collector *collector, struct ind_steady now)
{
    struct ind_health *health = &collector->health;
    char trouble[IND_HEALTH_TROUBLE];
    uint64_t received = 0;
    if (!collector->settings->manager || ind_steady_lately(health->told, now, TELL_SECONDS * IND_SECOND))
        return;
    for (unsigned i = 0; i < collector->intakes && collector->receivers.list[i]; i++)
        received += ind_receiver_received(collector->receivers.list[i]);
    double seconds = ind_steady_is_set(health->told)
                         ? (double)ind_steady_from(health->told, now) / (double)IND_SECOND
                         : TELL_SECONDS;
    ind_health_trouble(collector, trouble);
    ind_service_manager_tell(collector->settings->manager, "STATUS=%.0f messages/s; %s",
                             (double)(received - health->received) / seconds,
                             trouble[0] ? trouble : "all is well");
    health->received = received;
    health->told = now;
}

void ind_health_look(struct ind_collector *collector)
{
    const struct ind_steady now = ind_steady_now();
    look_at_writer(collector, now);
    feed_watchdog(collector, now);
    tell_how_it_is(collector, now);
}
