#include "collect/control/about.h"

#include "collect/control/recent.h"
#include "collect/control/rows.h"
#include "core/message/names.h"
#include "json/members.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

enum { MOST_LAST = 8, MOST_NOTES = 64 };

/* What its accounts say, added up. */
struct about {
    const struct ind_status *status;
    const struct ind_device *device; /* NULL: it is none of the configuration's */
    struct ind_slice name;           /* as it is shown, and asked for */
    bool known;
    struct ind_row row;
    bool refused;
    uint64_t then[IND_STATUS_RATES]; /* received by the beginning of each span */
    uint64_t listeners[IND_LISTENER_NAMES];
    uint64_t *routes, other_routes;
    size_t route_count;

    uint64_t noted;
    json_t *addresses, *names, *apps; /* objects: text to messages */
    bool more_addresses, more_names, more_apps;
    struct ind_note_message last[MOST_LAST]; /* the newest first */
    uint16_t last_listener[MOST_LAST];
    size_t last_count;
    json_t *claimants; /* senders that bear its name without a right to it */
};

/* ---- Which accounts are its ---- */

static bool is_its(const struct about *about, const struct ind_account *account)
{
    if (account->kind == IND_ACCOUNT_OTHERS)
        return false;
    if (about->device)
        return account->kind == IND_ACCOUNT_DEVICE && ind_slice_equal(account->device, about->name);
    const bool by_sender = account->sender.length && ind_slice_equal(account->sender, about->name);
    return by_sender ||
           (account->kind == IND_ACCOUNT_STRANGER && ind_slice_equal_nocase(account->device, about->name));
}

static void count_word(json_t *object, struct ind_slice word, uint64_t messages)
{
    json_t *clean = ind_rows_clean(word);
    const char *key = json_string_value(clean);
    if (key)
        json_object_set_new(
            object, key,
            json_integer(json_integer_value(json_object_get(object, key)) + (json_int_t)messages));
    json_decref(clean);
}

/* ---- Notes ---- */

static void add_last(struct about *about, const struct ind_note_message *message, uint16_t listener)
{
    size_t at = about->last_count;
    if (message->length == 0)
        return;
    while (at > 0 && about->last[at - 1].time < message->time)
        at--;
    if (at == MOST_LAST)
        return;
    about->last_count += about->last_count < MOST_LAST;
    for (size_t i = about->last_count - 1; i > at; i--) {
        about->last[i] = about->last[i - 1];
        about->last_listener[i] = about->last_listener[i - 1];
    }
    about->last[at] = *message;
    about->last_listener[at] = listener;
}

static void add_words(json_t *object, const struct ind_note_word *words, unsigned count)
{
    for (unsigned i = 0; i < count; i++)
        count_word(object, (struct ind_slice){words[i].text, words[i].length}, words[i].messages);
}

static void add_note(struct about *about, const struct ind_note *note, uint16_t listener)
{
    char text[IND_ADDRESS_WIDTH];
    about->noted += note->messages;
    about->more_addresses |= note->more_addresses;
    about->more_names |= note->more_names;
    about->more_apps |= note->more_apps;
    for (unsigned i = 0; i < note->address_count; i++) {
        struct ind_buffer buffer = ind_buffer_on(text, sizeof text);
        ind_address_write(&buffer, &note->addresses[i]);
        count_word(about->addresses, ind_buffer_view(&buffer), 0);
    }
    add_words(about->names, note->names, note->name_count);
    add_words(about->apps, note->apps, note->app_count);
    for (unsigned i = 0; i < IND_NOTE_MESSAGES;
         i++) /* the oldest first: of the same time the later one wins */
        add_last(about, &note->last[(note->next + i) % IND_NOTE_MESSAGES], listener);
}

/* ---- Accounts ---- */

static void add_account(struct about *about, unsigned intake, uint32_t number)
{
    const struct ind_status *status = about->status;
    const struct ind_ledger_snapshot *snapshot = &status->snapshots[intake];
    const struct ind_account *account = ind_account_at(status->accounts[intake], number);
    const struct ind_ledger *ledger = &snapshot->ledgers[number];
    struct ind_note note;
    about->known = true;
    about->refused |= account->kind == IND_ACCOUNT_REFUSED;
    ind_row_add(&about->row, ledger, snapshot->last[number], &snapshot->offsets[number]);
    about->listeners[account->listener] += ledger->received;
    for (int i = 0; i < IND_STATUS_RATES; i++)
        about->then[i] += ind_device_rates_received(status->device_rates, status->then[i], intake, number);
    if (status->notes[intake] && ind_notes_of(status->notes[intake], number, &note))
        add_note(about, &note, account->listener);
}

