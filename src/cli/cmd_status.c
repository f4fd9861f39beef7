#include "cli/answer.h"
#include "cli/cli.h"
#include "cli/control_client.h"
#include "cli/status_alerts.h"
#include "cli/status_all.h"
#include "cli/status_device.h"
#include "cli/status_relays.h"
#include "cli/status_tls.h"
#include "cli/status_view.h"
#include "cli/table.h"
#include "cli/terminal.h"
#include "collect/runtime/clock.h"
#include "core/ledger/clock_offset.h"
#include "core/ledger/ledger.h"

#include <jansson.h>
#include <stdlib.h>
#include <time.h>

static long given_top = 20, given_watch;
static int given_all;

static struct poptOption *options(void)
{
    static struct poptOption table[] = {{"top", '\0', POPT_ARG_LONG, &given_top, 0,
                                         "so many devices and unknown senders at most; 20 where none is "
                                         "given, 0 for all",
                                         "N"},
                                        {"watch", '\0', POPT_ARG_LONG, &given_watch, 0,
                                         "shows it again every so many seconds, until it is interrupted",
                                         "N"},
                                        {"all", '\0', POPT_ARG_NONE, &given_all, 0,
                                         "the collectors that serve at these addresses, together", NULL},
                                        POPT_TABLEEND};
    return table;
}

