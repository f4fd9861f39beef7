#define _GNU_SOURCE
#include "collect/daemon/collector_private.h"

#include "collect/control/roll_call.h"
#include "collect/input/listener_tls.h"
#include "collect/intake/file_source.h"
#include "collect/reporting/reporting.h"
#include "collect/runtime/clock.h"
#include "core/message/names.h"
#include "store/disk/fs.h"
#include <errno.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

/* ---- Callbacks of the parts ---- */

static void store_reports(void *context, enum ind_own own, const char *path, const char *text)
{
    struct ind_collector *collector = context;
    ind_report(&collector->reporter, own, path ? IND_WITH({"file", ind_slice_of(path)}) : NULL, "%s", text);
}

static void store_settles(void *context, uint32_t owner, uint32_t lines, bool written)
{
    struct ind_collector *collector = context;
    if (collector->lane_writers)
        ind_collector_settle_aside(collector, owner, lines, written);
    else
        ind_book_settle(collector->writer.filing.book, owner, lines, written);
}

static void sink_settles(void *context, uint32_t owner, bool taken)
{
    struct ind_collector *collector = context;
    ind_writer_settle_handed_on(&collector->writer, owner, taken);
}

/* An empty batch has come back to a ring that had none to give. */
static void wake_receiver(void *context, unsigned ring)
{
    const struct ind_collector *collector = context;
    if (collector->receivers.list[ring])
        ind_receiver_wake(collector->receivers.list[ring]);
}

/* ---- Beginning ---- */

static unsigned count_intakes(const struct ind_collect_settings *settings)
{
    long processors = sysconf(_SC_NPROCESSORS_ONLN);
    uint64_t wanted = settings->config->threads ? settings->config->threads
                                                : (uint64_t)(processors > 2 ? processors - 1 : 1);
    if (settings->file_count > 0)
        return ind_file_source_threads(settings->config);
    return (unsigned)(wanted < IND_MOST_INTAKES ? wanted : IND_MOST_INTAKES);
}

/* What the threads share. */
static bool make_shared(struct ind_collector *collector)
{
    bool good = ind_listeners_begin(&collector->listeners, collector->intakes, collector->settings->inherited,
                                    &collector->identity);
    for (unsigned i = 0; i < collector->intakes; i++)
        good &= (collector->accounts[i] = ind_accounts_new()) != NULL;
    for (unsigned i = 0; i < collector->intakes && !ind_is_from_files(collector); i++)
        good &= (collector->notes[i] = ind_notes_new()) != NULL &&
                (collector->causes[i] = ind_causes_new()) != NULL;
    collector->rings = ind_rings_new(collector->intakes, IND_RING_BATCHES, wake_receiver, collector);
    collector->tap = ind_tap_new(ind_control_waker(collector->control));
    collector->snapshots = calloc(collector->intakes, sizeof *collector->snapshots);
    collector->other_snapshots = calloc(collector->intakes, sizeof *collector->other_snapshots);
    collector->snapshot_markers = calloc(collector->intakes, sizeof *collector->snapshot_markers);
    good &= collector->rings && collector->tap && collector->snapshots && collector->other_snapshots &&
            collector->snapshot_markers;
    if (!ind_is_from_files(collector))
        good &= (collector->slabs =
                     ind_slabs_new(collector->settings->config->burst_buffer, collector->intakes)) != NULL;
    return good;
}

static bool make_writer(struct ind_collector *collector)
{
    struct ind_writer *writer = &collector->writer;
    const struct ind_sinks_settings sinks = {.spawner = collector->spawner,
                                             .hold = ind_is_from_files(collector),
                                             .reporter = &collector->reporter,
                                             .settle = sink_settles,
                                             .context = collector};
    writer->filing.book = ind_book_new(collector->accounts);
    const struct ind_relays_settings relays = {.reporter = &collector->reporter,
                                               .hold = ind_is_from_files(collector),
                                               .settle = sink_settles,
                                               .context = collector};
    writer->filing.sinks = ind_sinks_new(&sinks);
    writer->filing.relays = ind_relays_new(&relays);
    writer->accounts = collector->accounts;
    writer->rings = collector->rings;
    writer->intakes = collector->intakes;
    writer->from_files = ind_is_from_files(collector);
    writer->lifecycle = &collector->lifecycle;
    writer->reporter = &collector->reporter;
    writer->clock = &ind_clock_system;
    writer->control = ind_control_waker(collector->control);
    return writer->filing.book && writer->filing.sinks && writer->filing.relays &&
           ind_book_adopt(writer->filing.book, collector->settings->config) &&
           ind_sinks_adopt(writer->filing.sinks, collector->settings->config);
}

