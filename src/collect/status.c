#include "collect/status.h"

#include "collect/clock.h"
#include "core/base/escape.h"
#include "core/message/header.h"
#include <jansson.h>
#include <math.h>
#include <stdlib.h>
#include <unistd.h>
#include <uthash.h>

/* Accounts that belong together: all of a device, or all of a sender that nobody knows. */
struct row {
    UT_hash_handle hh;
    char *name;
    struct ind_ledger ledger;
    ind_time last;
    struct ind_clock_offset_summary lag;
    bool refused;
    json_t *hosts;  /* what a stranger calls itself */
    json_t *claims; /* the same, where it is the name of a configured device */
};

struct rows {
    struct row *devices, *strangers;
    struct ind_ledger listeners[IND_LISTENER_NAMES], total;
    uint64_t burst, rings, files;
};

static struct row *row_for(struct row **table, struct ind_slice name)
{
    struct row *row;
    HASH_FIND(hh, *table, name.at, name.length, row);
    if (row || !(row = calloc(1, sizeof *row)))
        return row;
    row->name = malloc(name.length + 1);
    row->last = IND_TIME_NONE;
    if (!row->name) {
        free(row);
        return NULL;
    }
    memcpy(row->name, name.at, name.length);
    row->name[name.length] = '\0';
    HASH_ADD_KEYPTR(hh, *table, row->name, name.length, row);
    return row;
}

static void free_rows(struct row **table)
{
    struct row *row, *next;
    HASH_ITER(hh, *table, row, next)
    {
        HASH_DEL(*table, row);
        json_decref(row->hosts);
        json_decref(row->claims);
        free(row->name);
        free(row);
    }
}

static void add_to_row(struct row *row, const struct ind_ledger *ledger, ind_time last,
                       const struct ind_clock_offset_summary *lag)
{
    if (!row)
        return;
    ind_ledger_add(&row->ledger, ledger);
    if (last != IND_TIME_NONE && (row->last == IND_TIME_NONE || last >= row->last)) {
        row->last = last;
        row->lag = *lag;
    }
}

/* Text that came from the network, as the stored lines write it. */
static json_t *clean(struct ind_slice text)
{
    char room[2048];
    struct ind_buffer buffer = ind_buffer_on(room, sizeof room);
    text.length = text.length < 256 ? text.length : 256;
    ind_escape_column(&buffer, text);
    return json_stringn(room, buffer.length);
}

static void add_stranger(struct rows *rows, const struct ind_account *account,
                         const struct ind_ledger *ledger, ind_time last,
                         const struct ind_clock_offset_summary *lag)
{
    enum { MOST_HOSTS = 8 };
    struct row *row = row_for(&rows->strangers, account->sender);
    if (!row)
        return;
    add_to_row(row, ledger, last, lag);
    row->refused |= account->kind == IND_ACCOUNT_REFUSED;
    row->hosts = row->hosts ? row->hosts : json_array();
    row->claims = row->claims ? row->claims : json_array();
    if (account->kind == IND_ACCOUNT_REFUSED || ind_slice_equal(account->device, account->sender))
        return;
    json_t *host = clean(account->device), *known;
    json_t *list = account->kind == IND_ACCOUNT_CLAIMANT ? row->claims : row->hosts;
    size_t i;
    json_array_foreach(list, i, known) if (json_equal(host, known)) break;
    if (i == json_array_size(list) && i < MOST_HOSTS)
        json_array_append(list, host);
    json_decref(host);
}

static void add_account(struct rows *rows, const struct ind_account *account, const struct ind_ledger *ledger,
                        ind_time last, const struct ind_clock_offset_summary *lag)
{
    ind_ledger_add(&rows->listeners[account->listener], ledger);
    bool claimant = account->kind == IND_ACCOUNT_CLAIMANT; /* the name is another's */
    add_to_row(row_for(&rows->devices, claimant ? account->sender : account->device), ledger, last, lag);
    if (((claimant || account->kind == IND_ACCOUNT_STRANGER) && account->sender.length) ||
        account->kind == IND_ACCOUNT_REFUSED)
        add_stranger(rows, account, ledger, last, lag);
}

