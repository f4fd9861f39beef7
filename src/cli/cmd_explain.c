#include "cli/explain_trap.h"
#include "cli/underline.h"
#include "collect/runtime/clock.h"
#include "core/base/escape.h"
#include "core/ledger/clock_offset.h"

#include <stdlib.h>

enum { NAME_WIDTH = 12 };

static struct {
    char *sender, *received;
    int from, trap;
} given;

static struct poptOption *options(void)
{
    static struct poptOption table[] = {
        {"sender", '\0', POPT_ARG_STRING, &given.sender, 0, "as if it came from this address", "ADDRESS"},
        {"received", '\0', POPT_ARG_STRING, &given.received, 0, "as if it was received then (otherwise: now)",
         "TIME"},
        {"from", '\0', POPT_ARG_NONE, &given.from, 0,
         "messages from files, one per line; - is standard input", NULL},
        {"trap", '\0', POPT_ARG_NONE, &given.trap, 0,
         "the message is a trap of SNMP: its datagram in hexadecimal digits; with --from the files hold one "
         "each",
         NULL},
        POPT_TABLEEND};
    return table;
}

/* ---- For people ---- */

static const char *escaped(struct ind_explaining *run, struct ind_slice text)
{
    return ind_escaped(text, run->room, IND_EXPLAIN_ROOM);
}

/* With something behind it on its line, or (`alone`) without. */
static void heading(const struct ind_explaining *run, const char *name, bool alone)
{
    printf("\n%s%-*s%s%s", run->bold ? IND_BOLD : "", alone ? 0 : NAME_WIDTH - 1, name,
           run->bold ? IND_PLAIN : "", alone ? "\n" : " ");
}

static void row(struct ind_explaining *run, const char *name, struct ind_slice value)
{
    if (value.length)
        printf("  %-*s %s\n", NAME_WIDTH - 3, name, escaped(run, value));
}

static void time_text(ind_time time, char text[IND_TIME_WIDTH + 1])
{
    struct ind_buffer out = ind_buffer_on(text, IND_TIME_WIDTH);
    ind_time_write(&out, time);
    text[out.length] = '\0';
}

static const char *mark_text(unsigned mark)
{
    static const char *const texts[] = {"", ", but its clock was never set",
                                        ", but its clock is not in step with its source now", ""};
    return texts[mark];
}

static void print_times(struct ind_explaining *run, const struct ind_message *message)
{
    char text[IND_TIME_WIDTH + 1];
    if (message->sent != IND_TIME_NONE) {
        time_text(message->sent, text);
        printf("  %-*s %s, written \"%s\"%s\n", NAME_WIDTH - 3, "sent", text,
               escaped(run, message->timestamp), mark_text(message->mark));
    } else if (message->mark == IND_MARK_UPTIME) {
        printf("  %-*s not known: the device tells only how long it has run\n", NAME_WIDTH - 3, "sent");
    }
    if (message->received == IND_TIME_NONE)
        return;
    time_text(message->received, text);
    printf("  %-*s %s", NAME_WIDTH - 3, "received", text);
    if (message->sent != IND_TIME_NONE) {
        char span[48];
        struct ind_buffer out = ind_buffer_on(span, sizeof span - 1);
        ind_time lag = message->received - message->sent;
        ind_span_write(&out, (uint64_t)(lag < 0 ? -lag : lag) / (uint64_t)IND_SECOND);
        span[out.length] = '\0';
        printf(lag < IND_SECOND && lag > -IND_SECOND ? ", the same second"
               : lag < 0                             ? ", %s earlier: the device's clock is ahead"
                                                     : ", %s later",
               span);
    }
    printf("\n");
}

static void print_header(struct ind_explaining *run, const struct ind_explanation *explanation)
{
    const struct ind_message *m = &explanation->message;
    heading(run, "Header", false);
    printf("%s: %s\n", ind_form_name(m->form).at, explanation->form_because);
    if (explanation->malformed_because)
        printf("  %-*s %s: %s\n", NAME_WIDTH - 3, "malformed", ind_malformed_name(m->malformed).at,
               explanation->malformed_because);
    printf("  %-*s %d: %s, %s\n", NAME_WIDTH - 3, "PRI", m->facility * 8 + m->severity,
           ind_facility_name(m->facility).at, ind_severity_name(m->severity).at);
    print_times(run, m);
    row(run, "sequence", m->sequence);
    row(run, "location", m->location);
    row(run, "host", m->host);
    row(run, "app", m->app);
    row(run, "procid", m->procid);
    row(run, "msgid", m->msgid);
    row(run, "data", m->data);
    row(run, "text", m->text);
}

