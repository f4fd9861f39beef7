#include "collect/control/metrics.h"

#include "collect/control/rows.h"
#include "core/base/escape.h"
#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>

/* What a family of series is: the first lines of each. */
struct family {
    const char *name, *type, *unit, *help; /* unit: NULL: none, else the end of the name */
};

static void begin(FILE *out, const struct family *family)
{
    fprintf(out, "# TYPE indagator_%s %s\n", family->name, family->type);
    if (family->unit)
        fprintf(out, "# UNIT indagator_%s %s\n", family->name, family->unit);
    fprintf(out, "# HELP indagator_%s %s\n", family->name, family->help);
}

/* A value of a label: text from the network as stored lines write it, so that it is UTF-8 without control
 * characters, and then as the format escapes it. */
static void write_value(FILE *out, const char *text)
{
    char room[2048];
    struct ind_buffer clean = ind_buffer_on(room, sizeof room);
    struct ind_slice value = ind_slice_of(text);
    value.length = value.length < 256 ? value.length : 256;
    ind_escape_text(&clean, value);
    for (size_t i = 0; i < clean.length; i++) {
        if (room[i] == '"' || room[i] == '\\')
            putc('\\', out);
        putc(room[i], out);
    }
}

struct label {
    const char *name, *value; /* value NULL: it has none */
};

static void begin_sample(FILE *out, const struct family *family, const struct label labels[2])
{
    bool any = false;
    fprintf(out, "indagator_%s%s", family->name, family->type[0] == 'c' ? "_total" : "");
    for (int i = 0; i < 2; i++) {
        if (!labels[i].value)
            continue;
        fprintf(out, "%c%s=\"", any ? ',' : '{', labels[i].name);
        write_value(out, labels[i].value);
        putc('"', out);
        any = true;
    }
    fputs(any ? "} " : " ", out);
}

static void sample(FILE *out, const struct family *family, const char *label, const char *value,
                   uint64_t number)
{
    begin_sample(out, family, (const struct label[2]){{label, value}, {NULL, NULL}});
    fprintf(out, "%" PRIu64 "\n", number);
}

static void sample_of_two(FILE *out, const struct family *family, const struct label labels[2],
                          uint64_t number)
{
    begin_sample(out, family, labels);
    fprintf(out, "%" PRIu64 "\n", number);
}

/* Nanoseconds as seconds. */
static void sample_time(FILE *out, const struct family *family, const struct label labels[2], int64_t time)
{
    begin_sample(out, family, labels);
    fprintf(out, "%.6f\n", (double)time / 1e9);
}

static void single(FILE *out, const struct family *family, uint64_t number)
{
    begin(out, family);
    sample(out, family, NULL, NULL, number);
}

/* ---- The collector ---- */

static void write_collector(FILE *out, const struct ind_status *status)
{
    static const struct family started = {"start_time_seconds", "gauge", "seconds",
                                          "When the collector was started, as a Unix time."};
    static const struct family healthy = {"healthy", "gauge", NULL,
                                          "1: all is well; 0: /health tells what is not."};
    static const struct family problem = {"problem", "gauge", NULL, "1 for each thing that is not well."};
    static const struct family pause = {
        "longest_pause_seconds", "gauge", "seconds",
        "The longest time in which a thread that receives did not look at its sockets."};
    uint64_t longest = 0;
    fprintf(out,
            "# TYPE indagator_build info\n# HELP indagator_build The version that runs.\n"
            "indagator_build_info{version=\"%s\"} 1\n",
            status->version);
    begin(out, &started);
    sample_time(out, &started, (const struct label[2]){{0}}, status->began);
    single(out, &healthy, status->reason_count == 0);
    begin(out, &problem);
    for (size_t i = 0; i < status->reason_count; i++)
        sample(out, &problem, "reason", status->reasons[i].reason, 1);
    for (unsigned i = 0; i < status->intakes; i++)
        longest = status->receivers[i].longest_pause > longest ? status->receivers[i].longest_pause : longest;
    begin(out, &pause);
    sample_time(out, &pause, (const struct label[2]){{0}}, (int64_t)longest);
}

/* ---- Messages ---- */

