#include "cli/answer.h"
#include "cli/cli.h"
#include "cli/control_client.h"
#include "cli/status_tls.h"
#include "cli/table.h"
#include "collect/runtime/clock.h"
#include "core/ledger/clock_offset.h"
#include "core/ledger/ledger.h"

#include <jansson.h>
#include <stdlib.h>

static long given_top = 20;

static struct poptOption *options(void)
{
    static struct poptOption table[] = {{"top", '\0', POPT_ARG_LONG, &given_top, 0,
                                         "so many devices and unknown senders at most; 20 where none is "
                                         "given, 0 for all",
                                         "N"},
                                        POPT_TABLEEND};
    return table;
}

static void span_text(int64_t seconds, char text[40])
{
    struct ind_buffer span = ind_buffer_on(text, 39);
    ind_span_write(&span, (uint64_t)(seconds < 0 ? 0 : seconds));
    text[span.length] = '\0';
}

static void ago_text(const json_t *status, const json_t *object, char text[48])
{
    char span[40];
    ind_time last = ind_answer_time(object, "last");
    if (last == IND_TIME_NONE) {
        snprintf(text, 48, "-");
        return;
    }
    span_text((ind_answer_time(status, "now") - last) / IND_SECOND, span);
    snprintf(text, 48, "%s ago", span);
}

static void heading(const char *text)
{
    bool colour = ind_colour();
    printf("\n%s%s%s\n", colour ? IND_BOLD : "", text, colour ? IND_PLAIN : "");
}

static uint64_t lost_of(const json_t *ledger)
{
    return ind_answer_number(ledger, "lost_buffer") + ind_answer_number(ledger, "lost_disk") +
           ind_answer_number(ledger, "lost_not_taken");
}

static void add_ledger(struct ind_table *table, const char *name, const json_t *ledger)
{
    ind_table_text(table, name);
    ind_table_number(table, ind_answer_number(ledger, "received"));
    ind_table_number(table, ind_answer_number(ledger, "stored"));
    ind_table_number(table, ind_answer_number(ledger, "handed_on"));
    ind_table_number(table, ind_answer_number(ledger, "dropped"));
    ind_table_number(table, ind_answer_number(ledger, "unrouted"));
    ind_table_number(table, ind_answer_number(ledger, "refused_sender") +
                                ind_answer_number(ledger, "refused_empty"));
    ind_table_number(table, lost_of(ledger));
    ind_table_number(table, ind_answer_number(ledger, "waiting"));
}

static void show_ledger(const json_t *status)
{
    static const struct ind_column columns[] = {
        {"listener", false}, {"received", true},         {"stored", true},  {"handed on", true},
        {"dropped", true},   {"unrouted", true},         {"refused", true}, {"lost", true},
        {"waiting", true},   {"dropped by kernel", true}};
    const json_t *total = json_object_get(status, "ledger"), *listener;
    struct ind_table *table = ind_table_new(columns, 10);
    uint64_t dropped = 0;
    size_t i;
    json_array_foreach(json_object_get(status, "listeners"), i, listener)
    {
        add_ledger(table, ind_answer_text(listener, json_object_get(listener, "at") ? "at" : "listener"),
                   listener);
        if (json_object_get(listener, "dropped_by_kernel"))
            ind_table_number(table, ind_answer_number(listener, "dropped_by_kernel"));
        else
            ind_table_text(table, "-");
        dropped += ind_answer_number(listener, "dropped_by_kernel");
    }
    add_ledger(table, "together", total);
    ind_table_number(table, dropped);
    heading("Messages since the start");
    ind_table_print(table, false, stdout);
    ind_table_free(table);
    if (!json_is_true(json_object_get(total, "adds_up")))
        printf("This does not add up: it is a fault of indagator; please report it.\n");
}