const char *ind_explain_whose(const struct ind_explanation *explanation)
{
    static const char *const texts[] = {
        [IND_WHOSE_SENDER] = "its sender is configured as that",
        [IND_WHOSE_HOST] = "the host it names is configured, and whoever passed it on may speak for it",
        [IND_WHOSE_ORIGIN] = "the address in its structured data \"origin\" is configured",
        [IND_WHOSE_CLAIM] = "no configured device; that is what it calls itself",
        [IND_WHOSE_ADDRESS] = "no configured device, and it names no host: the address of its sender"};
    if (explanation->whose == IND_WHOSE_ADDRESS && explanation->message.sender.length == 0)
        return "no configured device, it names no host, and its sender is not known";
    return texts[explanation->whose];
}

/* The device's, and what edits made of them. */
static void print_labels(struct ind_explaining *run, const struct ind_message *m)
{
    size_t state = 0;
    struct ind_slice name, value;
    for (const char *what = "labels"; ind_message_next_label(m, &state, &name, &value); what = "") {
        printf("  %-*s %s", NAME_WIDTH - 3, what, escaped(run, name));
        printf(" is \"%s\"\n", escaped(run, value));
    }
}

static void print_device(struct ind_explaining *run, const struct ind_explanation *explanation)
{
    const struct ind_message *m = &explanation->message;
    heading(run, "Device", false);
    printf("%s: %s\n", escaped(run, m->device), ind_explain_whose(explanation));
    row(run, "sender", m->sender);
    print_labels(run, m);
}

const struct ind_explain_payload ind_explain_payloads[IND_EXPLAIN_PAYLOADS] = {
    {IND_PAYLOAD_CODE, "event code"},
    {IND_PAYLOAD_CEF, "CEF"},
    {IND_PAYLOAD_LEEF, "LEEF"},
    {IND_PAYLOAD_JSON, "JSON"},
    {IND_PAYLOAD_PAIRS, "key=value"}};

static void print_pattern(struct ind_explaining *run, const struct ind_payload *payload)
{
    if (ind_patterns_count(run->config->patterns) == 0)
        return;
    heading(run, "Pattern", false);
    if (payload->pattern.length == 0)
        printf("none fits; see where they stop: indagator fit 'TEXT'\n");
    else
        printf("%s, %zu field%s\n", escaped(run, payload->pattern), payload->from_pattern,
               payload->from_pattern == 1 ? "" : "s");
    ind_print_fields(payload, 0, payload->from_pattern, NAME_WIDTH - 3, run->room, IND_EXPLAIN_ROOM);
}

static void print_payload(struct ind_explaining *run, const struct ind_payload *payload)
{
    size_t count = payload->count - payload->from_pattern;
    heading(run, "Payload", false);
    if (!payload->kinds) {
        printf("none that is known: plain text\n");
        return;
    }
    const char *between = "";
    for (size_t i = 0; i < IND_EXPLAIN_PAYLOADS; i++)
        if (payload->kinds & ind_explain_payloads[i].kind) {
            printf("%s%s", between, ind_explain_payloads[i].name);
            between = ", then ";
        }
    printf(", %zu field%s%s\n", count, count == 1 ? "" : "s",
           payload->more ? ", and more that are not looked at" : "");
    ind_print_fields(payload, payload->from_pattern, payload->count, NAME_WIDTH - 3, run->room,
                     IND_EXPLAIN_ROOM);
}

/* "severity at least error (it is warning)" */
static void print_reason(struct ind_explaining *run, const struct ind_reason *reason)
{
    if (reason->name.length)
        printf("%s: ", escaped(run, reason->name));
    printf("%s ", escaped(run, reason->test));
    if (reason->present)
        printf("(it is %s)", reason->seen[0] ? reason->seen : "there, with nothing in it");
    else
        printf("(there is none)");
}

static void print_reasons(struct ind_explaining *run, const struct ind_reason *reasons, size_t count,
                          size_t indent)
{
    for (size_t i = 0; i < count; i++) {
        if (i)
            printf("%*s", (int)indent, "");
        print_reason(run, &reasons[i]);
        printf("\n");
    }
    if (count == 0)
        printf("\n");
}