static bool make_receivers(struct ind_collector *collector)
{
    struct ind_receivers *receivers = &collector->receivers;
    receivers->count = collector->intakes;
    receivers->lifecycle = &collector->lifecycle;
    receivers->reporter = &collector->reporter;
    receivers->rings = collector->rings;
    receivers->tap = collector->tap;
    if (!(receivers->engines = ind_trap_engines_new()))
        return false;
    receivers->slabs = collector->slabs;
    receivers->clock = &ind_clock_system;
    receivers->names = collector->listeners.names;
    receivers->connections = collector->budget.connections;
    receivers->control = ind_control_waker(collector->control);
    receivers->states = &collector->states;
    return ind_receivers_begin(receivers, collector->rules->receivers) &&
           (collector->door = ind_door_new(receivers, &collector->rules->listeners)) != NULL;
}

static enum ind_collect_status out_of_memory(struct ind_collector *collector)
{
    ind_report(&collector->reporter, IND_OWN_OUT_OF_MEMORY, NULL,
               "out of memory: the collector cannot begin");
    return IND_COLLECT_FAILED;
}

static bool make_rules(struct ind_collector *collector)
{
    char reason[1400];
    collector->rules = ind_rules_prepare(collector, NULL, collector->settings->config, reason, sizeof reason);
    if (!collector->rules)
        ind_report(&collector->reporter, IND_OWN_START_FAILED, NULL, "%s", reason);
    return collector->rules != NULL;
}

static bool find_identity(struct ind_collector *collector)
{
    char reason[400];
    const struct ind_config *config = collector->settings->config;
    bool good = ind_identity_find(config->user, config->groups, config->group_count, &collector->identity,
                                  reason, sizeof reason);
    if (!good)
        ind_report(&collector->reporter, IND_OWN_START_FAILED, NULL, "%s", reason);
    else if (ind_identity_is_root(&collector->identity) && !ind_is_from_files(collector))
        ind_report(
            &collector->reporter, IND_OWN_RUNS_AS_ROOT, NULL,
            "this runs as root, and reads what strangers send; name a user that it should take on once its "
            "ports are open: \"user: indagator\"");
    return good;
}

static void own_folder(void *context, const char *path)
{
    ind_identity_own(context, path);
}

/* Sockets are open. Folders that are not there are made while that is still possible everywhere. */
static bool take_on_identity(struct ind_collector *collector)
{
    char reason[1400];
    const struct ind_config *config = collector->settings->config;
    const char *const folders[] = {config->store, config->state};
    for (size_t i = 0; i < 2; i++)
        if (!ind_fs_make_path(folders[i], own_folder, &collector->identity)) {
            ind_report(&collector->reporter, IND_OWN_START_FAILED,
                       IND_WITH({"file", ind_slice_of(folders[i])}), "cannot make the folder %s: %s",
                       folders[i], strerror(errno));
            return false;
        }
    bool good = ind_identity_take_on(&collector->identity, true, reason, sizeof reason) &&
                ind_listener_tls_readable(config, reason, sizeof reason) &&
                ind_trap_rules_readable(config, reason, sizeof reason);
    if (!good)
        ind_report(&collector->reporter, IND_OWN_START_FAILED, NULL, "%s", reason);
    return good;
}