static bool is_shown(const struct ind_status *status, const struct ind_rows *rows, uint16_t number)
{
    return status->listeners[number].open || status->listeners[number].paused ||
           rows->listeners[number].received > 0;
}

/* A number of each listener's ledger. */
static void write_of_listeners(FILE *out, const struct ind_status *status, const struct ind_rows *rows,
                               const struct family *family, size_t offset)
{
    begin(out, family);
    for (uint16_t i = 0; i < status->listener_count; i++)
        if (is_shown(status, rows, i))
            sample(out, family, "listener", status->listeners[i].name,
                   *(const uint64_t *)(const void *)((const char *)&rows->listeners[i] + offset));
}

static void write_ends(FILE *out, const struct ind_status *status, const struct ind_rows *rows)
{
    static const struct family ended = {
        "messages_ended", "counter", NULL,
        "What became of messages, by listener; with those that wait it is what was received."};
    begin(out, &ended);
    for (uint16_t i = 0; i < status->listener_count; i++)
        for (int end = 0; end < IND_ENDS && is_shown(status, rows, i); end++)
            sample_of_two(out, &ended,
                          (const struct label[2]){{"listener", status->listeners[i].name},
                                                  {"end", ind_end_key((enum ind_end)end)}},
                          rows->listeners[i].ended[end]);
}

static void write_severities(FILE *out, const struct ind_ledger *total)
{
    static const struct family family = {"messages_by_severity", "counter", NULL,
                                         "Messages received and read, by severity."};
    begin(out, &family);
    for (unsigned i = 0; i < IND_SEVERITIES; i++)
        sample(out, &family, "severity", ind_severity_name(i).at, total->severities[i]);
}

static void write_messages(FILE *out, const struct ind_status *status, const struct ind_rows *rows)
{
    static const struct {
        struct family family;
        size_t offset;
    } numbers[] = {
        {{"messages_received", "counter", NULL, "Messages received, by listener."},
         offsetof(struct ind_ledger, received)},
        {{"received_bytes", "counter", "bytes", "Bytes of these messages."},
         offsetof(struct ind_ledger, bytes)},
        {{"messages_malformed", "counter", NULL,
          "Messages whose header broke off or was not as a standard has it."},
         offsetof(struct ind_ledger, malformed)},
        {{"messages_cut", "counter", NULL, "Messages that were longer than they may be, or broke off."},
         offsetof(struct ind_ledger, cut)},
    };
    static const struct family waiting = {"messages_waiting", "gauge", NULL,
                                          "Messages that wait, by where they do."};
    static const struct family dropped = {
        "kernel_dropped_datagrams", "counter", NULL,
        "Datagrams that the kernel dropped before they were read, by listener."};
    for (size_t i = 0; i < sizeof numbers / sizeof *numbers; i++)
        write_of_listeners(out, status, rows, &numbers[i].family, numbers[i].offset);
    write_ends(out, status, rows);
    write_severities(out, &rows->total);
    begin(out, &waiting);
    sample(out, &waiting, "where", "burst_buffer", rows->burst);
    sample(out, &waiting, "where", "rings", rows->rings);
    sample(out, &waiting, "where", "files", rows->files);
    begin(out, &dropped);
    for (uint16_t i = 0; i < status->listener_count; i++)
        if (status->listeners[i].datagrams)
            sample(out, &dropped, "listener", status->listeners[i].name, status->listeners[i].kernel_dropped);
}

/* ---- Rules ---- */

static void write_routes(FILE *out, const struct ind_ledger_snapshot *snapshot)
{
    static const struct family messages = {"route_messages", "counter", NULL, "Messages that a route took."};
    static const struct family bytes = {"route_bytes", "counter", "bytes",
                                        "Bytes of the lines that a route wrote."};
    begin(out, &messages);
    for (size_t i = 0; i < snapshot->route_count; i++)
        sample(out, &messages, "route", snapshot->routes[i].name, snapshot->routes[i].lines);
    begin(out, &bytes);
    for (size_t i = 0; i < snapshot->route_count; i++)
        sample(out, &bytes, "route", snapshot->routes[i].name, snapshot->routes[i].bytes);
}