static void show_ledger(const json_t *status)
{
    static const struct ind_column columns[] = {
        {"listener", false}, {"received", true}, {"stored", true}, {"handed on", true}, {"dropped", true},
        {"unrouted", true},  {"refused", true},  {"lost", true},   {"waiting", true},   {"by kernel", true}};
    const json_t *total = json_object_get(status, "ledger"), *listener;
    struct ind_table *table = ind_table_new(columns, 10);
    uint64_t dropped = 0;
    size_t i;
    json_array_foreach(json_object_get(status, "listeners"), i, listener)
    {
        ind_table_text(table, ind_answer_text(listener, json_object_get(listener, "at") ? "at" : "listener"));
        ind_status_add_ledger(table, listener);
        if (json_object_get(listener, "dropped_by_kernel"))
            ind_table_number(table, ind_answer_number(listener, "dropped_by_kernel"));
        else
            ind_table_text(table, "-");
        dropped += ind_answer_number(listener, "dropped_by_kernel");
    }
    ind_table_text(table, "together");
    ind_status_add_ledger(table, total);
    ind_table_number(table, dropped);
    ind_status_heading("Messages since the start");
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
        {"refused_trap", "refused, because they were no traps that are accepted (trap-refused says why)"},
        {"lost_buffer", "lost, because there was no room for them in memory"},
        {"lost_disk", "lost, because they could not be written"},
        {"lost_not_taken", "lost, because no program, relay or standard output took them"},
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

/* Of those that were looked at: all, where little comes. */
static void show_patterns(const json_t *patterns)
{
    enum { APPS = 3 };
    const uint64_t all = ind_answer_number(patterns, "looked_at"),
                   unfit = ind_answer_number(patterns, "unfit");
    const json_t *app;
    char number[2][32];
    size_t i;
    if (unfit == 0)
        return;
    printf("no pattern fits %s of %s messages that were looked at (%.0f %%):", ind_grouped(unfit, number[0]),
           ind_grouped(all, number[1]), 100.0 * (double)unfit / (double)all);
    json_array_foreach(json_object_get(patterns, "apps"), i, app)
    {
        const char *name = ind_answer_text(app, "app");
        if (i < APPS)
            printf("%s %s of %s", i ? "," : "", ind_grouped(ind_answer_number(app, "unfit"), number[0]),
                   *name ? name : "no app");
    }
    printf("; \"indagator learn --since 7d\" proposes some\n");
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
    ind_status_heading("Taken by the routes (one that two take counts twice)");
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
    ind_status_heading("Changed and dropped by the edits (one that two change counts twice)");
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
    ind_status_heading("Handed on to programs and standard output");
    ind_table_print(table, false, stdout);
    ind_table_free(table);
}

/* The end of a line on a file system. */
static void print_days(const json_t *disk)
{
    const json_t *days = json_object_get(disk, "full_in_days");
    if (json_is_number(days) && json_number_value(days) < 3650)
        printf("; full in %.1f days as it goes on", json_number_value(days));
    printf("\n");
}

/* File systems that are mounted into the store. */
static void print_mounted(const json_t *mounted)
{
    char size[2][32];
    const json_t *one;
    size_t i;
    json_array_foreach(mounted, i, one)
    {
        printf("the file system at %s has %s, of which %s are free",
               json_string_value(json_object_get(one, "folder")),
               ind_size_text(ind_answer_number(one, "disk_bytes"), size[0]),
               ind_size_text(ind_answer_number(one, "disk_bytes_free"), size[1]));
        print_days(one);
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
    ind_status_heading("Files and connections");
    printf("%s live files, %s archives of %s; %s rotated, %s compressed, %s removed since the start\n",
           ind_grouped(ind_answer_number(files, "live"), number[0]),
           ind_grouped(ind_answer_number(files, "archives"), number[1]),
           ind_size_text(ind_answer_number(files, "archive_bytes"), size[0]),
           ind_grouped(ind_answer_number(files, "rotated"), number[2]),
           ind_grouped(ind_answer_number(files, "compressed"), number[3]),
           ind_grouped(ind_answer_number(files, "removed"), number[4]));
    if (ind_answer_number(files, "protected_archives"))
        printf("%s archives are protected: no rule removes them\n",
               ind_grouped(ind_answer_number(files, "protected_archives"), number[0]));
    if (ind_answer_number(files, "archives_to_copy"))
        printf("%s archives wait for the second place, and stay here until they are there\n",
               ind_grouped(ind_answer_number(files, "archives_to_copy"), number[0]));
    if (json_is_true(json_object_get(files, "catalog_failed")))
        printf("the catalog cannot be written: see the message catalog-failed\n");
    else if (ind_answer_number(files, "archives_to_count"))
        printf("%s archives are still to be counted for the catalog\n",
               ind_grouped(ind_answer_number(files, "archives_to_count"), number[0]));
    printf("%s written; the disk has %s, of which %s are free",
           ind_size_text(ind_answer_number(files, "bytes_written"), size[1]),
           ind_size_text(ind_answer_number(files, "disk_bytes"), size[2]),
           ind_size_text(ind_answer_number(files, "disk_bytes_free"), size[3]));
    print_days(files);
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
    const size_t most = given_top > 0 ? (size_t)given_top : 0;
    ind_show_summary(status);
    ind_status_span(ind_answer_time(status, "now") - ind_answer_time(status, "since"), span);
    printf("indagator, process %llu, runs since %.19sZ (%s), store %s\n",
           (unsigned long long)ind_answer_number(status, "process"), ind_answer_text(status, "since"), span,
           ind_answer_text(json_object_get(status, "files"), "store"));
    if (json_object_get(status, "as_of"))
        printf("The numbers are of %.19sZ: the writer cannot be asked just now.\n",
               ind_answer_text(status, "as_of"));
    if (!json_object_get(status, "ledger"))
        return;
    show_ledger(status);
    show_details(status);
    show_patterns(json_object_get(status, "patterns"));
    show_edits(status);
    show_routes(status);
    show_sinks(status);
    ind_show_relays(status);
    ind_show_takers(status);
    ind_show_alerts(status);
    ind_show_devices(status, most);
    ind_show_tls(status, most);
    show_files(status);
    ind_show_strangers(status, most);
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

/* Addresses, at least one. */
static int ask_all(const char *const *urls, bool json)
{
    if (!*urls) {
        ind_complain(
            "status --all: of which collectors? give their addresses, such as http://192.0.2.31:8514");
        return IND_EXIT_CALL;
    }
    return ind_status_all(urls, json);
}

static int ask_once(const struct ind_config *config, const char *device, bool json)
{
    if (device)
        return ind_status_device(config, device, json);
    char *text = NULL;
    int status = IND_EXIT_FAILED;
    enum ind_control_client_result asked = ind_control_client_ask(config, false, "/status", &text);
    if (asked == IND_CONTROL_CLIENT_NOBODY)
        ind_tell_nobody(config);
    else
        status = print_answer(asked, text, json);
    free(text);
    return status;
}

/* A collector that ends and comes back is waited for. */
static int watch(const struct ind_config *config, const char *device, bool json)
{
    const struct timespec pause = {given_watch, 0};
    bool terminal = ind_goes_to_terminal(stdout);
    for (;;) {
        if (terminal && !json)
            printf(IND_CLEAR_SCREEN);
        int status = ask_once(config, device, json);
        if (!terminal && !json)
            printf("\n");
        if (fflush(stdout) != 0 || nanosleep(&pause, NULL) != 0)
            return status;
    }
}

static int run(struct ind_call *call)
{
    struct ind_loaded loaded;
    if (given_all)
        return ask_all(call->rest, call->json);
    if (*call->rest && call->rest[1]) {
        ind_complain("status takes one device at most, but \"%s\" was given as well", call->rest[1]);
        return IND_EXIT_CALL;
    }
    if (*call->rest && !**call->rest) {
        ind_complain("status: which device? its name is empty");
        return IND_EXIT_CALL;
    }
    if (given_watch < 0 || given_watch > 86400) {
        ind_complain("--watch takes a number of seconds, up to a day");
        return IND_EXIT_CALL;
    }
    if (!ind_load(call, false, &loaded))
        return IND_EXIT_CALL;
    int status = given_watch ? watch(loaded.config, *call->rest, call->json)
                             : ask_once(loaded.config, *call->rest, call->json);
    ind_loaded_free(&loaded);
    return status;
}

const struct ind_command ind_command_status = {
    .name = "status",
    .summary = "the running collector's ledger, devices, and unknown senders",
    .arguments = "[-c FILE] [--top N] [--watch N] [DEVICE | --all URL…]",
    .about =
        "Asks the running collector what became of every message since its start. Received is the sum of\n"
        "stored (in a file), handed on (to a program or relay, and in no file), dropped (by an edit), "
        "unrouted (no\n"
        "route took it), refused (not under allow:, or empty), lost (no room, disk, not taken) and waiting.\n"
        "The first lines say whether all is well, what is not, and what somebody should look at. Devices\n"
        "with trouble come first; for senders that the configuration does not name there is a devices:\n"
        "block to copy. With --all and what several collectors serve: each of them, and whether what was\n"
        "passed on through a message system has been stored, by its origin. With the name or address of a "
        "device: all that is known of that one, its last\n"
        "messages too.\n\n"
        "Example:\n"
        "  indagator status -c indagator.yaml\n"
        "  indagator status -c indagator.yaml pier1-rtr\n"
        "  indagator status --all http://192.0.2.31:8514 http://192.0.2.41:8514\n",
    .options = options,
    .run = run,
};
