#include "cli/status_view.h"

#include "cli/cli.h"
#include "cli/status_relays.h"
#include "cli/terminal.h"
#include "collect/control/roll_call.h"
#include "core/ledger/clock_offset.h"
#include "net/tls.h"

#include <stdio.h>
#include <string.h>

void ind_status_span(int64_t time, char text[40])
{
    struct ind_buffer span = ind_buffer_on(text, 39);
    ind_span_write(&span, (uint64_t)(time < 0 ? 0 : time / IND_SECOND));
    text[span.length] = '\0';
}

void ind_status_ago(const json_t *status, const json_t *object, char text[48])
{
    char span[40];
    ind_time last = ind_answer_time(object, "last");
    if (last == IND_TIME_NONE) {
        snprintf(text, 48, "-");
        return;
    }
    ind_status_span(ind_answer_time(status, "now") - last, span);
    snprintf(text, 48, "%s ago", span);
}

void ind_status_heading(const char *text)
{
    bool colour = ind_colour();
    printf("\n%s%s%s\n", colour ? IND_BOLD : "", text, colour ? IND_PLAIN : "");
}

uint64_t ind_status_lost(const json_t *ledger)
{
    return ind_answer_number(ledger, "lost_buffer") + ind_answer_number(ledger, "lost_disk") +
           ind_answer_number(ledger, "lost_not_taken");
}

void ind_status_add_ledger(struct ind_table *table, const json_t *ledger)
{
    ind_table_number(table, ind_answer_number(ledger, "received"));
    ind_table_number(table, ind_answer_number(ledger, "stored"));
    ind_table_number(table, ind_answer_number(ledger, "handed_on"));
    ind_table_number(table, ind_answer_number(ledger, "dropped"));
    ind_table_number(table, ind_answer_number(ledger, "unrouted"));
    ind_table_number(table, ind_answer_number(ledger, "refused_sender") +
                                ind_answer_number(ledger, "refused_empty") +
                                ind_answer_number(ledger, "refused_trap"));
    ind_table_number(table, ind_status_lost(ledger));
    ind_table_number(table, ind_answer_number(ledger, "waiting"));
}

/* ---- Whether all is well ---- */

struct telling {
    ind_tell_summary *tell;
    void *context;
};

static void line(const struct telling *telling, enum ind_summary_kind kind, const char *text)
{
    telling->tell(telling->context, kind, text);
}

/* The names of a list, the first few of them. */
static void add_names(struct ind_buffer *out, const json_t *list, const char *key)
{
    enum { MOST = 4 };
    const json_t *one;
    size_t i;
    json_array_foreach(list, i, one)
    {
        if (i == MOST)
            break;
        ind_buffer_text(out, i ? ", " : ": ");
        ind_buffer_text(out, ind_answer_text(one, key));
    }
    if (json_array_size(list) > MOST)
        ind_buffer_text(out, ", …");
}

/* What is not wrong now, but asks for somebody. */
struct thing {
    size_t count;
    const char *one, *many;
    json_t *list; /* whose names are told; NULL: none */
    const char *key;
};

static void say(const struct telling *telling, const struct thing *thing)
{
    char text[400], number[32];
    struct ind_buffer out = ind_buffer_on(text, sizeof text - 1);
    ind_buffer_text(&out, ind_grouped(thing->count, number));
    ind_buffer_byte(&out, ' ');
    ind_buffer_text(&out, thing->count == 1 ? thing->one : thing->many);
    if (thing->list)
        add_names(&out, thing->list, thing->key);
    text[out.length] = '\0';
    line(telling, IND_SUMMARY_LOOK, text);
}

/* New: of the devices, or senders, those of which it is true. */
static json_t *those(const json_t *list, bool (*is)(const json_t *one))
{
    json_t *found = json_array(), *one;
    size_t i;
    json_array_foreach(list, i, one) if (is(one)) json_array_append(found, one);
    return found;
}

/* Soon after the start nobody can say whether a device that was not heard is silent. */
static bool is_silent_for_long(const json_t *status, const json_t *device)
{
    const ind_time since = ind_answer_time(status, "since"), now = ind_answer_time(status, "now");
    return json_object_get(device, "last") || now - since >= IND_SILENT_AFTER * IND_SECOND;
}

bool ind_status_has_wrong_clock(const json_t *device)
{
    const char *clock = ind_answer_text(device, "clock");
    return *clock && strcmp(clock, "right") != 0 && strcmp(clock, "-") != 0;
}

bool ind_status_is_refused(const json_t *sender)
{
    return json_is_true(json_object_get(sender, "refused"));
}

static size_t count_ending(const json_t *status)
{
    const json_t *listener, *end;
    size_t count = 0, i, n;
    json_array_foreach(json_object_get(status, "listeners"), i, listener)
        json_array_foreach(json_object_get(listener, "certificates"), n, end) count +=
        ind_tls_expires_soon(ind_answer_time(end, "ends"), ind_answer_time(status, "now"));
    return count;
}

/* New. */
static json_t *silent_for_long(const json_t *status)
{
    json_t *silent = json_array(), *device;
    size_t i;
    json_array_foreach(json_object_get(status, "silent_devices"), i,
                       device) if (is_silent_for_long(status, device)) json_array_append(silent, device);
    return silent;
}

static size_t count_dropped(const json_t *status)
{
    const json_t *listener;
    size_t dropped = 0, i;
    json_array_foreach(json_object_get(status, "listeners"), i, listener) dropped +=
        (size_t)ind_answer_number(listener, "dropped_by_kernel");
    return dropped;
}