/* What is counted at the socket replaces what the accounts have received: so that a difference shows. */
static void add_sheet(struct rows *rows, const struct ind_collector *collector, unsigned intake,
                      const struct ind_ledger_snapshot *sheet)
{
    struct ind_ledger unread = {0};
    for (uint32_t i = 0; sheet->ledgers && i < sheet->count; i++)
        add_account(rows, ind_account_at(collector->accounts[intake], i), &sheet->ledgers[i], sheet->last[i],
                    &sheet->lags[i]);
    for (uint16_t i = 0; i < collector->name_count; i++) {
        struct ind_ledger *listener = &rows->listeners[i];
        listener->ended[IND_END_LOST_BUFFER] += sheet->lost_buffer[i];
        listener->waiting += sheet->waiting[i];
        unread.received += sheet->lost_buffer[i] + sheet->waiting[i];
        unread.ended[IND_END_LOST_BUFFER] += sheet->lost_buffer[i];
        unread.waiting += sheet->waiting[i];
        rows->burst += sheet->waiting[i];
    }
    if (unread.received)
        add_to_row(row_for(&rows->devices, IND_SLICE("(not read)")), &unread, IND_TIME_NONE, NULL);
    rows->rings += sheet->ring_waiting;
    rows->files += sheet->store_waiting;
}

static void settle_received(struct rows *rows, const struct ind_collector *collector,
                            const struct ind_ledger_snapshot *sheets)
{
    for (uint16_t i = 0; i < collector->name_count; i++) {
        rows->listeners[i].received = rows->listeners[i].bytes = 0;
        for (unsigned n = 0; n < collector->intakes; n++) {
            rows->listeners[i].received += sheets[n].received[i];
            rows->listeners[i].bytes += sheets[n].bytes[i];
        }
        ind_ledger_add(&rows->total, &rows->listeners[i]);
    }
}

/* ---- As JSON ---- */

static void set_number(json_t *object, const char *key, uint64_t number)
{
    json_object_set_new(object, key, json_integer((json_int_t)number));
}

static void set_time(json_t *object, const char *key, ind_time time)
{
    char text[IND_TIME_WIDTH + 1];
    if (time == IND_TIME_NONE)
        return;
    struct ind_buffer buffer = ind_buffer_on(text, sizeof text);
    ind_time_write(&buffer, time);
    json_object_set_new(object, key, json_stringn(text, buffer.length));
}

static json_t *ledger_object(const struct ind_ledger *ledger)
{
    json_t *object = json_object();
    set_number(object, "received", ledger->received);
    for (int end = 0; end < IND_ENDS; end++)
        set_number(object, ind_end_key((enum ind_end)end), ledger->ended[end]);
    set_number(object, "waiting", ledger->waiting);
    json_object_set_new(object, "adds_up", json_boolean(ledger->received == ind_ledger_accounted(ledger)));
    set_number(object, "malformed", ledger->malformed);
    set_number(object, "cut", ledger->cut);
    set_number(object, "gave_up", ledger->gave_up);
    set_number(object, "bytes", ledger->bytes);
    json_t *forms = json_object();
    for (unsigned form = IND_FORMS; form-- > 0;)
        set_number(forms, ind_form_name(form).at, ledger->forms[form]);
    json_object_set_new(object, "formats", forms);
    return object;
}

static const struct ind_port *port_numbered(const struct ind_collector *collector, uint16_t number)
{
    const struct ind_port *port = collector->ports;
    while (port && port->number != number)
        port = port->next;
    return port;
}

/* What the kernel dropped of all ports of a listener; false where none of them takes datagrams. */
static bool dropped_by_kernel(const struct ind_collector *collector, uint16_t number, uint64_t *dropped)
{
    bool any = false;
    *dropped = 0;
    for (const struct ind_port *port = collector->ports; port; port = port->next) {
        if (port->number != number || port->kind != IND_LISTEN_UDP)
            continue;
        any = true;
        for (unsigned n = 0; n < port->socket_count; n++)
            *dropped += atomic_load(&port->kernel_dropped[n]);
    }
    return any;
}

static json_t *listeners_array(const struct ind_collector *collector, const struct rows *rows)
{
    json_t *array = json_array();
    for (uint16_t i = 0; i < collector->name_count; i++) {
        uint64_t dropped;
        if (!port_numbered(collector, i) && rows->listeners[i].received == 0)
            continue;
        json_t *object = ledger_object(&rows->listeners[i]);
        json_object_set_new(object, "listener", json_string(collector->names[i]));
        if (dropped_by_kernel(collector, i, &dropped))
            set_number(object, "dropped_by_kernel", dropped);
        json_array_append_new(array, object);
    }
    return array;
}

/* Seconds, to the hundredth. */
static json_t *hundredths(ind_time time)
{
    return json_real(round((double)time / 1e7) / 100);
}