static size_t name_width(const struct ind_explanation *explanation)
{
    size_t width = NAME_WIDTH - 3;
    for (size_t i = 0; i < explanation->condition_count; i++)
        if (strlen(explanation->conditions[i].name) > width)
            width = strlen(explanation->conditions[i].name);
    for (size_t i = 0; i < explanation->edit_count; i++)
        if (strlen(explanation->edits[i].edit->name) > width)
            width = strlen(explanation->edits[i].edit->name);
    for (size_t i = 0; i < explanation->route_count; i++)
        if (strlen(explanation->routes[i].route->name) > width)
            width = strlen(explanation->routes[i].route->name);
    return width < 40 ? width : 40;
}

static void print_conditions(struct ind_explaining *run, const struct ind_explanation *explanation)
{
    int width = (int)name_width(explanation);
    if (explanation->condition_count == 0)
        return;
    heading(run, "Conditions", true);
    for (size_t i = 0; i < explanation->condition_count; i++) {
        const struct ind_condition_verdict *verdict = &explanation->conditions[i];
        printf("  %-*s %-3s  ", width, verdict->name, verdict->holds ? "yes" : "no");
        print_reasons(run, verdict->reasons, verdict->reason_count, (size_t)width + 8);
    }
}

static void print_change(const struct ind_edit_verdict *verdict, const struct ind_explained_change *change)
{
    const char *blank = change->name[0] ? " " : "";
    if (verdict->edit->kind == IND_EDIT_MASK)
        printf("hides %zu place%s in %s", change->places, change->places == 1 ? "" : "s",
               ind_place_name(change->in));
    else if (change->after[0])
        printf("%s%s%s: %s%s%s", ind_place_name(change->in), blank, change->name, change->before,
               change->before[0] ? " -> " : "", change->after);
    else
        printf("%s%s%s is gone", ind_place_name(change->in), blank, change->name);
}

static void print_edits(struct ind_explaining *run, const struct ind_explanation *explanation)
{
    int width = (int)name_width(explanation);
    bool changed = false;
    for (size_t i = 0; i < explanation->edit_count; i++)
        changed |= explanation->edits[i].change_count > 0;
    if (explanation->edit_count == 0)
        return;
    heading(run, "Edits", true);
    if (changed)
        printf("  (the message is shown as they left it)\n");
    for (size_t i = 0; i < explanation->edit_count; i++) {
        const struct ind_edit_verdict *verdict = &explanation->edits[i];
        char what[400];
        struct ind_buffer text = ind_buffer_on(what, sizeof what - 1);
        ind_edit_describe(verdict->edit, &text);
        what[text.length] = '\0';
        printf("  %-*s ", width, verdict->edit->name);
        if (verdict->acts == IND_ACTS_TOO_LATE) {
            printf("not asked: \"%s\" dropped it\n", explanation->dropped->name);
            continue;
        }
        printf("%-3s  ", verdict->acts == IND_ACTS_NOT ? "no" : "yes");
        if (verdict->acts == IND_ACTS_BY_OTHERS)
            printf("%s: messages before it decide\n", what);
        else if (verdict->acts == IND_ACTS_ON_NOTHING)
            printf("%s: there is nothing to change\n", what);
        else if (verdict->acts == IND_ACTS && verdict->edit->kind == IND_EDIT_DROP)
            printf("dropped\n");
        for (size_t k = 0; k < verdict->change_count; k++) {
            printf("%*s", k ? width + 8 : 0, "");
            print_change(verdict, &verdict->changes[k]);
            printf("\n");
        }
        if (verdict->reason_count && verdict->acts != IND_ACTS_NOT)
            printf("%*s", width + 8, "");
        if (verdict->reason_count)
            print_reasons(run, verdict->reasons, verdict->reason_count, (size_t)width + 8);
        else if (verdict->acts == IND_ACTS_NOT)
            printf("\n");
    }
}

