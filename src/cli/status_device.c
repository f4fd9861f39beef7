#include "cli/status_device.h"

#include "cli/control_client.h"
#include "cli/plain_line.h"
#include "cli/status_view.h"
#include "cli/table.h"
#include "cli/terminal.h"
#include "collect/control/roll_call.h"
#include "core/ledger/ledger.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { MARGIN = 14 };

/* ---- Rows of a name and what there is to say ---- */

/* "name          first, second, third", broken before the terminal's end. */
struct row {
    size_t width, at;
    bool any;
};

static struct row begin_row(const char *name)
{
    printf("%-*s", MARGIN, name);
    return (struct row){ind_terminal_width(), MARGIN, false};
}

static void add_to_row(struct row *row, const char *text)
{
    const size_t length = strlen(text);
    if (row->any && row->at + 2 + length > row->width) {
        printf(",\n%*s", MARGIN, "");
        row->at = MARGIN;
    } else if (row->any) {
        printf(", ");
        row->at += 2;
    }
    printf("%s", text);
    row->at += length;
    row->any = true;
}

static void end_row(const struct row *row)
{
    printf("%s\n", row->any ? "" : "-");
}

/* Texts of a list; nothing where it is empty. */
static void show_texts(const char *name, const json_t *list, bool more)
{
    const json_t *text;
    size_t i;
    if (json_array_size(list) == 0)
        return;
    struct row row = begin_row(name);
    json_array_foreach(list, i, text) add_to_row(&row, json_string_value(text));
    if (more)
        add_to_row(&row, "and others");
    end_row(&row);
}

/* Words with how many messages bear them: of those that were looked at. */
static void show_words(const char *name, const json_t *list, const char *key, bool more)
{
    const json_t *word;
    char number[32], text[400];
    size_t i;
    if (json_array_size(list) == 0)
        return;
    struct row row = begin_row(name);
    json_array_foreach(list, i, word)
    {
        snprintf(text, sizeof text, "%s (%s)", ind_answer_text(word, key),
                 ind_grouped(ind_answer_number(word, "messages"), number));
        add_to_row(&row, text);
    }
    if (more)
        add_to_row(&row, "and others");
    end_row(&row);
}

/* ---- Who it is ---- */

static bool is_silent(const json_t *device)
{
    const json_t *configured = json_object_get(device, "configured");
    const ind_time last = ind_answer_time(device, "last"), now = ind_answer_time(device, "now");
    const ind_time since = last != IND_TIME_NONE ? last : ind_answer_time(device, "began");
    return configured && !json_is_true(json_object_get(configured, "relay")) &&
           now - since >= IND_SILENT_AFTER * IND_SECOND;
}

static void show_head(const json_t *device)
{
    const bool colour = ind_colour(), silent = is_silent(device);
    const uint64_t lost = ind_status_lost(device);
    char ago[48], number[32];
    const char *trouble = lost || silent || ind_status_has_wrong_clock(device) ? IND_YELLOW : IND_BOLD;
    const bool heard = ind_answer_time(device, "last") != IND_TIME_NONE;
    ind_status_ago(device, device, ago);
    printf("%s%s%s: %s%s%s", colour ? trouble : "", ind_answer_text(device, "device"),
           colour ? IND_PLAIN : "", silent ? "silent; " : "",
           heard ? "the last message " : "nothing has come from it since the start", heard ? ago : "");
    if (lost)
        printf("; %s messages lost", ind_grouped(lost, number));
    if (ind_status_has_wrong_clock(device))
        printf("; its clock is wrong");
    if (json_is_true(json_object_get(device, "refused_by_allow")))
        printf("; refused: not under allow:");
    printf("\n\n");
}

static void show_labels(const json_t *labels)
{
    const char *name;
    const json_t *value;
    char text[600];
    if (json_object_size(labels) == 0)
        return;
    struct row row = begin_row("labels");
    json_object_foreach((json_t *)(uintptr_t)labels, name, value)
    {
        snprintf(text, sizeof text, "%s %s", name, json_string_value(value));
        add_to_row(&row, text);
    }
    end_row(&row);
}

static void show_configured(const json_t *device)
{
    const json_t *configured = json_object_get(device, "configured");
    if (!configured) {
        printf("%-*sno; \"indagator status\" gives a block for devices:\n", MARGIN, "configured");
        return;
    }
    printf("%-*syes%s\n", MARGIN, "configured",
           json_is_true(json_object_get(configured, "relay")) ? ", as a relay" : "");
    show_texts("at", json_object_get(configured, "addresses"), false);
    show_texts("with names", json_object_get(configured, "hosts"), false);
    show_labels(json_object_get(configured, "labels"));
    if (json_object_get(configured, "utc_offset")) {
        const long long offset = json_integer_value(json_object_get(configured, "utc_offset"));
        const long long minutes = (offset < 0 ? -offset : offset) / 60;
        printf("%-*sUTC%c%02lld:%02lld at present\n", MARGIN, "zone", offset < 0 ? '-' : '+', minutes / 60,
               minutes % 60);
    }
}

/* ---- What it sends ---- */

static void show_rates(const json_t *device)
{
    const json_t *rate;
    char text[80], span[40];
    size_t i;
    struct row row = begin_row("messages/s");
    json_array_foreach(json_object_get(device, "rates"), i, rate)
    {
        const double seconds = json_number_value(json_object_get(rate, "seconds"));
        const bool whole = seconds >= 60.0 * (double)ind_answer_number(rate, "minutes");
        ind_status_span((int64_t)(seconds * 1e9), span);
        snprintf(text, sizeof text, "%.*f in the last %s%s",
                 json_number_value(json_object_get(rate, "messages")) < 10 ? 2 : 0,
                 json_number_value(json_object_get(rate, "messages")), span,
                 whole ? "" : ", since the start");
        add_to_row(&row, text);
        if (!whole)
            break;
    }
    end_row(&row);
}

