/* What the control socket can ask of a collector. */
#include "collect/daemon/collector_private.h"

#include "collect/control/roll_call.h"
#include "collect/input/listener_tls.h"
#include "collect/runtime/clock.h"
#include "core/message/names.h"
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
    ind_service_manager_tell(collector->settings->manager, "STOPPING=1");
    atomic_store(&collector->lifecycle.stop, true);
    ind_receivers_wake(&collector->receivers);
    if (collector->door)
        ind_door_wake(collector->door);
}

/* ---- Status ---- */

static void snapshot(void *context)
{
    struct ind_collector *collector = context;
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
    for (uint16_t i = 0; i < status->listener_count; i++) {
        status->listeners[i].name = collector->listeners.names[i];
        status->listeners[i].paused = collector->paused[i] || collector->listeners.closed[i];
    }
    for (const struct ind_listener *listener = collector->listeners.open; listener;
         listener = listener->next) {
        struct ind_status_listener *row = &status->listeners[listener->number];
        row->open = true;
        row->shaken += atomic_load(&listener->shaken);
        for (int n = 0; n < IND_TLS_FAILURES; n++)
            row->failed[n] += atomic_load(&listener->failed[n]);
        struct ind_buffer at = ind_buffer_on(row->at, sizeof row->at - 1);
        ind_listener_write_place(listener, &at);
        const bool traps = listener->transport == IND_TRANSPORT_TRAP;
        const bool datagrams = listener->transport == IND_TRANSPORT_UDP || traps;
        row->datagrams |= datagrams;
        row->traps |= traps;
        row->traps_answered += atomic_load(&listener->traps_answered);
        for (int n = 0; n < IND_TRAP_FAULTS; n++)
            row->traps_refused[n] += atomic_load(&listener->traps_refused[n]);
        for (unsigned n = 0; datagrams && n < listener->socket_count; n++)
            row->kernel_dropped += atomic_load(&listener->kernel_dropped[n]);
    }
}

/* Of the rules that are in force, or will be in a moment: nothing frees them meanwhile. */
static void fill_expiries(const struct ind_collector *collector, struct ind_status *status)
{
    const struct ind_listener_set *set = &collector->rules->listeners;
    for (size_t i = 0; i < set->count; i++)
        if (set->tls[i])
            status->listeners[set->list[i]->number].expiries = ind_tls_expiries(set->tls[i]);
}

struct peer_list {
    struct ind_status_peer *list; /* with room for IND_MOST_PEERS */
    size_t count;
};

static void add_peer(void *context, const struct ind_peer *peer)
{
    struct peer_list *peers = context;
    struct ind_status_peer *row = &peers->list[peers->count++];
    memcpy(row->name, peer->name.at, peer->name.length);
    row->name_length = peer->name.length;
    row->listener = peer->listener;
    row->address = peer->address;
    row->handshakes = peer->handshakes;
    row->last = peer->last;
}

/* New in peers->list, or NULL where memory is out: then nobody is listed. */
static void list_peers(const struct ind_collector *collector, struct peer_list *peers)
{
    *peers = (struct peer_list){malloc(IND_MOST_PEERS * sizeof *peers->list), 0};
    if (peers->list)
        ind_peers_visit(ind_door_peers(collector->door), add_peer, peers);
}

static void fill_files(struct ind_collector *collector, struct ind_status_files *files)
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
                                       .archive_bytes = atomic_load(&keeping->archive_bytes),
                                       .protected_archives = atomic_load(&keeping->protected_archives),
                                       .to_copy = atomic_load(&keeping->to_copy),
                                       .to_count = atomic_load(&keeping->to_count),
                                       .catalog_failed = atomic_load(&keeping->catalog_failed) != 0};
    const struct ind_mounts *mounts = &ind_store_disk(collector->store)->mounts;
    files->disk_count = mounts->file_systems;
    struct ind_room_sample now = {.at = ind_steady_now()};
    for (unsigned i = 0; i < files->disk_count; i++)
        now.free[i] = atomic_load(&keeping->disk_free[i]);
    for (unsigned i = 0; i < files->disk_count; i++)
        files->disks[i] =
            (struct ind_status_disk){ind_mounts_folder(mounts, i), atomic_load(&keeping->disk[i]),
                                     now.free[i], ind_room_days(&collector->room, &now, i)};
    ind_room_add(&collector->room, &now);
    ind_health_trouble(collector, files->trouble);
}