static bool open_store(struct ind_collector *collector)
{
    char reason[1400];
    struct ind_store_settings settings = {.config = collector->settings->config,
                                          .copies_apart = true,
                                          .fs = collector->settings->fs ? collector->settings->fs
                                                                        : &ind_fs_posix,
                                          .now = ind_now(),
                                          .by_messages = ind_is_from_files(collector),
                                          .divide = !ind_is_from_files(collector),
                                          .open_files = collector->budget.files,
                                          .report = store_reports,
                                          .settle = store_settles,
                                          .context = collector};
    enum ind_store_status status = ind_store_open(&settings, &collector->store, reason, sizeof reason);
    if (status != IND_STORE_OK) {
        collector->store = NULL;
        ind_report(&collector->reporter, IND_OWN_START_FAILED, NULL, "%s%s", reason,
                   status == IND_STORE_BUSY ? "; end it first" : "");
        return false;
    }
    if (!ind_collector_divide(collector)) {
        ind_report(&collector->reporter, IND_OWN_OUT_OF_MEMORY, NULL, "out of memory");
        return false;
    }
    collector->housekeeping.keeper = ind_store_keeper(collector->store);
    collector->housekeeping.disk = ind_store_disk(collector->store);
    ind_housekeeping_look_for_room(&collector->housekeeping);
    collector->housekeeping.lifecycle = &collector->lifecycle;
    collector->housekeeping.control = ind_control_waker(collector->control);
    ind_days_begin(collector);
    return true;
}

/* ---- Threads ---- */

struct threads {
    pthread_t list[IND_MOST_INTAKES + 3 + IND_MOST_FILE_SYSTEMS];
    size_t count;
};

/* Named, so that tools which list threads tell them apart. */
static bool start(struct threads *threads, const char *name, void *(*body)(void *), void *context)
{
    if (pthread_create(&threads->list[threads->count], NULL, body, context) != 0)
        return false;
#ifdef __linux__
    (void)pthread_setname_np(threads->list[threads->count], name);
#else
    (void)name;
#endif
    threads->count++;
    return true;
}

static bool start_all(struct ind_collector *collector, struct threads *threads)
{
    /* They have threads of their own, as whoever we are now. */
    bool good = ind_relays_adopt(collector->writer.filing.relays, collector->rules->config);
    for (unsigned i = 0; good && i < collector->lanes.count; i++)
        good = start(threads, "disk writer", ind_writer_run, &collector->lane_writers[i]);
    good = good && start(threads, "writer", ind_writer_run, &collector->writer) &&
           start(threads, "housekeeping", ind_housekeeping_run, &collector->housekeeping);
    if (ind_is_from_files(collector))
        return good && start(threads, "reader", ind_read_files, collector);
    good = good && start(threads, "door", ind_door_run, collector->door);
    for (unsigned i = 0; good && i < collector->intakes; i++)
        good = start(threads, "receiver", ind_receiver_run, collector->receivers.list[i]);
    return good;
}

static void give_up_start(struct ind_collector *collector)
{
    ind_report(&collector->reporter, IND_OWN_START_FAILED, NULL, "cannot start a thread");
    atomic_store(&collector->lifecycle.give_up, true);
    atomic_store(&collector->lifecycle.stop, true);
    ind_lifecycle_set_written(&collector->lifecycle);
    ind_receivers_wake(&collector->receivers);
    if (collector->door)
        ind_door_wake(collector->door);
    for (unsigned i = 0; i < collector->intakes; i++)
        ind_ring_end(collector->rings, i);
    for (unsigned i = 0; i < collector->lanes.count; i++)
        ind_ring_end(collector->lanes.list[i].ring, 0);
}

static void tell_started(struct ind_collector *collector)
{
    const struct ind_config *config = collector->rules->config;
    ind_service_manager_tell(collector->settings->manager, "READY=1");
    ind_file_own(&collector->reporter, IND_OWN_STARTED, NULL,
                 "started: %zu listeners, %zu devices, %zu routes", config->listener_count,
                 ind_devices_count(config->devices), config->route_count);
    ind_tell_doubts(&collector->reporter, collector->settings->doubts);
}

/* Signals are for the control thread alone. */
static bool run_threads(struct ind_collector *collector)
{
    struct threads threads = {.count = 0};
    sigset_t set, before;
    sigfillset(&set);
    pthread_sigmask(SIG_BLOCK, &set, &before);
    bool good = start_all(collector, &threads);
    pthread_sigmask(SIG_SETMASK, &before, NULL);
    if (good && !ind_is_from_files(collector)) {
        ind_control_open(collector->control, collector->tap, collector->rules->config,
                         collector->listeners.names);
        ind_listener_set_report(&collector->rules->listeners, &collector->reporter);
        ind_rules_serve(collector, collector->rules);
        ind_listeners_report_unused(&collector->listeners, collector->rules->config, &collector->reporter);
    }
    if (good && !ind_is_from_files(collector))
        tell_started(collector);
    if (good)
        ind_takers_look(collector);
    if (good)
        (void)ind_alerts_follow(collector);
    if (good)
        ind_reports_follow(collector);
    if (good)
        ind_control_run(collector->control);
    else
        give_up_start(collector);
    for (size_t i = 0; i < threads.count; i++)
        pthread_join(threads.list[i], NULL);
    ind_takers_end(collector);
    ind_desk_free(collector->desk);
    ind_reporting_free(collector->reporting);
    collector->desk = NULL;
    collector->reporting = NULL;
    return good;
}