/* Behind the word that all works, or with `well` and nothing to look at, that all is well. */
static void advise(const struct telling *telling, const json_t *status, bool well)
{
    json_t *clocks = those(json_object_get(status, "devices"), ind_status_has_wrong_clock),
           *refused = those(json_object_get(status, "unknown_senders"), ind_status_is_refused),
           *cut_off = those(json_object_get(status, "relays"), ind_relay_is_cut_off),
           *not_taken = those(json_object_get(status, "taken_from"), ind_taker_is_down),
           *lagging = those(json_object_get(status, "relays"), ind_relay_lags),
           *lossy = those(json_object_get(status, "relays"), ind_relay_has_lost),
           *silent = silent_for_long(status);
    const struct thing things[] = {
        {(size_t)ind_status_lost(json_object_get(status, "ledger")), "message has been lost since the start",
         "messages have been lost since the start", NULL, NULL},
        {count_dropped(status), "datagram was dropped by the kernel since the start",
         "datagrams were dropped by the kernel since the start", NULL, NULL},
        {count_ending(status), "certificate ends within thirty days: put a new one in its place, and reload",
         "certificates end within thirty days: put new ones in their place, and reload", NULL, NULL},
        {json_array_size(cut_off), "relay has no target that answers: what is for it waits",
         "relays have no target that answers: what is for them waits", cut_off, "relay"},
        {json_array_size(not_taken), "message system cannot be taken from",
         "message systems cannot be taken from", not_taken, "listener"},
        {json_array_size(lagging), "relay lags by more than a minute", "relays lag by more than a minute",
         lagging, "relay"},
        {json_array_size(lossy), "relay could not keep, or pass on, everything",
         "relays could not keep, or pass on, everything", lossy, "relay"},
        {json_array_size(silent), "configured device is silent", "configured devices are silent", silent,
         "device"},
        {json_array_size(clocks), "device has a clock that is off", "devices have clocks that are off",
         clocks, "device"},
        {json_array_size(refused), "sender is refused (not under allow)",
         "senders are refused (not under allow)", refused, "sender"},
    };
    const size_t count = sizeof things / sizeof *things;
    const uint64_t alerts = ind_answer_number(json_object_get(status, "alerts"), "open");
    char number[32], text[100];
    bool any = false;
    for (size_t i = 0; i < count; i++)
        any |= things[i].count > 0;
    if (well)
        line(telling, IND_SUMMARY_WELL, any || alerts ? "All works" : "All is well");
    if (alerts) {
        snprintf(text, sizeof text, "%s %s open: indagator alerts list", ind_grouped(alerts, number),
                 alerts == 1 ? "alert is" : "alerts are");
        line(telling, IND_SUMMARY_ALERTS, text);
    }
    for (size_t i = 0; i < count; i++)
        if (things[i].count > 0)
            say(telling, &things[i]);
    json_decref(silent);
    json_decref(cut_off);
    json_decref(not_taken);
    json_decref(lagging);
    json_decref(lossy);
    json_decref(clocks);
    json_decref(refused);
}

/* "12.3 messages/s in the last minute, 10.1 in 5, 9.8 in 15". */
static void show_rates(const json_t *status)
{
    const json_t *rates = json_object_get(status, "rates"), *rate;
    size_t i;
    json_array_foreach(rates, i, rate)
    {
        double seconds = json_number_value(json_object_get(rate, "seconds"));
        double wanted = 60 * (double)ind_answer_number(rate, "minutes");
        if (i > 0 && seconds < wanted / 3) /* it has not run for so long: the same once more */
            break;
        printf("%s%.1f", i ? ", " : "", json_number_value(json_object_get(rate, "messages")));
        printf(i == 0 ? " messages/s in the last minute" : " in %llu",
               (unsigned long long)ind_answer_number(rate, "minutes"));
    }
    if (json_array_size(rates))
        printf("\n");
}

void ind_status_summary(const json_t *status, ind_tell_summary *tell, void *context)
{
    const struct telling telling = {tell, context};
    const json_t *reasons = json_object_get(status, "not_well"), *reason;
    const char *trouble = ind_answer_text(json_object_get(status, "files"), "trouble");
    bool asked = !json_object_get(status, "as_of"); /* otherwise only the trouble is of now */
    size_t i, bad = 0;
    if (!asked && *trouble) {
        line(&telling, IND_SUMMARY_BAD, trouble);
        bad++;
    }
    json_array_foreach(reasons, i, reason) if (asked)
    {
        line(&telling, IND_SUMMARY_BAD, ind_answer_text(reason, "text"));
        bad++;
    }
    advise(&telling, status, bad == 0 && json_object_get(status, "ledger"));
}

/* A word in colour says the same as the word. */
static void print_line(void *context, enum ind_summary_kind kind, const char *text)
{
    static const struct {
        const char *colour, *word;
    } kinds[] = {[IND_SUMMARY_WELL] = {IND_GREEN, ""},
                 [IND_SUMMARY_BAD] = {IND_RED, "Not well"},
                 [IND_SUMMARY_ALERTS] = {IND_RED, "Look at"},
                 [IND_SUMMARY_LOOK] = {IND_YELLOW, "Look at"}};
    const bool coloured = ind_colour(), well = kind == IND_SUMMARY_WELL;
    (void)context;
    printf("%s%s%s%s%s\n", coloured ? kinds[kind].colour : "", well ? text : kinds[kind].word,
           coloured ? IND_PLAIN : "", well ? "" : ": ", well ? "" : text);
}

void ind_show_summary(const json_t *status)
{
    ind_status_summary(status, print_line, NULL);
    show_rates(status);
}