/* Only what is out of the ordinary. */
static void show_details(const json_t *status)
{
    static const struct {
        const char *key, *what;
    } details[] = {
        {"refused_sender", "refused, because their sender is not under allow:"},
        {"refused_empty", "refused, because they were empty"},
        {"lost_buffer", "lost, because there was no room for them in memory"},
        {"lost_disk", "lost, because they could not be written"},
        {"lost_not_taken", "lost, because neither a program nor standard output took them"},
        {"malformed", "with a header that is not as its standard says (stored all the same)"},
        {"cut", "longer than the size limit, or broken off (stored as far as they came)"},
        {"gave_up", "times a regular expression or pattern took too long and was taken not to match"}};
    const json_t *total = json_object_get(status, "ledger"), *waiting = json_object_get(status, "waiting");
    char number[32], more[2][32];
    for (size_t i = 0; i < sizeof details / sizeof *details; i++)
        if (ind_answer_number(total, details[i].key))
            printf("%s %s\n", ind_grouped(ind_answer_number(total, details[i].key), number), details[i].what);
    if (ind_answer_number(total, "waiting"))
        printf("waiting: %s in the burst buffer, %s on their way to the writer, %s for their files\n",
               ind_grouped(ind_answer_number(waiting, "burst_buffer"), number),
               ind_grouped(ind_answer_number(waiting, "rings"), more[0]),
               ind_grouped(ind_answer_number(waiting, "files"), more[1]));
}

static void show_routes(const json_t *status)
{
    static const struct ind_column columns[] = {{"route", false}, {"messages", true}, {"size", false}};
    struct ind_table *table = ind_table_new(columns, 3);
    const json_t *route;
    char size[32];
    size_t i;
    json_array_foreach(json_object_get(status, "routes"), i, route)
    {
        ind_table_text(table, ind_answer_text(route, "route"));
        ind_table_number(table, ind_answer_number(route, "messages"));
        ind_table_size(table, ind_answer_number(route, "bytes"));
    }
    heading("Taken by the routes (one that two take counts twice)");
    ind_table_print(table, false, stdout);
    ind_table_free(table);
    json_array_foreach(json_object_get(status, "routes"), i, route) if (ind_answer_number(route, "cut"))
        printf("lines of the route %s longer than 512 KiB, and so cut: %s\n", ind_answer_text(route, "route"),
               ind_grouped(ind_answer_number(route, "cut"), size));
}

static void show_edits(const json_t *status)
{
    static const struct ind_column columns[] = {
        {"edit", false}, {"changed", true}, {"dropped", true}, {"size", false}};
    const json_t *edit, *edits = json_object_get(status, "edits"),
                        *remembered = json_object_get(status, "remembered");
    char size[32];
    size_t i;
    if (json_array_size(edits) == 0)
        return;
    struct ind_table *table = ind_table_new(columns, 4);
    json_array_foreach(edits, i, edit)
    {
        ind_table_text(table, ind_answer_text(edit, "edit"));
        ind_table_number(table, ind_answer_number(edit, "changed"));
        ind_table_number(table, ind_answer_number(edit, "dropped"));
        ind_table_text(table, ind_answer_number(edit, "dropped")
                                  ? ind_size_text(ind_answer_number(edit, "dropped_bytes"), size)
                                  : "");
    }
    heading("Changed and dropped by the edits (one that two change counts twice)");
    ind_table_print(table, false, stdout);
    ind_table_free(table);
    if (ind_answer_number(remembered, "evicted"))
        printf("forgotten for want of room: %s devices or texts; their counts began anew\n",
               ind_grouped(ind_answer_number(remembered, "evicted"), size));
}

static void show_sinks(const json_t *status)
{
    static const struct ind_column columns[] = {{"program", false}, {"process", false}, {"starts", true},
                                                {"taken", true},    {"lost", true},     {"waiting", true}};
    const json_t *taker, *takers = json_object_get(status, "handed_on");
    char process[32];
    size_t i;
    if (json_array_size(takers) == 0)
        return;
    struct ind_table *table = ind_table_new(columns, 6);
    json_array_foreach(takers, i, taker)
    {
        bool runs = json_is_true(json_object_get(taker, "runs"));
        snprintf(process, sizeof process, "%llu", (unsigned long long)ind_answer_number(taker, "process"));
        ind_table_text(table, ind_answer_text(taker, "to"));
        ind_table_text(table, !runs ? "none" : ind_answer_number(taker, "process") ? process : "-");
        ind_table_number(table, ind_answer_number(taker, "starts"));
        ind_table_number(table, ind_answer_number(taker, "taken"));
        ind_table_number(table, ind_answer_number(taker, "lost"));
        ind_table_number(table, ind_answer_number(taker, "waiting"));
    }
    heading("Handed on to programs and standard output");
    ind_table_print(table, false, stdout);
    ind_table_free(table);
}