/* ---- The end ---- */

/* What the accounts have received, and what was lost before it came to one, must be what was counted at the
 * sockets. */
static void add_intake(const struct ind_collector *collector, unsigned intake,
                       struct ind_collect_result *result)
{
    struct ind_ledger sum = {0};
    for (uint32_t i = 0; i < ind_accounts_count(collector->accounts[intake]); i++)
        ind_ledger_add(&sum, &ind_account_at(collector->accounts[intake], i)->ledger);
    const struct ind_receiver *receiver = collector->receivers.list[intake];
    if (receiver) {
        struct ind_receiver_facts facts;
        const struct ind_intake_counts *counts = ind_receiver_counts(receiver);
        sum.received = sum.bytes = 0;
        for (uint16_t i = 0; i < collector->listeners.name_count; i++) {
            sum.received += counts->received[i];
            sum.bytes += counts->bytes[i];
            sum.ended[IND_END_LOST_BUFFER] += counts->lost_buffer[i];
            sum.waiting += counts->waiting[i];
        }
        ind_receiver_facts(receiver, &facts);
        if (facts.longest_pause > result->longest_pause)
            result->longest_pause = facts.longest_pause;
    }
    ind_ledger_add(&result->ledger, &sum);
}

static void fill_result(struct ind_collector *collector, struct ind_collect_result *result)
{
    struct ind_book *book = collector->writer.filing.book;
    size_t routes;
    const struct ind_route_count *counts = ind_book_routes(book, &routes);
    result->store = ind_store_counts_of_all(collector->store);
    result->keeper = ind_keeper_counts(ind_store_keeper(collector->store));
    result->unread_files = collector->unread_files;
    for (size_t i = 0; i < routes; i++)
        result->lines_cut += counts[i].cut;
    for (const struct ind_listener *listener = collector->listeners.open; listener; listener = listener->next)
        for (unsigned i = 0; i < listener->socket_count; i++)
            result->kernel_dropped += atomic_load(&listener->kernel_dropped[i]);
    for (unsigned i = 0; i < collector->intakes; i++)
        ind_edit_counts_add_all(&result->edits, ind_book_edits(book, i));
    ind_store_close(collector->store); /* what still waits is lost now, and enters the book */
    collector->store = NULL;
    ind_book_close(book);
    for (unsigned i = 0; i < collector->intakes; i++)
        add_intake(collector, i, result);
    result->adds_up = result->ledger.received == ind_ledger_accounted(&result->ledger);
    if (!result->adds_up)
        ind_report(&collector->reporter, IND_OWN_FAULT, NULL,
                   "the ledger does not add up: this is a fault of ours; please report it");
}

/* ---- All of it ---- */