static void write_edits(FILE *out, const struct ind_status *status)
{
    static const struct family changed = {"edit_messages_changed", "counter", NULL,
                                          "Messages that an edit changed."};
    static const struct family dropped = {"edit_messages_dropped", "counter", NULL,
                                          "Messages that an edit dropped."};
    struct ind_edit_count *all = NULL;
    for (unsigned i = 0; i < status->intakes; i++)
        ind_edit_counts_add_all(&all, status->snapshots[i].edits);
    begin(out, &changed);
    for (const struct ind_edit_count *edit = all; edit; edit = edit->hh.next)
        sample(out, &changed, "edit", edit->name, edit->changed);
    begin(out, &dropped);
    for (const struct ind_edit_count *edit = all; edit; edit = edit->hh.next)
        sample(out, &dropped, "edit", edit->name, edit->dropped);
    ind_edit_counts_free(&all);
}

static void write_programs(FILE *out, const struct ind_ledger_snapshot *snapshot)
{
    static const struct family families[] = {
        {"program_messages_taken", "counter", NULL,
         "Messages that a program, or standard output, has taken."},
        {"program_messages_lost", "counter", NULL, "Messages that it did not take in time, or not at all."},
        {"program_messages_waiting", "gauge", NULL, "Messages that wait for it."},
        {"program_starts", "counter", NULL, "How often it was started."},
    };
    for (size_t f = 0; f < sizeof families / sizeof *families; f++) {
        begin(out, &families[f]);
        for (size_t i = 0; snapshot->sinks && i < snapshot->sink_count; i++) {
            const struct ind_sink_count *sink = &snapshot->sinks[i];
            const uint64_t numbers[] = {sink->taken, sink->lost, sink->waiting, sink->starts};
            sample(out, &families[f], "program", sink->name, numbers[f]);
        }
    }
}

static void write_relays(FILE *out, const struct ind_status *status)
{
    static const struct family families[] = {
        {"relay_messages_taken", "counter", NULL, "Messages that a relay was given."},
        {"relay_messages_found", "counter", NULL, "Messages that waited on disk when it began."},
        {"relay_messages_sent", "counter", NULL, "Messages that the other side has acknowledged."},
        {"relay_messages_sent_again", "counter", NULL, "Messages sent once more: they may have come twice."},
        {"relay_messages_given_up", "counter", NULL, "Messages for which there was no more room on disk."},
        {"relay_messages_not_taken", "counter", NULL, "Messages for which it had no room."},
        {"relay_messages_looped", "counter", NULL, "Messages that had been passed on too often."},
        {"relay_messages_damaged", "counter", NULL, "Messages that could not be read from disk again."},
        {"relay_messages_waiting", "gauge", NULL, "Messages that wait for it."},
        {"relay_waiting_bytes", "gauge", "bytes", "Bytes of these."},
        {"relay_oldest_seconds", "gauge", "seconds", "How long the oldest of them has waited."},
        {"relay_disk_bytes", "gauge", "bytes", "Bytes of its queue on disk."},
    };
    static const struct family of_targets[] = {
        {"relay_target_up", "gauge", NULL, "1 while a target takes messages."},
        {"relay_target_sent", "counter", NULL, "Messages that a target has acknowledged."},
        {"relay_target_failures", "counter", NULL, "How often a target was, or became, unreachable."},
    };
    for (size_t f = 0; f < sizeof families / sizeof *families; f++) {
        begin(out, &families[f]);
        for (size_t i = 0; i < status->relay_count; i++) {
            const struct ind_relay_count *count = &status->relays[i].count;
            const uint64_t numbers[] = {count->taken,
                                        count->found,
                                        count->sent,
                                        count->again,
                                        count->given_up,
                                        count->refused,
                                        count->looped,
                                        count->damaged,
                                        count->waiting,
                                        count->waiting_bytes,
                                        (uint64_t)count->oldest,
                                        count->disk_bytes};
            sample(out, &families[f], "relay", status->relays[i].name, numbers[f]);
        }
    }
    for (size_t f = 0; f < sizeof of_targets / sizeof *of_targets; f++) {
        begin(out, &of_targets[f]);
        for (size_t i = 0; i < status->relay_count; i++)
            for (unsigned n = 0; n < status->relays[i].count.target_count; n++) {
                const struct ind_target_count *target = &status->relays[i].count.targets[n];
                const uint64_t numbers[] = {target->up, target->sent, target->failures};
                sample_of_two(out, &of_targets[f],
                              (const struct label[2]){{"relay", status->relays[i].name},
                                                      {"target", status->relays[i].targets[n]}},
                              numbers[f]);
            }
    }
}