/* The writer has put the shares in the order of accounts. */
static void add_shares(struct about *about, const struct ind_ledger_snapshot *snapshot, uint32_t number,
                       size_t *at)
{
    for (; *at < snapshot->share_count && snapshot->shares[*at].account <= number; ++*at) {
        const struct ind_route_share *share = &snapshot->shares[*at];
        if (share->account != number)
            continue;
        if (share->place < about->route_count)
            about->routes[share->place] += share->messages;
        else
            about->other_routes += share->messages;
    }
}

static void add_intake(struct about *about, unsigned intake)
{
    const struct ind_ledger_snapshot *snapshot = &about->status->snapshots[intake];
    size_t share = 0;
    for (uint32_t i = 0; snapshot->ledgers && i < snapshot->account_count; i++) {
        const struct ind_account *account = ind_account_at(about->status->accounts[intake], i);
        if (is_its(about, account)) {
            add_account(about, intake, i);
            add_shares(about, snapshot, i, &share);
        } else if (about->device && account->kind == IND_ACCOUNT_CLAIMANT &&
                   ind_slice_equal(account->device, about->name)) {
            count_word(about->claimants, account->sender, snapshot->ledgers[i].received);
        }
    }
}

/* ---- As JSON ---- */

static void add_network(void *context, const struct ind_device *device, const struct ind_network *network)
{
    (void)device;
    char text[IND_ADDRESS_WIDTH + 8];
    struct ind_buffer buffer = ind_buffer_on(text, sizeof text);
    if (json_array_size(context) >= MOST_NOTES)
        return;
    ind_network_write(&buffer, network);
    json_array_append_new(context, json_stringn(text, buffer.length));
}

struct host_list {
    json_t *array;
    struct ind_slice but; /* its own name goes without saying */
};

static void add_host(void *context, struct ind_slice name)
{
    struct host_list *list = context;
    if (json_array_size(list->array) < MOST_NOTES && !ind_slice_equal_nocase(name, list->but))
        json_array_append_new(list->array, ind_rows_clean(name));
}

static json_t *configured_object(const struct about *about)
{
    const struct ind_device *device = about->device;
    json_t *object = json_object(), *addresses = json_array(), *hosts = json_array(), *labels = json_object();
    ind_devices_visit_networks(about->status->config->devices, device, add_network, addresses);
    ind_devices_visit_names(about->status->config->devices, device, add_host,
                            &(struct host_list){hosts, about->name});
    for (size_t i = 0; i < device->label_count; i++)
        json_object_set_new(labels, device->labels[i].name, json_string(device->labels[i].value));
    json_object_set_new(object, "addresses", addresses);
    json_object_set_new(object, "hosts", hosts);
    json_object_set_new(object, "labels", labels);
    if (device->zone)
        json_object_set_new(object, "utc_offset",
                            json_integer(ind_zone_offset(device->zone, about->status->now / IND_SECOND)));
    json_object_set_new(object, "relay", json_boolean(device->relay));
    return object;
}

static json_t *rates_array(const struct about *about)
{
    json_t *array = json_array();
    for (int i = 0; i < IND_STATUS_RATES; i++) {
        const double seconds = about->status->then[i].seconds;
        if (seconds <= 0)
            continue;
        json_t *object = json_object();
        json_object_set_new(object, "minutes", json_integer(ind_status_minutes(i)));
        json_object_set_new(object, "seconds", json_real(round(seconds * 10) / 10));
        json_object_set_new(
            object, "messages",
            json_real(round((double)(about->row.ledger.received - about->then[i]) / seconds * 100) / 100));
        json_array_append_new(array, object);
    }
    return array;
}

/* Text to messages, as a list; the most first. */
static json_t *words_array(json_t *words, const char *key)
{
    json_t *array = json_array();
    const char *word;
    const json_t *count;
    json_object_foreach(words, word, count)
    {
        json_t *object = json_object();
        json_object_set_new(object, key, json_string(word));
        json_object_set_new(object, "messages", json_integer(json_integer_value(count)));
        size_t at = 0;
        while (at < json_array_size(array) &&
               json_integer_value(json_object_get(json_array_get(array, at), "messages")) >=
                   json_integer_value(count))
            at++;
        json_array_insert_new(array, at, object);
    }
    return array;
}

static json_t *addresses_array(json_t *addresses)
{
    json_t *array = json_array();
    const char *address;
    const json_t *unused;
    json_object_foreach(addresses, address, unused) json_array_append_new(array, json_string(address));
    return array;
}