static enum ind_collect_status run(struct ind_collector *collector, struct ind_collect_result *result)
{
    const struct ind_config *config = collector->settings->config;
    const struct ind_control_actions actions = ind_collector_actions(collector);
    if (!find_identity(collector))
        return IND_COLLECT_CALL;
    /* Before there is a thread, a socket or a file. A reload may bring programs that are not there yet. */
    if (!ind_is_from_files(collector) || ind_config_has_to(config, IND_TO_PROGRAM))
        collector->spawner = ind_spawner_new(&collector->identity);
    if (!ind_is_from_files(collector))
        collector->alert_spawner = ind_spawner_new(&collector->identity);
    /* Files are made with the modes that the configuration says, whatever whoever started us takes away;
     * never more than that, and nothing for others. */
    if (!ind_is_from_files(collector))
        (void)umask(0027);
    ind_fs_raise_file_limit(); /* live files, sockets, connections, what a search holds open */
    collector->intakes = count_intakes(collector->settings);
    collector->budget = ind_budget_divide(ind_budget_limit(), 2 * config->listener_count * collector->intakes,
                                          config->open_files, config->limits.connections);
    collector->control = ind_control_new(&actions, &collector->reporter);
    collector->roll = ind_roll_call_new(&collector->reporter, ind_steady_now());
    collector->roll_called = ind_steady_now();
    collector->device_rates = ind_device_rates_new(collector->intakes, collector->roll_called);
    ind_history_begin(&collector->history, collector->roll_called);
    collector->latest = collector->history.samples[0];
    if (!collector->control || !collector->roll || !collector->device_rates || !make_shared(collector) ||
        !make_writer(collector))
        return out_of_memory(collector);
    collector->lifecycle.control = ind_control_waker(collector->control);
    if (!make_rules(collector))
        return IND_COLLECT_CALL;
    if (!ind_is_from_files(collector) && !make_receivers(collector))
        return out_of_memory(collector);
    if (!take_on_identity(collector))
        return IND_COLLECT_CALL;
    if (!open_store(collector))
        return IND_COLLECT_FAILED;
    if (!ind_is_from_files(collector))
        ind_engine_begin(collector, collector->rules->config);
    if (!run_threads(collector))
        return IND_COLLECT_FAILED;
    fill_result(collector, result);
    ind_days_end(collector, result);
    bool whole = ind_ledger_lost(&result->ledger) + result->unread_files == 0;
    return whole ? IND_COLLECT_DONE : IND_COLLECT_PART;
}

static void end(struct ind_collector *collector)
{
    ind_day_book_free(collector->days);
    ind_control_free(collector->control);
    ind_roll_call_free(collector->roll);
    ind_door_free(collector->door);
    ind_receivers_end(&collector->receivers);
    ind_trap_engines_free(collector->receivers.engines);
    ind_store_close(collector->store);
    ind_rules_free(collector->reload.before);
    ind_rules_free(collector->rules);
    ind_listeners_end(&collector->listeners);
    ind_sinks_free(collector->writer.filing.sinks);
    ind_relays_free(collector->writer.filing.relays);
    ind_spawner_free(collector->alert_spawner); /* it was forked later, and has what leads to the other */
    ind_spawner_free(collector->spawner);
    ind_collector_end_lanes(collector);
    ind_writer_end(&collector->writer);
    ind_rings_free(collector->rings);
    ind_book_free(collector->writer.filing.book);
    ind_tap_free(collector->tap);
    ind_edit_states_free(collector->states);
    ind_slabs_free(collector->slabs);
    for (unsigned i = 0; i < collector->intakes; i++) {
        if (collector->snapshots)
            ind_ledger_snapshot_free(&collector->snapshots[i]);
        if (collector->other_snapshots)
            ind_ledger_snapshot_free(&collector->other_snapshots[i]);
    }
    free(collector->snapshots);
    free(collector->other_snapshots);
    free(collector->snapshot_markers);
    for (unsigned i = 0; i < IND_MOST_INTAKES; i++) {
        ind_accounts_free(collector->accounts[i]);
        ind_notes_free(collector->notes[i]);
        ind_causes_free(collector->causes[i]);
    }
    ind_device_rates_free(collector->device_rates);
    ind_lifecycle_end(&collector->lifecycle);
    ind_reporter_end(&collector->reporter);
}

enum ind_collect_status ind_collect(const struct ind_collect_settings *settings,
                                    struct ind_collect_result *result)
{
    struct ind_collector *collector = calloc(1, sizeof *collector);
    *result = (struct ind_collect_result){0};
    if (!collector) {
        settings->report(settings->context, "out of memory");
        return IND_COLLECT_FAILED;
    }
    collector->settings = settings;
    collector->began = collector->rules_since = ind_now();
    ind_reporter_begin(&collector->reporter, settings->report, settings->context);
    ind_writer_begin(&collector->writer);
    ind_lifecycle_begin(&collector->lifecycle, NULL);
    enum ind_collect_status status = run(collector, result);
    end(collector);
    free(collector);
    return status;
}

void ind_collect_result_free(struct ind_collect_result *result)
{
    ind_edit_counts_free(&result->edits);
}