static void write_takers(FILE *out, const struct ind_status *status)
{
    static const struct family families[] = {
        {"taken_messages", "counter", NULL, "Messages taken from a message system, stored and acknowledged."},
        {"taken_batches", "counter", NULL, "Batches of these."},
        {"taken_repeated", "counter", NULL, "Messages of batches that were stored before: left out."},
        {"taken_delivered_again", "counter", NULL, "Batches that had been given to somebody before."},
        {"taken_bad_batches", "counter", NULL, "Batches that nobody can read."},
        {"taken_up", "gauge", NULL, "1 while the message system answers."},
    };
    for (size_t f = 0; f < sizeof families / sizeof *families; f++) {
        begin(out, &families[f]);
        for (size_t i = 0; i < status->taker_count; i++) {
            const struct ind_taker_count *count = &status->takers[i];
            const uint64_t numbers[] = {count->messages, count->batches, count->repeated,
                                        count->again,    count->bad,     count->up};
            sample(out, &families[f], "listener", count->name, numbers[f]);
        }
    }
}

static void write_alerts(FILE *out, const struct ind_desk_count *count)
{
    static const struct family numbers[] = {
        {"alerts_open", "gauge", NULL, "Alerts that are open, and that nobody has acknowledged."},
        {"alerts_acknowledged", "gauge", NULL,
         "Alerts that somebody has acknowledged, and that are not over."},
        {"alerts_watched", "gauge", NULL, "Keys that are counted, or waited for."},
        {"alerts_forgotten", "counter", NULL, "Keys for which there was no room."},
        {"alerts_missed", "counter", NULL, "Messages that concern alerts, and came too fast to be counted."},
        {"alerts_held_back", "gauge", NULL, "Alerts that are not told now."},
        {"alerts_saved", "gauge", NULL, "1 while they can be saved."},
    };
    static const struct family ways[] = {
        {"alert_letters_delivered", "counter", NULL, "Letters that were delivered."},
        {"alert_letters_failed", "counter", NULL, "Tries to deliver a letter that failed."},
        {"alert_news_waiting", "gauge", NULL, "What is to be told, and is not yet."},
    };
    if (!count)
        return;
    const uint64_t values[] = {count->alerts.open,    count->alerts.acknowledged,
                               count->alerts.watched, count->alerts.forgotten,
                               count->missed,         count->held,
                               !count->file_failed};
    for (size_t f = 0; f < sizeof numbers / sizeof *numbers; f++)
        single(out, &numbers[f], values[f]);
    for (size_t f = 0; f < sizeof ways / sizeof *ways; f++) {
        begin(out, &ways[f]);
        for (size_t i = 0; i < count->way_count; i++) {
            const struct ind_desk_way *way = &count->ways[i];
            const uint64_t of_way[] = {way->delivered, way->failed, way->waiting};
            sample(out, &ways[f], "way", way->id, of_way[f]);
        }
    }
}

/* ---- Devices ---- */

/* The devices that have series of their own; the others only count. */
struct shown {
    const struct ind_row **rows;
    size_t count, most;
};

/* A number of each of those that have series of their own; of all others the sum. */
static void write_of_devices(FILE *out, const struct shown *shown, const struct family *family,
                             uint64_t (*number)(const struct ind_row *row))
{
    uint64_t others = 0;
    begin(out, family);
    for (size_t i = 0; i < shown->count; i++) {
        if (i < shown->most)
            sample(out, family, "device", shown->rows[i]->name, number(shown->rows[i]));
        else
            others += number(shown->rows[i]);
    }
    if (shown->count > shown->most)
        sample(out, family, "device", "(others)", others);
}

static uint64_t received_of(const struct ind_row *row)
{
    return row->ledger.received;
}

static uint64_t lost_of(const struct ind_row *row)
{
    return ind_ledger_lost(&row->ledger);
}

