#include "collect/daemon/health.h"

#include "collect/daemon/collector_private.h"
#include "core/message/names.h"
#include <stdio.h>
#include <string.h>

#define HANGS_AFTER (IND_SECOND * 3 / 4) /* with the time between two looks: within a second */
enum { TELL_SECONDS = 5, FEEDINGS = 3 /* in the time that the watchdog allows */ };

/* ---- The disk ---- */

/* What is wrong with the disk of a writer, into `out` behind what is there already. */
static void add_trouble(const struct ind_hang *hang, int error, const char *folder, struct ind_buffer *out)
{
    char text[IND_HEALTH_TROUBLE];
    const char *what = !folder     ? "the disk"
                       : folder[0] ? "the file system at "
                                   : "the store's own file system";
    const char *waits = folder ? "what is for it waits in memory" : "messages wait in memory";
    if (!hang->hangs && !error)
        return;
    if (hang->hangs)
        snprintf(text, sizeof text, "%s%s has not answered for %lld s: %s", what, folder ? folder : "",
                 (long long)(ind_steady_from(hang->since, ind_steady_now()) / IND_SECOND), waits);
    else
        snprintf(text, sizeof text, "%s%s takes nothing (%s): %s", what, folder ? folder : "",
                 strerror(error), waits);
    ind_buffer_text(out, out->length ? "; " : "");
    ind_buffer_text(out, text);
}

void ind_health_trouble(const struct ind_collector *collector, char text[IND_HEALTH_TROUBLE])
{
    const struct ind_health *health = &collector->health;
    struct ind_buffer out = ind_buffer_on(text, IND_HEALTH_TROUBLE - 1);
    if (!collector->lane_writers)
        add_trouble(&health->writer, atomic_load(&collector->writer.facts.disk_error), NULL, &out);
    for (unsigned i = 0; i < collector->lanes.count; i++)
        add_trouble(&health->lanes[i], atomic_load(&collector->lane_writers[i].facts.disk_error),
                    collector->lanes.list[i].folder, &out);
    text[out.length] = '\0';
}

/* A write that does not come back stops the writer, which can tell nobody itself. */
static void look_at_writer(struct ind_collector *collector, const struct ind_writer *writer,
                           struct ind_hang *hang, const char *folder, struct ind_steady now)
{
    int64_t age = ind_pulse_age(&writer->pulse, now);
    bool hangs = age >= HANGS_AFTER && !atomic_load(&writer->ended);
    if (hangs == hang->hangs)
        return;
    hang->hangs = hangs;
    const char *what = !folder     ? "the disk"
                       : folder[0] ? "the file system at "
                                   : "the store's own file system";
    const struct ind_own_data *data = folder && folder[0] ? IND_WITH({"folder", ind_slice_of(folder)}) : NULL;
    if (hangs) {
        hang->since = ind_steady_after(now, -age);
        ind_report(&collector->reporter, IND_OWN_DISK_SILENT, data,
                   "%s%s has not answered for a second: %s in memory until it does", what,
                   folder ? folder : "", folder ? "what is for it waits" : "messages wait");
    } else {
        ind_report(&collector->reporter, IND_OWN_DISK_ANSWERS, data, "%s%s answers again after %.1f s", what,
                   folder ? folder : "", (double)ind_steady_from(hang->since, now) / (double)IND_SECOND);
    }
}

static void look_at_writers(struct ind_collector *collector, struct ind_steady now)
{
    struct ind_health *health = &collector->health;
    look_at_writer(collector, &collector->writer, &health->writer, NULL, now);
    for (unsigned i = 0; i < collector->lanes.count; i++)
        look_at_writer(collector, &collector->lane_writers[i], &health->lanes[i],
                       collector->lanes.list[i].folder, now);
}

/* ---- The service manager ---- */

/* Whether any of them goes round. One disk of several that hangs is no reason to start again: that would stop
 * the others, too, and a start would wait for it. */
static bool any_lane_lives(const struct ind_collector *collector, struct ind_steady now, int64_t most)
{
    bool lives = collector->lanes.count == 0;
    for (unsigned i = 0; i < collector->lanes.count; i++)
        lives |= ind_pulse_age(&collector->lane_writers[i].pulse, now) < most;
    return lives;
}

/* Whoever hears from us for so long as everyone works: a thread that hangs is seen. */
static bool all_live(const struct ind_collector *collector, struct ind_steady now, int64_t most)
{
    bool live = ind_pulse_age(&collector->writer.pulse, now) < most && any_lane_lives(collector, now, most);
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
    look_at_writers(collector, now);
    feed_watchdog(collector, now);
    tell_how_it_is(collector, now);
}
