#include "collect/daemon/health.h"

#include "collect/daemon/collector_private.h"
#include "core/message/names.h"
#include <stdarg.h>
#include <stdio.h>
#include <string.h>

#define HANGS_AFTER (IND_SECOND * 3 / 4) /* with the time between two looks: within a second */
#define THREAD_HANGS_AFTER (3 * IND_SECOND)
enum { TELL_SECONDS = 5, LOSING_ONE_OF = 100, FEEDINGS = 3 /* in the time that the watchdog allows */ };

/* ---- The disk ---- */

struct reasons {
    struct ind_status_reason *list;
    size_t count;
};

__attribute__((format(printf, 3, 4))) static void add_reason(struct reasons *reasons, const char *reason,
                                                             const char *format, ...)
{
    va_list arguments;
    if (reasons->count == IND_STATUS_REASONS)
        return;
    struct ind_status_reason *added = &reasons->list[reasons->count++];
    added->reason = reason;
    va_start(arguments, format);
    vsnprintf(added->text, sizeof added->text, format, arguments);
    va_end(arguments);
}

static const char *disk_name(const char *folder)
{
    return !folder ? "the disk" : folder[0] ? "the file system at " : "the store's own file system";
}

/* `folder` NULL: the store is on one file system. */
static void add_disk(const struct ind_hang *hang, int error, const char *folder, struct reasons *reasons)
{
    const char *what = disk_name(folder), *where = folder ? folder : "";
    const char *waits = folder ? "what is for it waits in memory" : "messages wait in memory";
    if (hang->hangs)
        add_reason(reasons, "disk-silent", "%s%s has not answered for %lld s: %s", what, where,
                   (long long)(ind_steady_from(hang->since, ind_steady_now()) / IND_SECOND), waits);
    else if (error)
        add_reason(reasons, "disk-takes-nothing", "%s%s takes nothing (%s): %s", what, where, strerror(error),
                   waits);
}

static void add_disks(const struct ind_collector *collector, struct reasons *reasons)
{
    const struct ind_health *health = &collector->health;
    if (!collector->lane_writers)
        add_disk(&health->writer, atomic_load(&collector->writer.facts.disk_error), NULL, reasons);
    for (unsigned i = 0; i < collector->lanes.count; i++)
        add_disk(&health->lanes[i], atomic_load(&collector->lane_writers[i].facts.disk_error),
                 collector->lanes.list[i].folder, reasons);
}

void ind_health_trouble(const struct ind_collector *collector, char text[IND_HEALTH_TROUBLE])
{
    struct ind_status_reason list[IND_STATUS_REASONS];
    struct reasons reasons = {list, 0};
    struct ind_buffer out = ind_buffer_on(text, IND_HEALTH_TROUBLE - 1);
    add_disks(collector, &reasons);
    for (size_t i = 0; i < reasons.count; i++) {
        ind_buffer_text(&out, i ? "; " : "");
        ind_buffer_text(&out, list[i].text);
    }
    text[out.length] = '\0';
}

/* ---- All that is not well ---- */

static void add_threads(const struct ind_collector *collector, struct ind_steady now, struct reasons *reasons)
{
    unsigned hang = 0;
    for (unsigned i = 0; i < collector->intakes && collector->receivers.list[i]; i++)
        hang += ind_pulse_age(ind_receiver_pulse(collector->receivers.list[i]), now) > THREAD_HANGS_AFTER;
    if (hang)
        add_reason(reasons, "not-listening",
                   "%u of %u threads that receive have not gone round for some seconds", hang,
                   collector->intakes);
    if (collector->door && ind_pulse_age(ind_door_pulse(collector->door), now) > THREAD_HANGS_AFTER)
        add_reason(reasons, "not-listening", "nobody is let in: the thread that does it has not gone round");
}

/* In the last minute, as far as the last look knows. */
static void add_losses(const struct ind_collector *collector, struct reasons *reasons)
{
    double seconds;
    const struct ind_history_sample since =
        ind_history_since(&collector->history, &collector->latest, 60, &seconds);
    uint64_t lost = since.lost + since.dropped, all = since.received + since.dropped;
    if (seconds > 0 && lost * LOSING_ONE_OF > all)
        add_reason(reasons, "losing", "%llu of the %llu messages of the last %.0f s were lost",
                   (unsigned long long)lost, (unsigned long long)all, seconds);
}

size_t ind_health_reasons(const struct ind_collector *collector, struct ind_status_reason *list)
{
    struct reasons reasons = {list, 0};
    const struct ind_steady now = ind_steady_now();
    if (ind_is_stopping(&collector->lifecycle))
        add_reason(&reasons, "ending", "it has been told to end");
    add_threads(collector, now, &reasons);
    add_disks(collector, &reasons);
    add_losses(collector, &reasons);
    for (uint16_t i = 0; i < collector->listeners.name_count; i++)
        if (collector->paused[i] || collector->listeners.closed[i]) /* or not taken up again yet */
            add_reason(&reasons, "paused", "%s is paused; \"indagator resume\" takes it up again",
                       collector->listeners.names[i]);
    return reasons.count;
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
    const char *what = disk_name(folder);
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