/* "rfc3164", or "rfc5424 12, bare 3" of a device that sends more than one. */
static void forms_text(const json_t *device, char *text, size_t room)
{
    const char *name, *between = "";
    json_t *forms = json_object_get(device, "formats"), *count;
    struct ind_buffer out = ind_buffer_on(text, room - 1);
    uint64_t all = 0;
    json_object_foreach(forms, name, count) all += (uint64_t)json_integer_value(count);
    json_object_foreach(forms, name, count)
    {
        uint64_t some = (uint64_t)json_integer_value(count);
        if (some == 0)
            continue;
        ind_buffer_text(&out, between);
        ind_buffer_text(&out, name);
        if (some < all) {
            ind_buffer_byte(&out, ' ');
            ind_buffer_number(&out, some);
        }
        between = ", ";
    }
    ind_buffer_text(&out, all ? "" : "-");
    text[out.length] = '\0';
}

static void show_devices(const json_t *status)
{
    static const struct ind_column columns[] = {
        {"device", false},   {"received", true}, {"stored", true},        {"dropped", true},   {"lost", true},
        {"malformed", true}, {"format", false},  {"last message", false}, {"its clock", false}};
    const json_t *devices = json_object_get(status, "devices"), *device;
    struct ind_table *table = ind_table_new(columns, 9);
    char last[48], forms[120];
    size_t i;
    json_array_foreach(devices, i, device)
    {
        if (given_top > 0 && i >= (size_t)given_top)
            break;
        ago_text(status, device, last);
        forms_text(device, forms, sizeof forms);
        ind_table_text(table, ind_answer_text(device, "device"));
        ind_table_number(table, ind_answer_number(device, "received"));
        ind_table_number(table, ind_answer_number(device, "stored"));
        ind_table_number(table, ind_answer_number(device, "dropped"));
        ind_table_number(table, lost_of(device));
        ind_table_number(table, ind_answer_number(device, "malformed"));
        ind_table_text(table, forms);
        ind_table_text(table, last);
        ind_table_text(table, ind_answer_text(device, "clock"));
    }
    heading("Devices");
    ind_table_print(table, false, stdout);
    ind_table_free(table);
    if (given_top > 0 && json_array_size(devices) > (size_t)given_top)
        printf("and %zu more: --top 0 shows all\n", json_array_size(devices) - (size_t)given_top);
}

/* A name as YAML can have it bare: as the configuration wants names of devices anyway. */
static void print_name(const char *name)
{
    for (; *name; name++)
        putchar(ind_is_alpha(*name) || ind_is_digit(*name) || strchr("-_.", *name) ? *name : '_');
}

static void print_device(const json_t *stranger)
{
    enum { LIKE_A_RELAY = 3 };
    const json_t *hosts = json_object_get(stranger, "hosts");
    bool relay = json_array_size(hosts) >= LIKE_A_RELAY,
         v6 = strchr(ind_answer_text(stranger, "sender"), ':') != NULL;
    printf("  - name: ");
    if (!relay && json_array_size(hosts) > 0)
        print_name(json_string_value(json_array_get(hosts, 0)));
    else
        printf("%s-", relay ? "relay" : "device");
    if (relay || json_array_size(hosts) == 0)
        print_name(ind_answer_text(stranger, "sender"));
    printf("\n    address: %s%s%s\n", v6 ? "\"" : "", ind_answer_text(stranger, "sender"), v6 ? "\"" : "");
    if (relay)
        printf("    relay: yes                 # it speaks for several: %s, %s, %s…\n",
               json_string_value(json_array_get(hosts, 0)), json_string_value(json_array_get(hosts, 1)),
               json_string_value(json_array_get(hosts, 2)));
}

/* Names of configured devices are not theirs: unless it is a relay, something is wrong. */
static void show_claims(const json_t *stranger)
{
    const json_t *claims = json_object_get(stranger, "claims"), *claim;
    size_t i;
    json_array_foreach(claims, i, claim)
    {
        const char *at = ind_answer_text(claim, "configured_at");
        printf("    calls itself ");
        print_name(ind_answer_text(claim, "device"));
        printf(", which is configured%s%s: filed as its own\n", *at ? " at " : "", at);
    }
}

