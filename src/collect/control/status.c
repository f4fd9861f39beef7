#include "collect/control/status.h"

#include "collect/control/rows.h"
#include "collect/control/status_alerts.h"
#include "collect/control/status_relays.h"
#include "collect/control/status_tls.h"
#include "core/base/escape.h"
#include "core/message/header.h"
#include "json/members.h"
#include <jansson.h>
#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <unistd.h>
#include <uthash.h>

/* ---- As JSON ---- */

static int by_messages(const void *a, const void *b)
{
    const struct ind_note_word *one = a, *other = b;
    return (one->messages < other->messages) - (one->messages > other->messages);
}

/* NULL where no pattern was asked. */
static json_t *patterns_object(const struct ind_status *status)
{
    enum { APPS = 10 };
    struct ind_notes_unfit unfit = {0};
    for (unsigned i = 0; i < status->intakes; i++)
        if (status->notes[i])
            ind_notes_add_unfit(status->notes[i], &unfit);
    if (unfit.asked == 0)
        return NULL;
    qsort(unfit.apps, unfit.app_count, sizeof *unfit.apps, by_messages);
    json_t *object = json_object(), *apps = json_array();
    ind_json_set_number(object, "looked_at", unfit.asked);
    ind_json_set_number(object, "unfit", unfit.unfit);
    for (unsigned i = 0; i < unfit.app_count && i < APPS; i++) {
        json_t *app = json_object();
        char shown[4 * IND_NOTE_WIDTH];
        struct ind_buffer text = ind_buffer_on(shown, sizeof shown);
        ind_escape_shown(&text, (struct ind_slice){unfit.apps[i].text, unfit.apps[i].length});
        json_object_set_new(app, "app", json_stringn(shown, text.length));
        ind_json_set_number(app, "unfit", unfit.apps[i].messages);
        json_array_append_new(apps, app);
    }
    json_object_set_new(object, "apps", apps);
    return object;
}

static json_t *traps_object(const struct ind_status_listener *listener)
{
    json_t *object = json_object(), *refused = json_object();
    for (int i = 0; i < IND_TRAP_FAULTS; i++)
        if (listener->traps_refused[i])
            ind_json_set_number(refused, ind_trap_fault_key((enum ind_trap_fault)i),
                                listener->traps_refused[i]);
    ind_json_set_number(object, "answered", listener->traps_answered);
    json_object_set_new(object, "refused", refused);
    return object;
}

static json_t *listeners_array(const struct ind_status *status, const struct ind_rows *rows)
{
    json_t *array = json_array();
    for (uint16_t i = 0; i < status->listener_count; i++) {
        const struct ind_status_listener *listener = &status->listeners[i];
        if (!listener->open && !listener->paused && rows->listeners[i].received == 0)
            continue;
        json_t *object = ind_rows_ledger(&rows->listeners[i]);
        json_object_set_new(object, "listener", json_string(listener->name));
        if (listener->at[0])
            json_object_set_new(object, "at", json_string(listener->at));
        if (listener->paused)
            json_object_set_new(object, "paused", json_true());
        if (listener->datagrams)
            ind_json_set_number(object, "dropped_by_kernel", listener->kernel_dropped);
        if (listener->traps)
            json_object_set_new(object, "traps", traps_object(listener));
        ind_status_add_tls(object, listener);
        json_array_append_new(array, object);
    }
    return array;
}

/* The writer's own: any snapshot has them all. */
static json_t *routes_array(const struct ind_ledger_snapshot *snapshot)
{
    json_t *array = json_array();
    for (size_t i = 0; i < snapshot->route_count; i++) {
        json_t *object = json_object();
        json_object_set_new(object, "route", json_string(snapshot->routes[i].name));
        ind_json_set_number(object, "messages", snapshot->routes[i].lines);
        ind_json_set_number(object, "bytes", snapshot->routes[i].bytes);
        ind_json_set_number(object, "cut", snapshot->routes[i].cut);
        json_array_append_new(array, object);
    }
    return array;
}

/* Of all intakes together. */
static json_t *edits_array(const struct ind_status *status)
{
    json_t *array = json_array();
    struct ind_edit_count *all = NULL;
    for (unsigned i = 0; i < status->intakes; i++)
        ind_edit_counts_add_all(&all, status->snapshots[i].edits);
    for (const struct ind_edit_count *edit = all; edit; edit = edit->hh.next) {
        json_t *object = json_object();
        json_object_set_new(object, "edit", json_string(edit->name));
        ind_json_set_number(object, "changed", edit->changed);
        ind_json_set_number(object, "dropped", edit->dropped);
        ind_json_set_number(object, "dropped_bytes", edit->dropped_bytes);
        json_array_append_new(array, object);
    }
    ind_edit_counts_free(&all);
    return array;
}