static void show_heard(const json_t *device)
{
    const uint64_t noted = ind_answer_number(device, "noted"),
                   received = ind_answer_number(device, "received");
    char number[2][32], text[256];
    show_texts("heard from", json_object_get(device, "senders"),
               json_is_true(json_object_get(device, "more_senders")));
    show_words("calls itself", json_object_get(device, "names"), "name",
               json_is_true(json_object_get(device, "more_names")));
    show_words("apps", json_object_get(device, "apps"), "app",
               json_is_true(json_object_get(device, "more_apps")));
    if (noted > 0 && noted < received)
        printf("%-*s(of %s messages that were looked at, of %s)\n", MARGIN, "", ind_grouped(noted, number[0]),
               ind_grouped(received, number[1]));
    ind_status_forms(device, text, sizeof text);
    printf("%-*s%s\n", MARGIN, "form", text);
    printf("%-*s%s\n", MARGIN, "clock",
           *ind_answer_text(device, "clock") ? ind_answer_text(device, "clock") : "-");
    show_rates(device);
    show_words("listeners", json_object_get(device, "listeners"), "at", false);
    show_words("claimed by", json_object_get(device, "claimed_by"), "sender", false);
}

static void show_ends(const json_t *device)
{
    static const struct ind_column columns[] = {{"received", true}, {"stored", true},   {"handed on", true},
                                                {"dropped", true},  {"unrouted", true}, {"refused", true},
                                                {"lost", true},     {"waiting", true},  {"malformed", true}};
    struct ind_table *table = ind_table_new(columns, sizeof columns / sizeof *columns);
    ind_status_add_ledger(table, device);
    ind_table_number(table, ind_answer_number(device, "malformed"));
    ind_status_heading("Messages since the start");
    ind_table_print(table, false, stdout);
    ind_table_free(table);
}

static void show_severities(const json_t *device)
{
    enum { BAR = 40 };
    json_t *severities = json_object_get(device, "severities"), *count;
    const char *name;
    char number[32];
    uint64_t most = 0, all = 0;
    json_object_foreach(severities, name, count)
    {
        const uint64_t some = (uint64_t)json_integer_value(count);
        most = some > most ? some : most;
        all += some;
    }
    if (all == 0)
        return;
    ind_status_heading("By severity");
    json_object_foreach(severities, name, count)
    {
        const uint64_t some = (uint64_t)json_integer_value(count);
        const char *colour = ind_severity_colour(name);
        if (some == 0)
            continue;
        printf("%s%-10s%s %12s %5.1f %%  ", colour, name, *colour ? IND_PLAIN : "", ind_grouped(some, number),
               100.0 * (double)some / (double)all);
        for (uint64_t i = 0; i < 1 + some * (BAR - 1) / most; i++)
            putchar('#');
        putchar('\n');
    }
}

static void show_routes(const json_t *device)
{
    static const struct ind_column columns[] = {{"route", false}, {"messages", true}};
    const json_t *routes = json_object_get(device, "routes"), *route;
    const uint64_t others = ind_answer_number(device, "taken_by_other_routes");
    size_t i;
    if (json_array_size(routes) == 0 && others == 0)
        return;
    struct ind_table *table = ind_table_new(columns, 2);
    json_array_foreach(routes, i, route)
    {
        ind_table_text(table, ind_answer_text(route, "route"));
        ind_table_number(table, ind_answer_number(route, "messages"));
    }
    if (others) {
        ind_table_text(table, "(others)");
        ind_table_number(table, others);
    }
    ind_status_heading("Taken by the routes (one that two routes take counts twice)");
    ind_table_print(table, false, stdout);
    ind_table_free(table);
}

/* ---- The last messages ---- */

static void show_last(const json_t *device)
{
    const json_t *last = json_object_get(device, "last_messages"), *message;
    size_t i;
    if (json_array_size(last) == 0)
        return;
    ind_status_heading("The last messages, as the edits left them");
    json_array_foreach(last, i, message) ind_print_plain(message, false, 0, ind_terminal_width());
}

static void show(const json_t *device)
{
    show_head(device);
    show_configured(device);
    show_heard(device);
    show_ends(device);
    show_severities(device);
    show_routes(device);
    show_last(device);
}

int ind_status_device(const struct ind_config *config, const char *name, bool json)
{
    char *query = ind_query_text(name), *text = NULL, path[2048];
    snprintf(path, sizeof path, "/device?name=%s", query ? query : "");
    free(query);
    enum ind_control_client_result asked = ind_control_client_ask(config, false, path, &text);
    int status = IND_EXIT_FAILED;
    json_t *device = asked == IND_CONTROL_CLIENT_ANSWERED && text ? json_loads(text, 0, NULL) : NULL;
    if (asked == IND_CONTROL_CLIENT_NOBODY) {
        ind_tell_nobody(config);
    } else if (!device) {
        const bool unknown = text && strstr(text, "nothing is known") != NULL;
        if (unknown)
            ind_complain("nothing is known of \"%s\": it is no configured device, and no sender has that "
                         "address or name; \"indagator status\" lists those there are",
                         name);
        else
            ind_complain("the collector gave no answer that can be read: %s", text ? text : "none");
        status = unknown ? IND_EXIT_NO : IND_EXIT_FAILED;
    } else if (json) {
        printf("%s\n", text);
        status = IND_EXIT_DONE;
    } else {
        show(device);
        status = IND_EXIT_DONE;
    }
    json_decref(device);
    free(text);
    return status;
}