static void show_silent(const json_t *status)
{
    static const struct ind_column columns[] = {{"device", false}, {"last message", false}};
    const json_t *devices = json_object_get(status, "silent_devices"), *device;
    struct ind_table *table = ind_table_new(columns, 2);
    size_t i, count = json_array_size(devices);
    char last[48];
    if (count)
        heading("Silent devices (configured, and nothing for an hour or since the start)");
    json_array_foreach(devices, i, device)
    {
        if (given_top > 0 && i >= (size_t)given_top)
            break;
        ago_text(status, device, last);
        ind_table_text(table, ind_answer_text(device, "device"));
        ind_table_text(table,
                       ind_answer_time(device, "last") == IND_TIME_NONE ? "none since the start" : last);
    }
    if (count)
        ind_table_print(table, false, stdout);
    ind_table_free(table);
    if (given_top > 0 && count > (size_t)given_top)
        printf("and %zu more: --top 0 shows all\n", count - (size_t)given_top);
}

static void show_strangers(const json_t *status)
{
    const json_t *strangers = json_object_get(status, "unknown_senders"), *stranger;
    char number[32], last[48];
    bool refused = false;
    size_t i, count = json_array_size(strangers);
    size_t shown = given_top > 0 && count > (size_t)given_top ? (size_t)given_top : count;
    if (count == 0)
        return;
    heading("Unknown senders");
    json_array_foreach(strangers, i, stranger)
    {
        if (i == shown)
            break;
        ago_text(status, stranger, last);
        printf("%s: %s message%s, the last %s%s\n", ind_answer_text(stranger, "sender"),
               ind_grouped(ind_answer_number(stranger, "received"), number),
               ind_answer_number(stranger, "received") == 1 ? "" : "s", last,
               json_is_true(json_object_get(stranger, "refused")) ? "; refused: not under allow:" : "");
        refused |= json_is_true(json_object_get(stranger, "refused"));
        show_claims(stranger);
    }
    if (shown < count)
        printf("and %zu more: --top 0 shows all\n", count - shown);
    printf("To know them, add to the configuration%s, then send the collector a SIGHUP:\n\ndevices:\n",
           refused ? " (and the refused ones' networks to allow:)" : "");
    json_array_foreach(strangers, i, stranger)
    {
        if (i == shown)
            break;
        print_device(stranger);
    }
}

/* File systems that are mounted into the store. */
static void print_mounted(const json_t *mounted)
{
    char size[2][32];
    const json_t *one;
    size_t i;
    json_array_foreach(mounted, i, one)
    {
        printf("the file system at %s has %s, of which %s are free\n",
               json_string_value(json_object_get(one, "folder")),
               ind_size_text(ind_answer_number(one, "disk_bytes"), size[0]),
               ind_size_text(ind_answer_number(one, "disk_bytes_free"), size[1]));
    }
}

static void show_files(const json_t *status)
{
    const json_t *files = json_object_get(status, "files"), *receiver;
    char number[6][32], size[4][32];
    uint64_t connections = 0, bad = 0, slow = 0, late = 0;
    const json_t *door = json_object_get(status, "connections");
    uint64_t away = ind_answer_number(door, "turned_away") + ind_answer_number(door, "not_allowed");
    double pause = 0;
    size_t i;
    json_array_foreach(json_object_get(status, "receivers"), i, receiver)
    {
        double own = json_real_value(json_object_get(receiver, "longest_pause"));
        pause = own > pause ? own : pause;
        connections += ind_answer_number(receiver, "connections");
        bad += ind_answer_number(receiver, "connections_with_bad_counts");
        slow += ind_answer_number(receiver, "connections_too_slow");
        late += ind_answer_number(receiver, "connections_unfinished") +
                ind_answer_number(receiver, "connections_idle");
    }
    heading("Files and connections");
    printf("%s live files, %s archives of %s; %s rotated, %s compressed, %s removed since the start\n",
           ind_grouped(ind_answer_number(files, "live"), number[0]),
           ind_grouped(ind_answer_number(files, "archives"), number[1]),
           ind_size_text(ind_answer_number(files, "archive_bytes"), size[0]),
           ind_grouped(ind_answer_number(files, "rotated"), number[2]),
           ind_grouped(ind_answer_number(files, "compressed"), number[3]),
           ind_grouped(ind_answer_number(files, "removed"), number[4]));
    printf("%s written; the disk has %s, of which %s are free\n",
           ind_size_text(ind_answer_number(files, "bytes_written"), size[1]),
           ind_size_text(ind_answer_number(files, "disk_bytes"), size[2]),
           ind_size_text(ind_answer_number(files, "disk_bytes_free"), size[3]));
    print_mounted(json_object_get(files, "mounted"));
    printf("%s connections are open", ind_grouped(connections, number[0]));
    if (away)
        printf("; %s were turned away", ind_grouped(away, number[1]));
    if (bad)
        printf("; %s ended for a bad octet count", ind_grouped(bad, number[2]));
    if (slow)
        printf("; %s ended for want of room for half messages", ind_grouped(slow, number[3]));
    if (late)
        printf("; %s ended for a message that did not end, or for silence", ind_grouped(late, number[4]));
    printf("\nthe sockets were left alone for %.1f ms at most\n", pause * 1000);
}