/* All that had come when the snapshots were taken. */
static void note_history(struct ind_collector *collector)
{
    struct ind_history_sample sample = {.at = ind_steady_now()};
    for (unsigned i = 0; i < collector->intakes; i++) {
        const struct ind_ledger_snapshot *snapshot = &collector->snapshots[i];
        for (uint16_t n = 0; n < collector->listeners.name_count; n++) {
            sample.received += snapshot->counts.received[n];
            sample.bytes += snapshot->counts.bytes[n];
            sample.lost += snapshot->counts.lost_buffer[n];
        }
        for (uint32_t n = 0; snapshot->ledgers && n < snapshot->account_count; n++)
            sample.lost += ind_ledger_lost(&snapshot->ledgers[n]);
    }
    for (const struct ind_listener *listener = collector->listeners.open; listener; listener = listener->next)
        for (unsigned i = 0; i < listener->socket_count; i++)
            sample.dropped += atomic_load(&listener->kernel_dropped[i]);
    if (sample.dropped < collector->latest.dropped) /* some at a socket that is closed */
        sample.dropped = collector->latest.dropped;
    collector->latest = sample;
    ind_history_add(&collector->history, &sample);
}

static void fill_rates(const struct ind_collector *collector, struct ind_status *status)
{
    for (int i = 0; i < IND_STATUS_RATES; i++) {
        struct ind_status_rate *rate = &status->rates[i];
        const struct ind_history_sample since = ind_history_since(&collector->history, &collector->latest,
                                                                  60 * ind_status_minutes(i), &rate->seconds);
        rate->received = since.received;
        rate->bytes = since.bytes;
        rate->lost = since.lost + since.dropped;
    }
}