static json_t *routes_array(const struct about *about)
{
    const struct ind_route_count *routes = about->status->snapshots[0].routes;
    json_t *array = json_array();
    for (size_t i = 0; routes && about->routes && i < about->route_count; i++) {
        if (about->routes[i] == 0)
            continue;
        json_t *object = json_object();
        json_object_set_new(object, "route", json_string(routes[i].name));
        json_object_set_new(object, "messages", json_integer((json_int_t)about->routes[i]));
        json_array_append_new(array, object);
    }
    return array;
}

static json_t *listeners_array(const struct about *about)
{
    json_t *array = json_array();
    for (uint16_t i = 0; i < about->status->listener_count; i++) {
        if (about->listeners[i] == 0)
            continue;
        json_t *object = json_object();
        const struct ind_status_listener *listener = &about->status->listeners[i];
        json_object_set_new(object, "listener", json_string(listener->name));
        json_object_set_new(object, "at", json_string(listener->at[0] ? listener->at : listener->name));
        json_object_set_new(object, "messages", json_integer((json_int_t)about->listeners[i]));
        json_array_append_new(array, object);
    }
    return array;
}

/* The oldest first, as in a file. */
static json_t *last_array(const struct about *about)
{
    json_t *array = json_array();
    for (size_t i = about->last_count; i-- > 0;)
        json_array_append_new(array,
                              ind_recent_object(about->status, about->last_listener[i], &about->last[i]));
    return array;
}

static void set_notes(json_t *object, struct about *about)
{
    json_object_set_new(object, "noted", json_integer((json_int_t)about->noted));
    json_object_set_new(object, "senders", addresses_array(about->addresses));
    json_object_set_new(object, "names", words_array(about->names, "name"));
    json_object_set_new(object, "apps", words_array(about->apps, "app"));
    json_object_set_new(object, "more_senders", json_boolean(about->more_addresses));
    json_object_set_new(object, "more_names", json_boolean(about->more_names));
    json_object_set_new(object, "more_apps", json_boolean(about->more_apps));
    json_object_set_new(object, "last_messages", last_array(about));
}

static char *as_text(struct about *about)
{
    json_t *object = ind_rows_device(&about->row, about->status->config);
    ind_json_set_time(object, "now", about->status->now);
    ind_json_set_time(object, "began", about->status->began);
    if (about->device)
        json_object_set_new(object, "configured", configured_object(about));
    json_object_set_new(object, "refused_by_allow", json_boolean(about->refused));
    json_object_set_new(object, "severities", ind_rows_severities(&about->row.ledger));
    json_object_set_new(object, "rates", rates_array(about));
    json_object_set_new(object, "listeners", listeners_array(about));
    json_object_set_new(object, "routes", routes_array(about));
    json_object_set_new(object, "taken_by_other_routes", json_integer((json_int_t)about->other_routes));
    json_object_set_new(object, "claimed_by", words_array(about->claimants, "sender"));
    set_notes(object, about);
    char *text = json_dumps(object, JSON_COMPACT | JSON_REAL_PRECISION(15));
    json_decref(object);
    return text;
}

static void find(struct about *about, struct ind_slice asked, char text[IND_ADDRESS_WIDTH])
{
    const struct ind_devices *devices = about->status->config->devices;
    struct ind_address address;
    about->name = asked;
    about->device = ind_devices_by_name(devices, asked);
    if (!about->device && ind_address_read(asked, &address)) {
        struct ind_buffer buffer = ind_buffer_on(text, IND_ADDRESS_WIDTH);
        about->device = ind_devices_by_address(devices, &address);
        ind_address_write(&buffer, &address);
        about->name = ind_buffer_view(&buffer);
    }
    if (about->device) {
        about->name = (struct ind_slice){about->device->name, about->device->name_length};
        about->known = true;
    } else {
        about->name = ind_without_domain(about->name, ind_devices_domain(devices));
    }
    about->row.name = about->name.at;
    about->row.name_length = about->name.length;
    about->row.last = IND_TIME_NONE;
}

char *ind_about_text(const struct ind_status *status, struct ind_slice asked)
{
    char address[IND_ADDRESS_WIDTH], *text = NULL;
    struct about *about = calloc(1, sizeof *about);
    if (!about)
        return NULL;
    about->status = status;
    find(about, asked, address);
    about->route_count = status->snapshots[0].route_count;
    about->routes = calloc(about->route_count + 1, sizeof *about->routes);
    about->addresses = json_object();
    about->names = json_object();
    about->apps = json_object();
    about->claimants = json_object();
    for (unsigned i = 0; about->routes && i < status->intakes; i++)
        add_intake(about, i);
    if (about->known && about->routes)
        text = as_text(about);
    json_decref(about->addresses);
    json_decref(about->names);
    json_decref(about->apps);
    json_decref(about->claimants);
    free(about->routes);
    free(about);
    return text;
}