/* What edits remember. */
static json_t *remembered_object(const struct ind_status *status)
{
    json_t *object = json_object();
    ind_json_set_number(object, "entries", status->remembered);
    ind_json_set_number(object, "evicted", status->evicted);
    return object;
}

static json_t *sinks_array(const struct ind_ledger_snapshot *snapshot)
{
    json_t *array = json_array();
    for (size_t i = 0; i < snapshot->sink_count && snapshot->sinks; i++) {
        const struct ind_sink_count *sink = &snapshot->sinks[i];
        if (!sink->present && sink->waiting == 0)
            continue;
        json_t *object = json_object();
        json_object_set_new(object, "to", json_string(sink->name));
        json_object_set_new(object, "runs", json_boolean(sink->runs));
        if (sink->process)
            ind_json_set_number(object, "process", (uint64_t)sink->process);
        ind_json_set_number(object, "starts", sink->starts);
        ind_json_set_number(object, "taken", sink->taken);
        ind_json_set_number(object, "lost", sink->lost);
        ind_json_set_number(object, "waiting", sink->waiting);
        json_array_append_new(array, object);
    }
    return array;
}

static void set_disk(json_t *object, const struct ind_status_disk *disk)
{
    ind_json_set_number(object, "disk_bytes", disk->size);
    ind_json_set_number(object, "disk_bytes_free", disk->free);
    if (disk->days >= 0)
        json_object_set_new(object, "full_in_days", json_real(round(disk->days * 10) / 10));
}

static json_t *mounted_array(const struct ind_status_files *files)
{
    json_t *array = json_array();
    for (unsigned i = 1; i < files->disk_count; i++) {
        json_t *object = json_object();
        json_object_set_new(object, "folder", json_string(files->disks[i].folder));
        set_disk(object, &files->disks[i]);
        json_array_append_new(array, object);
    }
    return array;
}

static json_t *files_object(const struct ind_status *status)
{
    const struct ind_status_files *files = &status->files;
    json_t *object = json_object();
    json_object_set_new(object, "store", json_string(status->config->store));
    ind_json_set_number(object, "live", files->live);
    ind_json_set_number(object, "open", files->open);
    ind_json_set_number(object, "lines_written", files->lines);
    ind_json_set_number(object, "bytes_written", files->bytes);
    ind_json_set_number(object, "lines_in_overflow", files->overflowed);
    ind_json_set_number(object, "rotated", files->rotated);
    ind_json_set_number(object, "compressed", files->compressed);
    ind_json_set_number(object, "removed", files->removed);
    ind_json_set_number(object, "archives", files->archives);
    ind_json_set_number(object, "archive_bytes", files->archive_bytes);
    ind_json_set_number(object, "protected_archives", files->protected_archives);
    ind_json_set_number(object, "archives_to_copy", files->to_copy);
    ind_json_set_number(object, "archives_to_count", files->to_count);
    json_object_set_new(object, "catalog_failed", json_boolean(files->catalog_failed));
    set_disk(object, &files->disks[0]);
    if (files->disk_count > 1)
        json_object_set_new(object, "mounted", mounted_array(files));
    if (files->trouble[0])
        json_object_set_new(object, "trouble", json_string(files->trouble));
    return object;
}

static json_t *receivers_array(const struct ind_status *status)
{
    json_t *array = json_array();
    for (unsigned i = 0; i < status->intakes; i++) {
        const struct ind_status_receiver *receiver = &status->receivers[i];
        json_t *object = json_object();
        json_object_set_new(object, "longest_pause",
                            json_real(round((double)receiver->longest_pause / 1e3) / 1e6));
        ind_json_set_number(object, "connections", receiver->connections);
        ind_json_set_number(object, "connections_with_bad_counts", receiver->bad_counts);
        ind_json_set_number(object, "connections_too_slow", receiver->too_slow);
        ind_json_set_number(object, "connections_unfinished", receiver->unfinished);
        ind_json_set_number(object, "connections_idle", receiver->idle);
        ind_json_set_number(object, "connections_broken_off", receiver->broken_off);
        json_array_append_new(array, object);
    }
    return array;
}