static void set_row(json_t *object, const struct row *row)
{
    char text[120];
    struct ind_buffer clock = ind_buffer_on(text, sizeof text);
    set_time(object, "last", row->last);
    if (row->lag.known) {
        json_object_set_new(object, "lag", hundredths(row->lag.median));
        json_object_set_new(object, "lag_spread", hundredths(row->lag.spread));
    }
    if (row->lag.drifts)
        json_object_set_new(object, "drift", json_real(round(row->lag.drift * 100) / 100));
    ind_clock_offset_write(&clock, &row->lag);
    json_object_set_new(object, "clock", json_stringn(text, clock.length));
}

static int busiest_first(const struct row *a, const struct row *b)
{
    if (a->ledger.received != b->ledger.received)
        return a->ledger.received < b->ledger.received ? 1 : -1;
    return strcmp(a->name, b->name);
}

static json_t *devices_array(struct rows *rows)
{
    json_t *array = json_array();
    HASH_SORT(rows->devices, busiest_first);
    for (const struct row *row = rows->devices; row; row = row->hh.next) {
        json_t *object = ledger_object(&row->ledger);
        json_object_set_new(object, "device", clean(ind_slice_of(row->name)));
        set_row(object, row);
        json_array_append_new(array, object);
    }
    return array;
}

/* The configured devices whose names a sender bears without a right to them, and where they are. */
static json_t *claims_array(const struct ind_config *config, const struct row *row)
{
    json_t *array = json_array(), *name;
    size_t i;
    json_array_foreach(row->claims, i, name)
    {
        char text[IND_ADDRESS_WIDTH];
        struct ind_buffer address = ind_buffer_on(text, sizeof text);
        json_t *claim = json_object();
        const struct ind_device *device =
            ind_devices_by_name(config->devices, ind_slice_of(json_string_value(name)));
        json_object_set(claim, "device", name);
        if (device && device->network.address.bits) {
            ind_address_write(&address, &device->network.address);
            json_object_set_new(claim, "configured_at", json_stringn(text, address.length));
        }
        json_array_append_new(array, claim);
    }
    return array;
}

static json_t *strangers_array(const struct ind_config *config, struct rows *rows)
{
    json_t *array = json_array();
    HASH_SORT(rows->strangers, busiest_first);
    for (const struct row *row = rows->strangers; row; row = row->hh.next) {
        json_t *object = json_object();
        json_object_set_new(object, "sender", json_string(row->name));
        json_object_set(object, "hosts", row->hosts);
        json_object_set_new(object, "claims", claims_array(config, row));
        set_number(object, "received", row->ledger.received);
        json_object_set_new(object, "refused", json_boolean(row->refused));
        set_row(object, row);
        json_array_append_new(array, object);
    }
    return array;
}

/* The writer's own: any sheet has them all. */
static json_t *routes_array(const struct ind_ledger_snapshot *sheet)
{
    json_t *array = json_array();
    for (size_t i = 0; i < sheet->route_count; i++) {
        json_t *object = json_object();
        json_object_set_new(object, "route", json_string(sheet->routes[i].name));
        set_number(object, "messages", sheet->routes[i].lines);
        set_number(object, "bytes", sheet->routes[i].bytes);
        set_number(object, "cut", sheet->routes[i].cut);
        json_array_append_new(array, object);
    }
    return array;
}

/* Of all intakes together. */
static json_t *edits_array(const struct ind_collector *collector, const struct ind_ledger_snapshot *sheets)
{
    json_t *array = json_array();
    struct ind_edit_count *all = NULL;
    for (unsigned i = 0; i < collector->intakes; i++)
        ind_edit_counts_add_all(&all, sheets[i].edits);
    for (const struct ind_edit_count *edit = all; edit; edit = edit->hh.next) {
        json_t *object = json_object();
        json_object_set_new(object, "edit", json_string(edit->name));
        set_number(object, "changed", edit->changed);
        set_number(object, "dropped", edit->dropped);
        set_number(object, "dropped_bytes", edit->dropped_bytes);
        json_array_append_new(array, object);
    }
    ind_edit_counts_free(&all);
    return array;
}

/* What edits remember. */
static json_t *remembered_object(const struct ind_collector *collector)
{
    json_t *object = json_object();
    uint64_t entries = 0, evicted = 0;
    if (collector->recalls)
        ind_edit_states_count(collector->recalls, &entries, &evicted);
    set_number(object, "entries", entries);
    set_number(object, "evicted", evicted);
    return object;
}