static void write_times_of_devices(FILE *out, const struct shown *shown)
{
    static const struct family last = {"device_last_message_timestamp_seconds", "gauge", "seconds",
                                       "When the last message came from a device, as a Unix time."};
    static const struct family lag = {"device_lag_seconds", "gauge", "seconds",
                                      "By how much the clock of a device is behind."};
    size_t count = shown->count < shown->most ? shown->count : shown->most;
    begin(out, &last);
    for (size_t i = 0; i < count; i++)
        if (shown->rows[i]->last != IND_TIME_NONE)
            sample_time(out, &last, (const struct label[2]){{"device", shown->rows[i]->name}, {NULL, NULL}},
                        shown->rows[i]->last);
    begin(out, &lag);
    for (size_t i = 0; i < count; i++) {
        const struct ind_clock_offset_summary clock = ind_row_clock(shown->rows[i]);
        if (clock.known)
            sample_time(out, &lag, (const struct label[2]){{"device", shown->rows[i]->name}, {NULL, NULL}},
                        clock.median);
    }
}

static void write_devices(FILE *out, const struct ind_status *status, const struct ind_rows *rows)
{
    static const struct family received = {
        "device_messages_received", "counter", NULL,
        "Messages received from a device; of the less busy ones together."};
    static const struct family lost = {"device_messages_lost", "counter", NULL,
                                       "Messages of a device that we lost."};
    static const struct family configured = {"devices_configured", "gauge", NULL,
                                             "Devices that are configured."};
    static const struct family silent = {"devices_silent", "gauge", NULL,
                                         "Configured devices of which nothing has come for an hour."};
    static const struct family unknown = {"unknown_senders", "gauge", NULL,
                                          "Senders that are no configured device."};
    struct shown shown = {.most = (size_t)status->config->serve.devices};
    shown.rows = ind_rows_sorted(rows->devices, &shown.count);
    single(out, &configured, ind_devices_count(status->config->devices));
    single(out, &silent, ind_rows_silent(rows, status));
    single(out, &unknown, HASH_COUNT(rows->strangers));
    write_of_devices(out, &shown, &received, received_of);
    write_of_devices(out, &shown, &lost, lost_of);
    write_times_of_devices(out, &shown);
    free((void *)(uintptr_t)shown.rows);
}

/* ---- Connections ---- */

static void write_connections(FILE *out, const struct ind_status *status)
{
    static const struct family open = {"connections", "gauge", NULL, "Connections that are open."};
    static const struct family accepted = {"connections_accepted", "counter", NULL,
                                           "Connections that were let in."};
    static const struct family away = {"connections_turned_away", "counter", NULL,
                                       "Connections that were not, by the reason."};
    static const struct family ended = {"connections_ended", "counter", NULL,
                                        "Connections that we ended, by the reason."};
    static const char *const reasons[] = {"bad-count", "too-slow", "unfinished", "idle", "broken-off"};
    uint64_t count = 0, by_reason[5] = {0};
    for (unsigned i = 0; i < status->intakes; i++) {
        const struct ind_status_receiver *receiver = &status->receivers[i];
        count += receiver->connections;
        by_reason[0] += receiver->bad_counts;
        by_reason[1] += receiver->too_slow;
        by_reason[2] += receiver->unfinished;
        by_reason[3] += receiver->idle;
        by_reason[4] += receiver->broken_off;
    }
    single(out, &open, count);
    single(out, &accepted, status->door.accepted);
    begin(out, &away);
    sample(out, &away, "reason", "no-room", status->door.turned_away);
    sample(out, &away, "reason", "not-allowed", status->door.not_allowed);
    begin(out, &ended);
    for (int i = 0; i < 5; i++)
        sample(out, &ended, "reason", reasons[i], by_reason[i]);
}