static void give_status(struct ind_collector *collector)
{
    struct ind_status_receiver receivers[IND_MOST_INTAKES];
    struct ind_status *status = calloc(1, sizeof *status);
    if (!status)
        return; /* whoever waits asks again at the next wake */
    collector->snapshots_asked = false;
    note_history(collector);
    status->now = ind_now();
    status->began = collector->began;
    status->rules_since = collector->rules_since;
    status->config = collector->rules->config;
    status->version = collector->settings->version;
    fill_rates(collector, status);
    status->notes = collector->notes;
    status->device_rates = collector->device_rates;
    for (int i = 0; i < IND_STATUS_RATES; i++)
        status->then[i] =
            ind_device_rates_since(collector->device_rates, 60 * ind_status_minutes(i), collector->latest.at);
    status->reason_count = ind_health_reasons(collector, status->reasons);
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
    struct peer_list peers;
    fill_listeners(collector, status);
    fill_expiries(collector, status);
    list_peers(collector, &peers);
    status->peers = peers.list;
    status->peer_count = peers.count;
    fill_files(collector, &status->files);
    struct ind_named_relay_count *relays;
    status->relay_count = ind_relays_count(collector->writer.filing.relays, &relays);
    status->relays = relays;
    struct ind_taker_count *takers = calloc(IND_MOST_LISTENERS, sizeof *takers);
    status->taker_count = takers ? ind_takers_count(collector, takers) : 0;
    status->takers = takers;
    struct ind_desk_count *alerts = collector->desk ? calloc(1, sizeof *alerts) : NULL;
    if (alerts)
        ind_desk_read_count(collector->desk, alerts);
    status->alerts = alerts;
    if (collector->states)
        ind_edit_states_count(collector->states, &status->remembered, &status->evicted);
    /* Whoever is answered may begin the next ones at once: into the others. */
    struct ind_ledger_snapshot *taken = collector->snapshots;
    collector->snapshots = collector->other_snapshots;
    collector->other_snapshots = taken;
    ind_roll_call(collector->roll, status->config, taken, collector->accounts, collector->intakes,
                  ind_steady_now());
    ind_control_give_status(collector->control, status);
    ind_device_rates_add(collector->device_rates, taken, collector->latest.at);
    ind_days_note(collector, taken);
    for (unsigned i = 0; i < collector->intakes; i++)
        ind_ledger_snapshot_clear(&taken[i]);
    free(peers.list);
    free(relays);
    free(takers);
    free(alerts);
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

static void protect(void *context, const char *archive, bool on, const char *why)
{
    struct ind_collector *collector = context;
    (void)ind_keeper_ask_protection(collector->housekeeping.keeper, archive, on, why);
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
    if (ind_collector_rotation_done(collector, &rotated, &failed))
        ind_control_give_rotation(collector->control, rotated, failed);
    if (!ind_keeper_protection_waits(collector->housekeeping.keeper))
        ind_control_give_protection(collector->control);
    ind_reload_look(collector);
    return !ind_is_written(&collector->lifecycle);
}

/* The two halves of [::] have the same. */
static void tell_ends(struct ind_collector *collector)
{
    const struct ind_listener_set *set = &collector->rules->listeners;
    const ind_time now = ind_now();
    for (size_t i = 0; i < set->count; i++) {
        bool again = i > 0 && set->item_of[i] == set->item_of[i - 1];
        for (int part = 0; set->tls[i] && !again && part < IND_TLS_PARTS; part++) {
            const struct ind_tls_expiries *expiries = ind_tls_expiries(set->tls[i]);
            char text[200];
            struct ind_buffer out = ind_buffer_on(text, sizeof text);
            if (!ind_tls_expires_soon(expiries->ends[part], now))
                continue;
            ind_tls_end_write(expiries, (enum ind_tls_part)part, now, &out);
            ind_report(&collector->reporter, IND_OWN_CERTIFICATE_ENDS,
                       IND_WITH({"listener", ind_slice_of(set->list[i]->text)}),
                       "%s: %.*s; put a new one in its place, and reload", set->list[i]->text,
                       (int)out.length, text);
        }
    }
}

static void often(void *context)
{
    struct ind_collector *collector = context;
    char trouble[IND_HEALTH_TROUBLE];
    ind_health_look(collector);
    ind_pause_look(collector);
    ind_health_trouble(collector, trouble);
    if (collector->snapshots_asked && collector->health.writer.hangs)
        ind_control_give_last_status(collector->control, trouble);
}

/* So many reports at once that they find room; the others have their turn a second later. */
static void second(void *context)
{
    enum { AT_ONCE = 256, ROLL_CALL_SECONDS = 10 };
    struct ind_collector *collector = context;
    if (!ind_is_from_files(collector) && !ind_is_stopping(&collector->lifecycle) &&
        !ind_steady_reported_lately(&collector->roll_called, ind_steady_now(),
                                    ROLL_CALL_SECONDS * IND_SECOND))
        ind_control_take_snapshot(collector->control);
    if (!collector->reload.before || collector->reload.in_force)
        ind_takers_look(collector);
    if (!ind_is_from_files(collector) &&
        !ind_steady_reported_lately(&collector->ends_told, ind_steady_now(), IND_DAY_SECONDS * IND_SECOND))
        tell_ends(collector);
    if (collector->states && !ind_is_from_files(collector))
        (void)ind_edit_states_report(collector->states, ind_steady_now(), false, AT_ONCE);
}

static size_t reasons(void *context, struct ind_status_reason *list)
{
    return ind_health_reasons(context, list);
}

static int pause_some(void *context, const char *const *names, size_t count, int64_t after, char *text,
                      size_t room)
{
    return ind_pause(context, names, count, after, text, room);
}

static int resume_some(void *context, const char *const *names, size_t count, char *text, size_t room)
{
    return ind_resume(context, names, count, text, room);
}

static const char *outline(void *context)
{
    const struct ind_collector *collector = context;
    return collector->rules->config->outline;
}

static int order_alerts(void *context, enum ind_alert_order order, const struct ind_alert_query *query,
                        char *text, size_t room)
{
    return ind_alerts_order(context, order, query, text, room);
}

struct ind_control_actions ind_collector_actions(struct ind_collector *collector)
{
    return (struct ind_control_actions){.context = collector,
                                        .ending = ending,
                                        .stop = stop,
                                        .snapshot = snapshot,
                                        .rotate = rotate,
                                        .protect = protect,
                                        .reload = reload,
                                        .reloading = reloading,
                                        .look = look,
                                        .reasons = reasons,
                                        .outline = outline,
                                        .pause = pause_some,
                                        .alert = order_alerts,
                                        .resume = resume_some,
                                        .often = often,
                                        .second = second};
}