static json_t *door_object(const struct ind_status_door *door)
{
    json_t *object = json_object();
    ind_json_set_number(object, "accepted", door->accepted);
    ind_json_set_number(object, "turned_away", door->turned_away);
    ind_json_set_number(object, "not_allowed", door->not_allowed);
    return object;
}

static json_t *reasons_array(const struct ind_status_reason *reasons, size_t count)
{
    json_t *array = json_array();
    for (size_t i = 0; i < count; i++) {
        json_t *object = json_object();
        json_object_set_new(object, "reason", json_string(reasons[i].reason));
        json_object_set_new(object, "text", json_string(reasons[i].text));
        json_array_append_new(array, object);
    }
    return array;
}

char *ind_status_reasons_text(const struct ind_status_reason *reasons, size_t count)
{
    json_t *object = json_object();
    json_object_set_new(object, "reasons", reasons_array(reasons, count));
    char *text = json_dumps(object, JSON_COMPACT);
    json_decref(object);
    return text;
}

/* Of messages a second, and of those lost in a hundred; null while nothing is known. */
static json_t *rates_array(const struct ind_status *status)
{
    json_t *array = json_array();
    for (int i = 0; i < IND_STATUS_RATES; i++) {
        const struct ind_status_rate *rate = &status->rates[i];
        if (rate->seconds <= 0)
            continue;
        json_t *object = json_object();
        ind_json_set_number(object, "minutes", ind_status_minutes(i));
        json_object_set_new(object, "seconds", json_real(round(rate->seconds * 10) / 10));
        json_object_set_new(object, "messages",
                            json_real(round((double)rate->received / rate->seconds * 10) / 10));
        json_object_set_new(object, "bytes", json_real(round((double)rate->bytes / rate->seconds)));
        ind_json_set_number(object, "lost", rate->lost);
        json_array_append_new(array, object);
    }
    return array;
}

char *ind_status_text(const struct ind_status *status, const struct ind_rows *rows)
{
    json_t *object = json_object(), *waiting = json_object();
    ind_json_set_time(object, "now", status->now);
    ind_json_set_time(object, "since", status->began);
    ind_json_set_time(object, "rules_since", status->rules_since);
    ind_json_set_number(object, "process", (uint64_t)getpid());
    json_object_set_new(object, "not_well", reasons_array(status->reasons, status->reason_count));
    json_object_set_new(object, "rates", rates_array(status));
    json_object_set_new(object, "ledger", ind_rows_ledger(&rows->total));
    json_object_set_new(object, "listeners", listeners_array(status, rows));
    json_t *patterns = patterns_object(status);
    if (patterns)
        json_object_set_new(object, "patterns", patterns);
    json_object_set_new(object, "edits", edits_array(status));
    json_object_set_new(object, "remembered", remembered_object(status));
    json_object_set_new(object, "routes", routes_array(&status->snapshots[0]));
    json_object_set_new(object, "handed_on", sinks_array(&status->snapshots[0]));
    json_object_set_new(object, "relays", ind_status_relays(status));
    json_object_set_new(object, "taken_from", ind_status_takers(status));
    if (status->alerts)
        json_object_set_new(object, "alerts", ind_status_alerts(status));
    ind_json_set_number(waiting, "burst_buffer", rows->burst);
    ind_json_set_number(waiting, "rings", rows->rings);
    ind_json_set_number(waiting, "files", rows->files);
    json_object_set_new(object, "waiting", waiting);
    json_object_set_new(object, "certificates", ind_status_peers(status));
    json_object_set_new(object, "connections", door_object(&status->door));
    json_object_set_new(object, "receivers", receivers_array(status));
    json_object_set_new(object, "files", files_object(status));
    char *text = json_dumps(object, JSON_COMPACT | JSON_REAL_PRECISION(15));
    char *whole = text ? ind_rows_text(text, rows, status) : NULL;
    json_decref(object);
    free(text);
    return whole;
}

char *ind_status_again(const char *last, ind_time now, const char *trouble)
{
    json_t *object = last ? json_loads(last, 0, NULL) : NULL, *files;
    if (!object)
        object = json_object();
    if (json_object_get(object, "now"))
        json_object_set(object, "as_of", json_object_get(object, "now"));
    if (!(files = json_object_get(object, "files"))) {
        files = json_object();
        json_object_set_new(object, "files", files);
    }
    ind_json_set_time(object, "now", now);
    json_object_set_new(files, "trouble", json_string(trouble));
    char *text = json_dumps(object, JSON_COMPACT | JSON_REAL_PRECISION(15));
    json_decref(object);
    return text;
}