static void write_tls(FILE *out, const struct ind_status *status)
{
    static const struct family shaken = {"tls_handshakes", "counter", NULL, "Handshakes that succeeded."};
    static const struct family failed = {"tls_handshakes_failed", "counter", NULL,
                                         "Handshakes that failed, by the reason."};
    static const struct family ends = {
        "certificate_expiry_timestamp_seconds", "gauge", "seconds",
        "When a certificate or revocation list of a listener ends, as a Unix time."};
    static const char *const parts[IND_TLS_PARTS] = {"certificate", "key", "clients", "revoked"};
    begin(out, &shaken);
    for (uint16_t i = 0; i < status->listener_count; i++)
        if (status->listeners[i].expiries)
            sample(out, &shaken, "listener", status->listeners[i].name, status->listeners[i].shaken);
    begin(out, &failed);
    for (uint16_t i = 0; i < status->listener_count; i++)
        for (int n = 0; n < IND_TLS_FAILURES; n++)
            if (status->listeners[i].failed[n])
                sample_of_two(
                    out, &failed,
                    (const struct label[2]){{"listener", status->listeners[i].name},
                                            {"reason", ind_tls_failure_key((enum ind_tls_failure)n)}},
                    status->listeners[i].failed[n]);
    begin(out, &ends);
    for (uint16_t i = 0; i < status->listener_count; i++)
        for (int part = 0; status->listeners[i].expiries && part < IND_TLS_PARTS; part++)
            if (status->listeners[i].expiries->ends[part] != IND_TIME_NONE)
                sample_time(
                    out, &ends,
                    (const struct label[2]){{"listener", status->listeners[i].name}, {"part", parts[part]}},
                    status->listeners[i].expiries->ends[part]);
}

/* ---- Files ---- */

static void write_files(FILE *out, const struct ind_status_files *files)
{
    const struct {
        struct family family;
        uint64_t number;
    } numbers[] = {
        {{"lines_written", "counter", NULL, "Lines written into files."}, files->lines},
        {{"written_bytes", "counter", "bytes", "Bytes of these lines."}, files->bytes},
        {{"lines_in_overflow", "counter", NULL, "Lines that went into an overflow.log."}, files->overflowed},
        {{"files_live", "gauge", NULL, "Files that are written to."}, files->live},
        {{"files_open", "gauge", NULL, "Of these, files that are held open."}, files->open},
        {{"files_rotated", "counter", NULL, "Files that have become archives."}, files->rotated},
        {{"archives_compressed", "counter", NULL, "Archives that were compressed."}, files->compressed},
        {{"archives_removed", "counter", NULL, "Archives that were removed, as their policies say."},
         files->removed},
        {{"archives", "gauge", NULL, "Archives that there are."}, files->archives},
        {{"archive_bytes", "gauge", "bytes", "Bytes of these archives."}, files->archive_bytes},
        {{"archives_protected", "gauge", NULL, "Of these, archives that no retention touches."},
         files->protected_archives},
        {{"archives_to_copy", "gauge", NULL,
          "Archives that the second place of their policy does not have yet."},
         files->to_copy},
        {{"archives_to_count", "gauge", NULL, "Archives whose volumes the catalog does not have yet."},
         files->to_count},
        {{"catalog_failed", "gauge", NULL, "1 while the catalog cannot be written."}, files->catalog_failed},
    };
    static const struct family size = {"file_system_size_bytes", "gauge", "bytes",
                                       "Size of a file system of the store, by its folder there."};
    static const struct family room = {"file_system_free_bytes", "gauge", "bytes",
                                       "Room that is left there."};
    for (size_t i = 0; i < sizeof numbers / sizeof *numbers; i++)
        single(out, &numbers[i].family, numbers[i].number);
    begin(out, &size);
    for (unsigned i = 0; i < files->disk_count; i++)
        sample(out, &size, "folder", files->disks[i].folder, files->disks[i].size);
    begin(out, &room);
    for (unsigned i = 0; i < files->disk_count; i++)
        sample(out, &room, "folder", files->disks[i].folder, files->disks[i].free);
}

char *ind_metrics_text(const struct ind_status *status, const struct ind_rows *rows)
{
    char *text = NULL;
    size_t length = 0;
    FILE *out = open_memstream(&text, &length);
    if (out) {
        write_collector(out, status);
        write_messages(out, status, rows);
        write_routes(out, &status->snapshots[0]);
        write_edits(out, status);
        write_programs(out, &status->snapshots[0]);
        write_relays(out, status);
        write_takers(out, status);
        write_alerts(out, status->alerts);
        write_devices(out, status, rows);
        write_connections(out, status);
        write_tls(out, status);
        write_files(out, &status->files);
        fputs("# EOF\n", out);
    }
    bool good = out && !ferror(out);
    if (out && fclose(out) != 0)
        good = false;
    if (good)
        return text;
    free(text);
    return NULL;
}