static void print_routes(struct ind_explaining *run, const struct ind_explanation *explanation)
{
    int width = (int)name_width(explanation);
    heading(run, "Routes", true);
    for (size_t i = 0; i < explanation->route_count; i++) {
        const struct ind_route_verdict *verdict = &explanation->routes[i];
        printf("  %-*s ", width, verdict->route->name);
        if (verdict->taken == IND_DROPPED) {
            printf("not asked: the edit \"%s\" dropped it\n", explanation->dropped->name);
            continue;
        }
        if (verdict->taken == IND_NOT_ASKED) {
            printf("not asked: \"%s\" took it, and is last\n", verdict->above->name);
            continue;
        }
        if (verdict->taken == IND_NOT_NEEDED) {
            printf("no   only for what no other route takes: \"%s\" took it\n", verdict->above->name);
            continue;
        }
        printf("%-3s  ", verdict->taken == IND_TAKEN ? "yes" : "no");
        if (verdict->taken == IND_TAKEN)
            printf("%s %s\n%*s", verdict->route->to == IND_TO_FILE ? "into" : "to", verdict->path,
                   verdict->reason_count ? width + 8 : 0, "");
        if (explanation->message.original.length == 0)
            printf("nothing to file\n");
        else if (verdict->reason_count || verdict->taken != IND_TAKEN)
            print_reasons(run, verdict->reasons, verdict->reason_count, (size_t)width + 8);
    }
}

static void print_alerts(struct ind_explaining *run, const struct ind_explanation *explanation)
{
    int width = 0;
    for (size_t i = 0; i < explanation->alert_count; i++) {
        const int length = (int)strlen(explanation->alerts[i].rule->name);
        width = length > width ? length : width;
    }
    heading(run, "Alerts", true);
    for (size_t i = 0; i < explanation->alert_count; i++) {
        const struct ind_alert_verdict *verdict = &explanation->alerts[i];
        printf("  %-*s %-3s  ", width, verdict->rule->name, verdict->concerns ? "yes" : "no");
        if (verdict->concerns) {
            char key[512];
            printf("%s%s%s\n", verdict->ends ? "ends it" : "counts", verdict->key[0] ? " for " : "",
                   ind_escaped(ind_slice_of(verdict->key), key, sizeof key));
            if (verdict->reason_count)
                printf("%*s", width + 8, "");
        } else if (verdict->ends) {
            printf("does not end it: ");
        }
        if (verdict->reason_count)
            print_reasons(run, verdict->reasons, verdict->reason_count, (size_t)width + 8);
        else if (!verdict->concerns)
            printf("\n");
    }
}

const char *ind_explain_end(const struct ind_explanation *explanation)
{
    return explanation->message.original.length == 0 ? "refused: empty"
           : !explanation->allowed                   ? "refused: its sender is not under allow:"
           : explanation->dropped                    ? "dropped"
           : explanation->filed                      ? "stored"
           : explanation->taken                      ? "handed on, in no file"
                                                     : "unrouted: no route takes it";
}

static void print_marks(const struct ind_explanation *explanation)
{
    struct ind_underlined_part parts[IND_PARTS];
    int text = -1;
    for (size_t i = 0; i < explanation->part_count; i++) {
        const struct ind_part *part = &explanation->parts[i];
        parts[i] = (struct ind_underlined_part){part->name, part->offset, part->length};
        text = strcmp(part->name, "text") == 0 ? (int)i : text;
    }
    ind_print_underlined(explanation->message.original, parts, explanation->part_count, text,
                         ind_terminal_width(), stdout);
}

static void print_for_people(struct ind_explaining *run, const struct ind_explanation *explanation)
{
    if (run->count++)
        printf("\n\n");
    print_marks(explanation);
    print_header(run, explanation);
    print_device(run, explanation);
    print_edits(run, explanation);
    print_pattern(run, explanation->message.payload);
    print_payload(run, explanation->message.payload);
    print_conditions(run, explanation);
    if (explanation->route_count)
        print_routes(run, explanation);
    if (explanation->alert_count)
        print_alerts(run, explanation);
    heading(run, "It ends", false);
    printf("%s", ind_explain_end(explanation));
    if (explanation->filed && explanation->allowed)
        printf(", in %zu file%s", explanation->filed, explanation->filed == 1 ? "" : "s");
    printf("\n");
}

/* ---- ---- */

static void explain(void *context, struct ind_slice bytes)
{
    struct ind_explaining *run = context;
    const struct ind_explanation *explanation =
        ind_explain(run->explainer, bytes, &run->sender, run->received, run->now);
    (run->json ? ind_explain_print_json : print_for_people)(run, explanation);
}