static void show(const json_t *status)
{
    char span[40];
    span_text((ind_answer_time(status, "now") - ind_answer_time(status, "since")) / IND_SECOND, span);
    printf("indagator, process %llu, runs since %.19sZ (%s), store %s\n",
           (unsigned long long)ind_answer_number(status, "process"), ind_answer_text(status, "since"), span,
           ind_answer_text(json_object_get(status, "files"), "store"));
    const char *trouble = ind_answer_text(json_object_get(status, "files"), "trouble");
    if (*trouble)
        printf("%sNot well: %s%s\n", ind_colour() ? IND_BOLD : "", trouble, ind_colour() ? IND_PLAIN : "");
    if (json_object_get(status, "as_of"))
        printf("The numbers are of %.19sZ: the writer cannot be asked just now.\n",
               ind_answer_text(status, "as_of"));
    if (!json_object_get(status, "ledger"))
        return;
    show_ledger(status);
    show_details(status);
    show_edits(status);
    show_routes(status);
    show_sinks(status);
    show_devices(status);
    show_silent(status);
    ind_show_tls(status, given_top > 0 ? (size_t)given_top : 0);
    show_files(status);
    show_strangers(status);
}

static int print_answer(enum ind_control_client_result asked, const char *text, bool as_json)
{
    json_error_t error;
    json_t *status = asked == IND_CONTROL_CLIENT_ANSWERED && text ? json_loads(text, 0, &error) : NULL;
    if (!status) {
        ind_complain("the collector gave no answer that can be read: %s", text ? text : "none");
        return IND_EXIT_FAILED;
    }
    if (as_json)
        printf("%s\n", text);
    else
        show(status);
    json_decref(status);
    return IND_EXIT_DONE;
}

static int run(struct ind_call *call)
{
    struct ind_loaded loaded;
    char *text = NULL;
    if (*call->rest) {
        ind_complain("status takes no arguments, but \"%s\" was given", *call->rest);
        return IND_EXIT_CALL;
    }
    if (!ind_load(call, false, &loaded))
        return IND_EXIT_CALL;
    int status = IND_EXIT_FAILED;
    enum ind_control_client_result asked = ind_control_client_ask(loaded.config, false, "/status", &text);
    if (asked == IND_CONTROL_CLIENT_NOBODY)
        ind_tell_nobody(loaded.config);
    else
        status = print_answer(asked, text, call->json);
    free(text);
    ind_loaded_free(&loaded);
    return status;
}

const struct ind_command ind_command_status = {
    .name = "status",
    .summary = "the running collector's ledger, devices, and unknown senders",
    .arguments = "[-c FILE] [--top N]",
    .about =
        "Asks the running collector what became of every message since its start. Received is the sum of\n"
        "stored (in a file), handed on (to a program, and in no file), dropped (by an edit), unrouted (no\n"
        "route took it), refused (not under allow:, or empty), lost (no room, disk, not taken) and waiting.\n"
        "Tells who sends, who is silent, whose clock is off, and gives a devices: block for senders that "
        "the\n"
        "configuration does not name.\n\n"
        "Example:\n"
        "  indagator status -c indagator.yaml\n",
    .options = options,
    .run = run,
};