static json_t *takers_array(const struct ind_ledger_snapshot *sheet)
{
    json_t *array = json_array();
    for (size_t i = 0; i < sheet->taker_count && sheet->takers; i++) {
        const struct ind_sink_count *taker = &sheet->takers[i];
        if (!taker->present && taker->waiting == 0)
            continue;
        json_t *object = json_object();
        json_object_set_new(object, "to", json_string(taker->name));
        json_object_set_new(object, "runs", json_boolean(taker->runs));
        if (taker->process)
            set_number(object, "process", (uint64_t)taker->process);
        set_number(object, "starts", taker->starts);
        set_number(object, "taken", taker->taken);
        set_number(object, "lost", taker->lost);
        set_number(object, "waiting", taker->waiting);
        json_array_append_new(array, object);
    }
    return array;
}

static json_t *files_object(const struct ind_collector *collector)
{
    uint64_t size, room;
    json_t *object = json_object();
    ind_disk_space(ind_store_disk(collector->store), &size, &room);
    json_object_set_new(object, "store", json_string(collector->rules->config->store));
    set_number(object, "live", atomic_load(&collector->live_files));
    set_number(object, "open", atomic_load(&collector->open_files));
    set_number(object, "lines_written", atomic_load(&collector->lines));
    set_number(object, "bytes_written", atomic_load(&collector->bytes));
    set_number(object, "lines_in_overflow", atomic_load(&collector->overflowed));
    set_number(object, "rotated", atomic_load(&collector->rotated_files));
    set_number(object, "compressed", atomic_load(&collector->compressed));
    set_number(object, "removed", atomic_load(&collector->removed));
    set_number(object, "archives", atomic_load(&collector->archives));
    set_number(object, "archive_bytes", atomic_load(&collector->archive_bytes));
    set_number(object, "disk_bytes", size);
    set_number(object, "disk_bytes_free", room);
    return object;
}

static json_t *receivers_array(const struct ind_collector *collector)
{
    json_t *array = json_array();
    for (unsigned i = 0; i < collector->intakes; i++) {
        struct ind_receiver_facts facts;
        json_t *object = json_object();
        ind_receiver_facts(collector->receivers[i], &facts);
        json_object_set_new(object, "longest_pause",
                            json_real(round((double)facts.longest_pause / 1e3) / 1e6));
        set_number(object, "connections", facts.connections);
        set_number(object, "connections_accepted", facts.accepted);
        set_number(object, "connections_turned_away", facts.turned_away);
        set_number(object, "connections_not_allowed", facts.not_allowed);
        set_number(object, "connections_with_bad_counts", facts.bad_counts);
        set_number(object, "connections_too_slow", facts.too_slow);
        json_array_append_new(array, object);
    }
    return array;
}

char *ind_status_text(const struct ind_collector *collector, const struct ind_ledger_snapshot *sheets,
                      ind_time now)
{
    struct rows *rows = calloc(1, sizeof *rows);
    json_t *object = json_object(), *waiting = json_object();
    if (!rows)
        return NULL;
    for (unsigned i = 0; i < collector->intakes; i++)
        add_sheet(rows, collector, i, &sheets[i]);
    settle_received(rows, collector, sheets);
    set_time(object, "now", now);
    set_time(object, "since", collector->began);
    set_number(object, "process", (uint64_t)getpid());
    json_object_set_new(object, "ledger", ledger_object(&rows->total));
    json_object_set_new(object, "listeners", listeners_array(collector, rows));
    json_object_set_new(object, "devices", devices_array(rows));
    json_object_set_new(object, "unknown_senders", strangers_array(collector->rules->config, rows));
    json_object_set_new(object, "edits", edits_array(collector, sheets));
    json_object_set_new(object, "remembered", remembered_object(collector));
    json_object_set_new(object, "routes", routes_array(&sheets[0]));
    json_object_set_new(object, "handed_on", takers_array(&sheets[0]));
    set_number(waiting, "burst_buffer", rows->burst);
    set_number(waiting, "rings", rows->rings);
    set_number(waiting, "files", rows->files);
    json_object_set_new(object, "waiting", waiting);
    json_object_set_new(object, "receivers", receivers_array(collector));
    json_object_set_new(object, "files", files_object(collector));
    char *text = json_dumps(object, JSON_COMPACT);
    json_decref(object);
    free_rows(&rows->devices);
    free_rows(&rows->strangers);
    free(rows);
    return text;
}
