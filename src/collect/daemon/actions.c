/* What the control socket can ask of a collector. */
#include "collect/daemon/collector_private.h"

#include "collect/runtime/clock.h"
#include <stdlib.h>
#include <string.h>

static bool ending(void *context)
{
    const struct ind_collector *collector = context;
    return ind_is_stopping(&collector->lifecycle);
}

static void stop(void *context)
{
    struct ind_collector *collector = context;
    atomic_store(&collector->lifecycle.stop, true);
    ind_receivers_wake(&collector->receivers);
    if (collector->door)
        ind_door_wake(collector->door);
}

/* ---- Status ---- */

static void snapshot(void *context)
{
    struct ind_collector *collector = context;
    memset(collector->snapshots, 0, collector->intakes * sizeof *collector->snapshots);
    atomic_store(&collector->writer.snapshots_out, collector->intakes);
    collector->snapshots_asked = true;
    for (unsigned i = 0; i < collector->intakes; i++) {
        collector->snapshot_markers[i] =
            (struct ind_marker){.kind = IND_MARKER_SNAPSHOT, .snapshot = &collector->snapshots[i]};
        ind_receiver_order_snapshot(collector->receivers.list[i], &collector->snapshot_markers[i]);
    }
}

static void fill_listeners(const struct ind_collector *collector, struct ind_status *status)
{
    status->listener_count = collector->listeners.name_count;
    for (uint16_t i = 0; i < status->listener_count; i++)
        status->listeners[i].name = collector->listeners.names[i];
    for (const struct ind_listener *listener = collector->listeners.open; listener;
         listener = listener->next) {
        struct ind_status_listener *row = &status->listeners[listener->number];
        row->open = true;
        struct ind_buffer at = ind_buffer_on(row->at, sizeof row->at - 1);
        ind_listener_write_place(listener, &at);
        row->datagrams |= listener->kind == IND_LISTEN_UDP;
        for (unsigned n = 0; listener->kind == IND_LISTEN_UDP && n < listener->socket_count; n++)
            row->kernel_dropped += atomic_load(&listener->kernel_dropped[n]);
    }
}

static void fill_files(const struct ind_collector *collector, struct ind_status_files *files)
{
    const struct ind_writer_facts *writer = &collector->writer.facts;
    const struct ind_housekeeping_facts *keeping = &collector->housekeeping.facts;
    *files = (struct ind_status_files){.live = atomic_load(&writer->live_files),
                                       .open = atomic_load(&writer->open_files),
                                       .lines = atomic_load(&writer->lines),
                                       .bytes = atomic_load(&writer->bytes),
                                       .overflowed = atomic_load(&writer->overflowed),
                                       .rotated = atomic_load(&writer->rotated),
                                       .compressed = atomic_load(&keeping->compressed),
                                       .removed = atomic_load(&keeping->removed),
                                       .archives = atomic_load(&keeping->archives),
                                       .archive_bytes = atomic_load(&keeping->archive_bytes)};
    ind_disk_space(ind_store_disk(collector->store), &files->disk, &files->disk_free);
}

static void give_status(struct ind_collector *collector)
{
    struct ind_status_receiver receivers[IND_MOST_INTAKES];
    struct ind_status *status = calloc(1, sizeof *status);
    if (!status)
        return; /* whoever waits asks again at the next wake */
    collector->snapshots_asked = false;
    status->now = ind_now();
    status->began = collector->began;
    status->config = collector->rules->config;
    status->intakes = collector->intakes;
    status->snapshots = collector->snapshots;
    status->accounts = collector->accounts;
    status->receivers = receivers;
    for (unsigned i = 0; i < collector->intakes; i++) {
        struct ind_receiver_facts facts;
        ind_receiver_facts(collector->receivers.list[i], &facts);
        receivers[i] = (struct ind_status_receiver){facts.longest_pause,      facts.streams.connections,
                                                    facts.streams.bad_counts, facts.streams.too_slow,
                                                    facts.streams.unfinished, facts.streams.idle,
                                                    facts.streams.broken_off};
    }
    struct ind_door_facts door;
    ind_door_facts(collector->door, &door);
    status->door = (struct ind_status_door){door.accepted, door.turned_away, door.not_allowed};
    fill_listeners(collector, status);
    fill_files(collector, &status->files);
    if (collector->states)
        ind_edit_states_count(collector->states, &status->remembered, &status->evicted);
    /* Whoever is answered may begin the next ones at once: into the others. */
    struct ind_ledger_snapshot *taken = collector->snapshots;
    collector->snapshots = collector->other_snapshots;
    collector->other_snapshots = taken;
    ind_control_give_status(collector->control, status);
    for (unsigned i = 0; i < collector->intakes; i++)
        ind_ledger_snapshot_clear(&taken[i]);
    free(status);
}

/* ---- Rotation, reload, the rest ---- */

static void rotate(void *context, bool only_due, bool clock_is_right)
{
    struct ind_collector *collector = context;
    if (clock_is_right)
        atomic_store(&collector->housekeeping.clock_is_right, true);
    ind_writer_order_rotation(&collector->writer, only_due);
}

static void reload(void *context)
{
    struct ind_collector *collector = context;
    if (!ind_is_from_files(collector))
        ind_reload_begin(collector);
}

static bool reloading(void *context)
{
    const struct ind_collector *collector = context;
    return collector->reload.before != NULL;
}

static bool look(void *context)
{
    struct ind_collector *collector = context;
    size_t rotated, failed;
    if (collector->snapshots_asked && atomic_load(&collector->writer.snapshots_out) == 0)
        give_status(collector);
    if (ind_writer_rotation_done(&collector->writer, &rotated, &failed))
        ind_control_give_rotation(collector->control, rotated, failed);
    ind_reload_look(collector);
    return !ind_is_written(&collector->lifecycle);
}

/* So many reports at once that they find room; the others have their turn a second later. */
static void second(void *context)
{
    enum { AT_ONCE = 256 };
    struct ind_collector *collector = context;
    if (collector->states && !ind_is_from_files(collector))
        (void)ind_edit_states_report(collector->states, ind_steady_now(), false, AT_ONCE);
}

struct ind_control_actions ind_collector_actions(struct ind_collector *collector)
{
    return (struct ind_control_actions){.context = collector,
                                        .ending = ending,
                                        .stop = stop,
                                        .snapshot = snapshot,
                                        .rotate = rotate,
                                        .reload = reload,
                                        .reloading = reloading,
                                        .look = look,
                                        .second = second};
}