/* False where it is refused. */
static bool explain_trap(struct ind_explaining *run, struct ind_slice datagram)
{
    struct ind_trap_result result;
    const bool accepted = ind_explain_trap_read(run->trap, datagram, &run->sender, &result);
    if (!run->json)
        ind_explain_trap_print(run->trap, run);
    if (accepted) {
        explain(run, result.message);
    } else if (run->json) {
        json_t *object = json_object();
        json_object_set_new(object, "trap", ind_explain_trap_json(run->trap));
        ind_print_json(object, stdout);
        printf("\n");
        json_decref(object);
    }
    return accepted;
}

/* Each is a datagram. */
static int explain_traps(const struct ind_call *call, struct ind_explaining *run)
{
    int status = IND_EXIT_DONE;
    run->trap = ind_explain_trap_new(run->config);
    if (!run->trap)
        return IND_EXIT_CALL;
    ind_explain_transport(run->explainer, IND_TRANSPORT_TRAP);
    for (size_t i = 0; call->rest[i]; i++) {
        const struct ind_slice datagram = given.from
                                              ? ind_explain_trap_file(run->trap, call->rest[i])
                                              : ind_explain_trap_hex(run->trap, ind_slice_of(call->rest[i]));
        if (datagram.length == 0)
            status = given.from ? IND_EXIT_FAILED : IND_EXIT_CALL;
        else if (!explain_trap(run, datagram) && status == IND_EXIT_DONE)
            status = IND_EXIT_NO;
    }
    return status;
}

static bool read_call(const struct ind_call *call, struct ind_explaining *run)
{
    if (!*call->rest || (!given.from && call->rest[1])) {
        ind_complain(given.from    ? "--from: which files? \"-\" is standard input"
                     : *call->rest ? "one message, in quotes: indagator explain '<34>…'"
                                   : "which message? indagator explain '<34>…', or --from FILE");
        return false;
    }
    if (given.sender && !ind_address_read(ind_slice_of(given.sender), &run->sender)) {
        ind_complain("--sender: \"%s\" is not an address; write one such as 192.0.2.9", given.sender);
        return false;
    }
    if (!ind_moment_option("received", given.received, run->config->zone, false, &run->received))
        return false;
    run->now = run->received != IND_TIME_NONE ? run->received : ind_now();
    if (!given.from || given.sender || given.trap)
        run->received = run->now;
    return true;
}

static int run(struct ind_call *call)
{
    struct ind_loaded loaded;
    if (!ind_load(call, true, &loaded))
        return IND_EXIT_CALL;
    struct ind_explaining run = {.config = loaded.config,
                                 .json = call->json != 0,
                                 .bold = ind_colour(),
                                 .room = malloc(IND_EXPLAIN_ROOM)};
    int status = IND_EXIT_CALL;
    if (read_call(call, &run)) {
        status = IND_EXIT_FAILED;
        run.explainer = ind_explainer_new(loaded.config);
        if (!run.explainer || !run.room) {
            ind_complain("out of memory");
        } else {
            status = given.trap ? explain_traps(call, &run) : IND_EXIT_DONE;
            if (!given.from && !given.trap)
                explain(&run, ind_slice_of(*call->rest));
            for (size_t i = 0; given.from && !given.trap && call->rest[i]; i++)
                status = ind_each_line(call->rest[i], explain, &run) ? status : IND_EXIT_FAILED;
        }
    }
    ind_explainer_free(run.explainer);
    ind_explain_trap_free(run.trap);
    free(run.room);
    ind_loaded_free(&loaded);
    return status;
}

const struct ind_command ind_command_explain = {
    .name = "explain",
    .summary = "how a message is parsed, and which routes take it, step by step",
    .arguments =
        "[-c FILE] [--sender ADDRESS] [--received TIME] MESSAGE | --trap HEX | [--trap] --from FILE…",
    .about =
        "Shows what becomes of a message, and why: the parts of its header, whose it is, what the edits\n"
        "make of it, the fields of its payload, the conditions, and for each route whether it takes it, or "
        "the test that failed\n"
        "and what it saw. Stores nothing. Without a configuration only the message is explained.\n\n"
        "Example:\n"
        "  indagator explain '<189>29: pier1-rtr: Nov 23 04:44:59: %LINK-3-CHANGE: ge0/1 is down'\n",
    .options = options,
    .run = run,
};
