#include "cli/cli.h"
#include "cli/lines.h"
#include "cli/table.h"
#include "cli/underline.h"
#include "core/alert/letter.h"
#include "core/base/escape.h"
#include "trial/rehearse.h"
#include "json/members.h"

#include <jansson.h>
#include <stdlib.h>

enum { ROOM = 8 * IND_EXAMPLE_TEXT };

static struct {
    char *against;
    struct ind_line_options lines;
} given;

static struct poptOption *options(void)
{
    static struct poptOption table[] = {{"against", '\0', POPT_ARG_STRING, &given.against, 0,
                                         "compare with the rules of this configuration", "OTHER.yaml"},
                                        IND_LINE_OPTIONS(given.lines),
                                        POPT_TABLEEND};
    return table;
}

/* What is printed, and how. */
struct printing {
    const struct ind_config *config;
    const struct ind_rehearsal *rehearsal;
    const char *here, *there; /* the configurations */
    bool bold;
    char room[ROOM];
};

/* ---- For people ---- */

static int by_messages(const void *a, const void *b)
{
    const struct ind_note_word *one = a, *other = b;
    return (one->messages < other->messages) - (one->messages > other->messages);
}

/* In the order of their counts. */
static struct ind_notes_unfit sorted(const struct ind_rehearsal *rehearsal)
{
    struct ind_notes_unfit unfit = rehearsal->unmatched_apps;
    qsort(unfit.apps, unfit.app_count, sizeof *unfit.apps, by_messages);
    return unfit;
}

static void print_unmatched(const struct ind_rehearsal *rehearsal)
{
    enum { APPS = 3 };
    char number[32], room[512];
    const struct ind_notes_unfit unfit = sorted(rehearsal);
    printf("Without a pattern: %s", ind_grouped(rehearsal->unmatched, number));
    for (unsigned i = 0; i < unfit.app_count && i < APPS; i++)
        printf(
            "%s%s of %s", i ? ", " : ": ", ind_grouped(unfit.apps[i].messages, number),
            unfit.apps[i].length
                ? ind_escaped((struct ind_slice){unfit.apps[i].text, unfit.apps[i].length}, room, sizeof room)
                : "no app");
    printf(unfit.app_count ? "; \"indagator learn\" on the same files proposes some.\n" : ".\n");
}

static void heading(const struct printing *print, const char *text)
{
    printf("\n%s%s%s\n", print->bold ? IND_BOLD : "", text, print->bold ? IND_PLAIN : "");
}

static const char *shown(struct printing *print, struct ind_slice text)
{
    return ind_escaped(text, print->room, sizeof print->room);
}

static void add_end(struct ind_table *table, uint64_t messages, const char *bytes, const char *what)
{
    ind_table_number(table, messages);
    ind_table_text(table, bytes);
    ind_table_text(table, what);
}

static uint64_t dropped_bytes(const struct ind_rehearsal *rehearsal)
{
    uint64_t sum = 0;
    for (size_t i = 0; i < rehearsal->edit_count; i++)
        sum += rehearsal->edits[i].dropped_bytes;
    return sum;
}

static void print_ledger(struct printing *print)
{
    static const struct ind_column columns[] = {
        {"messages", true}, {"size", false}, {"what becomes of them", false}};
    const struct ind_rehearsal *r = print->rehearsal;
    struct ind_table *table = ind_table_new(columns, 3);
    char size[32];
    add_end(table, r->ledger.received, ind_size_text(r->ledger.bytes, size), "received");
    for (int end = 0; end < IND_ENDS; end++) {
        bool always = end == IND_END_STORED || end == IND_END_DROPPED || end == IND_END_UNROUTED;
        if (!always && r->ledger.ended[end] == 0)
            continue;
        const char *bytes = end == IND_END_STORED    ? ind_size_text(r->line_bytes, size)
                            : end == IND_END_DROPPED ? ind_size_text(dropped_bytes(r), size)
                                                     : "";
        add_end(table, r->ledger.ended[end], bytes, ind_end_name((enum ind_end)end));
    }
    ind_table_print(table, false, stdout);
    ind_table_free(table);
    printf("\n%s",
           r->adds_up ? "This adds up" : "This does not add up: this is a fault of ours; please report it");
    if (r->ledger.bytes)
        printf("; what is filed is %.0f %% of what was received",
               100.0 * (double)r->line_bytes / (double)r->ledger.bytes);
    printf(".\n");
    if (r->internal)
        printf("Of those received, %s are our own: they report what edits dropped.\n",
               ind_grouped(r->internal, size));
    if (ind_patterns_count(print->config->patterns) > 0)
        print_unmatched(r);
    if (r->ledger.malformed)
        printf("Malformed: %s.\n", ind_grouped(r->ledger.malformed, size));
    if (r->ledger.cut)
        printf("Cut at the size limit: %s.\n", ind_grouped(r->ledger.cut, size));
}

static void print_edits(const struct printing *print)
{
    static const struct ind_column columns[] = {
        {"edit", false}, {"changed", true}, {"dropped", true}, {"size", false}, {"what it does", false}};
    const struct ind_rehearsal *r = print->rehearsal;
    char size[32], what[200];
    if (r->edit_count == 0)
        return;
    struct ind_table *table = ind_table_new(columns, 5);
    for (size_t i = 0; i < r->edit_count; i++) {
        const struct ind_rehearsed_edit *edit = &r->edits[i];
        struct ind_buffer text = ind_buffer_on(what, sizeof what - 1);
        ind_edit_describe(edit->edit, &text);
        what[text.length] = '\0';
        ind_table_text(table, edit->edit->name);
        ind_table_number(table, edit->changed);
        ind_table_number(table, edit->dropped);
        ind_table_text(table, edit->dropped ? ind_size_text(edit->dropped_bytes, size) : "");
        ind_table_text(table, what);
    }
    heading(print, "The edits (a message that two change counts twice)");
    ind_table_print(table, false, stdout);
    ind_table_free(table);
}

static void print_routes(const struct printing *print)
{
    static const struct ind_column columns[] = {
        {"route", false}, {"messages", true}, {"size", false}, {"to", false}};
    const struct ind_rehearsal *r = print->rehearsal;
    struct ind_table *table = ind_table_new(columns, 4);
    char size[32], to[IND_PATH + 1];
    for (size_t i = 0; i < r->route_count; i++) {
        struct ind_buffer text = ind_buffer_on(to, sizeof to - 1);
        ind_route_describe(r->routes[i].route, &text);
        to[text.length] = '\0';
        ind_table_text(table, r->routes[i].route->name);
        ind_table_number(table, r->routes[i].messages);
        ind_table_size(table, r->routes[i].bytes);
        ind_table_text(table, to);
    }
    heading(print, "The routes (a message that two take counts twice)");
    ind_table_print(table, false, stdout);
    ind_table_free(table);
    for (size_t i = 0; i < r->route_count; i++)
        if (r->routes[i].cut)
            printf("lines of the route %s longer than 512 KiB, and so cut: %s\n", r->routes[i].route->name,
                   ind_grouped(r->routes[i].cut, size));
}

static void raised_time(const struct printing *print, struct ind_table *table, ind_time time)
{
    char text[40];
    struct ind_buffer out = ind_buffer_on(text, sizeof text - 1);
    if (time == IND_TIME_NONE)
        ind_buffer_byte(&out, '-');
    else
        ind_alert_time_write(time, print->config->zone, &out);
    text[out.length] = '\0';
    ind_table_text(table, text);
}

/* The first ones there are. */
static void print_alerts(struct printing *print)
{
    enum { SHOWN = 20 };
    static const struct ind_column columns[] = {
        {"opened", false}, {"over", false}, {"alert", false}, {"key", false}, {"messages", true}};
    const struct ind_raised_alerts *raised = &print->rehearsal->alerts;
    char number[32];
    if (print->config->alerts.count == 0)
        return;
    heading(print, "Alerts, by the times of the messages, as if nobody had acknowledged any");
    struct ind_table *table = ind_table_new(columns, 5);
    for (size_t i = 0; i < raised->count && i < SHOWN; i++) {
        const struct ind_raised_alert *one = &raised->list[i];
        raised_time(print, table, one->opened);
        raised_time(print, table, one->over);
        ind_table_text(table, one->rule->name);
        ind_table_text(table, one->key[0] ? shown(print, ind_slice_of(one->key)) : "-");
        ind_table_number(table, one->messages);
    }
    if (raised->count)
        ind_table_print(table, false, stdout);
    else
        printf("none\n");
    ind_table_free(table);
    if (raised->count > SHOWN)
        printf("and %s more; --json has them all\n", ind_grouped(raised->count - SHOWN, number));
    if (raised->left_out)
        printf("%s causes or alerts had no room: some may be missing\n",
               ind_grouped(raised->left_out, number));
}

/* With what a mask put there marked. */
static void print_marked(const struct ind_example *example)
{
    struct ind_underlined_part parts[IND_EXAMPLE_MARKS];
    for (size_t i = 0; i < example->mark_count; i++)
        parts[i] = (struct ind_underlined_part){"", example->marks[i].from,
                                                example->marks[i].to - example->marks[i].from};
    ind_print_indented(example->after, parts, example->mark_count, 4, ind_terminal_width(), stdout);
}

static void print_change(struct printing *print, const struct ind_example *example)
{
    printf("  %s", shown(print, example->device));
    printf(", %s", ind_place_name(example->in));
    if (example->name.length)
        printf(" %s", shown(print, example->name));
    printf("%s\n", example->after.length ? ":" : example->before.length ? ", is gone:" : ":");
    if (example->before.length)
        printf("  - %s\n", shown(print, example->before));
    if (example->mark_count)
        print_marked(example);
    else if (example->after.length)
        printf("  + %s\n", shown(print, example->after));
}

static void print_lines(const struct ind_examples *examples)
{
    for (size_t i = 0; i < examples->count; i++)
        ind_print_begun(examples->list[i].after, 2, ind_terminal_width(), stdout);
}

static void print_examples(struct printing *print)
{
    const struct ind_rehearsal *r = print->rehearsal;
    char text[400];
    for (size_t i = 0; i < r->edit_count; i++) {
        const struct ind_rehearsed_edit *edit = &r->edits[i];
        snprintf(text, sizeof text, "Changed by the edit %s", edit->edit->name);
        if (edit->changes.count)
            heading(print, text);
        for (size_t k = 0; k < edit->changes.count; k++)
            print_change(print, &edit->changes.list[k]);
        snprintf(text, sizeof text, "Dropped by the edit %s", edit->edit->name);
        if (edit->drops.count)
            heading(print, text);
        print_lines(&edit->drops);
    }
    for (size_t i = 0; i < r->route_count; i++) {
        snprintf(text, sizeof text, "Taken by the route %s", r->routes[i].route->name);
        if (r->routes[i].examples.count)
            heading(print, text);
        print_lines(&r->routes[i].examples);
    }
    if (r->unrouted.count)
        heading(print, "Unrouted");
    print_lines(&r->unrouted);
    if (r->unmatched_examples.count)
        heading(print, "Without a pattern");
    print_lines(&r->unmatched_examples);
}

/* ---- Two sets of rules ---- */

static void print_difference(const struct printing *print, const struct ind_difference *difference)
{
    char number[32];
    printf("\n%s message%s\n  %s: %s\n  %s: %s\n", ind_grouped(difference->messages, number),
           difference->messages == 1 ? "" : "s", print->here, difference->here, print->there,
           difference->there);
    for (size_t i = 0; i < difference->examples.count; i++) {
        const struct ind_example *example = &difference->examples.list[i];
        if (difference->kind == IND_OTHER_LINES)
            ind_print_both(example->before, example->after, ind_terminal_width(), stdout);
        else
            ind_print_begun(difference->kind == IND_ONLY_DROPPED_HERE ? example->after : example->before, 4,
                            ind_terminal_width(), stdout);
    }
}

static void print_differences(struct printing *print)
{
    static const char *const names[IND_DIFFERENCES] = {
        "dropped only by %s",          "dropped only by %s",         "dropped by another edit",
        "taken by routes of %s only",  "taken by routes of %s only", "into other files",
        "other text in the same files"};
    static const struct ind_column columns[] = {{"messages", true}, {"what is different", false}};
    const struct ind_rehearsal *r = print->rehearsal;
    char number[32], all[32], text[300];
    printf("%s of %s messages would end differently by the rules of %s.\n", ind_grouped(r->different, number),
           ind_grouped(r->ledger.received - r->internal, all), print->there);
    if (r->different == 0)
        return;
    struct ind_table *table = ind_table_new(columns, 2);
    for (int kind = 0; kind < IND_DIFFERENCES; kind++) {
        uint64_t messages = 0;
        bool here = kind == IND_ONLY_DROPPED_HERE || kind == IND_ONLY_ROUTED_HERE;
        for (size_t i = 0; i < r->difference_count; i++)
            messages += (int)r->differences[i].kind == kind ? r->differences[i].messages : 0;
        const char *mark = strstr(names[kind], "%s");
        snprintf(text, sizeof text, "%.*s%s%s", mark ? (int)(mark - names[kind]) : (int)strlen(names[kind]),
                 names[kind],
                 !mark  ? ""
                 : here ? print->here
                        : print->there,
                 mark ? mark + 2 : "");
        ind_table_number(table, messages);
        ind_table_text(table, text);
    }
    printf("\n");
    ind_table_print(table, false, stdout);
    ind_table_free(table);
    for (size_t i = 0; i < r->difference_count; i++)
        print_difference(print, &r->differences[i]);
}

/* ---- For scripts ---- */

static json_t *text_json(struct printing *print, struct ind_slice text)
{
    struct ind_buffer out = ind_buffer_on(print->room, sizeof print->room);
    ind_escape_shown(&out, text);
    return json_stringn(print->room, out.length);
}

static json_t *lines_json(struct printing *print, const struct ind_examples *examples)
{
    json_t *list = json_array();
    for (size_t i = 0; i < examples->count; i++)
        json_array_append_new(list, text_json(print, examples->list[i].after));
    return list;
}

static json_t *changes_json(struct printing *print, const struct ind_examples *examples)
{
    json_t *list = json_array();
    for (size_t i = 0; i < examples->count; i++) {
        const struct ind_example *example = &examples->list[i];
        json_t *object = json_object(), *marks = json_array();
        json_object_set_new(object, "device", text_json(print, example->device));
        json_object_set_new(object, "in", json_string(ind_place_name(example->in)));
        if (example->name.length)
            json_object_set_new(object, "name", text_json(print, example->name));
        if (example->before.length)
            json_object_set_new(object, "before", text_json(print, example->before));
        json_object_set_new(object, "after", text_json(print, example->after));
        for (size_t k = 0; k < example->mark_count; k++)
            json_array_append_new(marks,
                                  json_pack("[ii]", (int)example->marks[k].from, (int)example->marks[k].to));
        if (example->mark_count)
            json_object_set(object, "marks", marks);
        json_decref(marks);
        json_array_append_new(list, object);
    }
    return list;
}

static json_t *ledger_json(const struct ind_rehearsal *r)
{
    json_t *ledger = json_object();
    ind_json_set_number(ledger, "received", r->ledger.received);
    ind_json_set_number(ledger, "bytes", r->ledger.bytes);
    for (int end = 0; end < IND_ENDS; end++)
        ind_json_set_number(ledger, ind_end_key((enum ind_end)end), r->ledger.ended[end]);
    json_object_set_new(ledger, "adds_up", json_boolean(r->adds_up));
    ind_json_set_number(ledger, "own", r->internal);
    ind_json_set_number(ledger, "malformed", r->ledger.malformed);
    ind_json_set_number(ledger, "cut", r->ledger.cut);
    ind_json_set_number(ledger, "gave_up", r->ledger.gave_up);
    return ledger;
}

static json_t *alerts_json(struct printing *print)
{
    const struct ind_raised_alerts *raised = &print->rehearsal->alerts;
    json_t *list = json_array();
    for (size_t i = 0; i < raised->count; i++) {
        const struct ind_raised_alert *one = &raised->list[i];
        json_t *object = json_object();
        json_object_set_new(object, "alert", json_string(one->rule->name));
        json_object_set_new(object, "key", text_json(print, ind_slice_of(one->key)));
        ind_json_set_time(object, "opened", one->opened);
        ind_json_set_time(object, "over", one->over);
        ind_json_set_number(object, "messages", one->messages);
        ind_json_set_number(object, "reopened", one->reopened);
        json_array_append_new(list, object);
    }
    return list;
}

static json_t *differences_json(struct printing *print)
{
    const struct ind_rehearsal *r = print->rehearsal;
    json_t *list = json_array();
    for (size_t i = 0; i < r->difference_count; i++) {
        const struct ind_difference *difference = &r->differences[i];
        json_t *object = json_object(), *examples = json_array();
        json_object_set_new(object, "difference", json_string(ind_difference_key(difference->kind)));
        ind_json_set_number(object, "messages", difference->messages);
        json_object_set_new(object, "here", json_string(difference->here));
        json_object_set_new(object, "there", json_string(difference->there));
        for (size_t k = 0; k < difference->examples.count; k++) {
            json_t *example = json_object();
            json_object_set_new(example, "here", text_json(print, difference->examples.list[k].before));
            json_object_set_new(example, "there", text_json(print, difference->examples.list[k].after));
            json_array_append_new(examples, example);
        }
        json_object_set_new(object, "examples", examples);
        json_array_append_new(list, object);
    }
    return list;
}

static json_t *edits_json(struct printing *print)
{
    const struct ind_rehearsal *r = print->rehearsal;
    json_t *list = json_array();
    for (size_t i = 0; i < r->edit_count; i++) {
        const struct ind_rehearsed_edit *edit = &r->edits[i];
        json_t *object = json_object();
        json_object_set_new(object, "edit", json_string(edit->edit->name));
        ind_json_set_number(object, "changed", edit->changed);
        ind_json_set_number(object, "dropped", edit->dropped);
        ind_json_set_number(object, "dropped_bytes", edit->dropped_bytes);
        json_object_set_new(object, "changes", changes_json(print, &edit->changes));
        json_object_set_new(object, "drops", lines_json(print, &edit->drops));
        json_array_append_new(list, object);
    }
    return list;
}

static json_t *unmatched_json(struct printing *print)
{
    json_t *list = json_array();
    const struct ind_notes_unfit unfit = sorted(print->rehearsal);
    for (unsigned i = 0; i < unfit.app_count; i++) {
        json_t *app = json_object();
        json_object_set_new(
            app, "app",
            json_string(shown(print, (struct ind_slice){unfit.apps[i].text, unfit.apps[i].length})));
        ind_json_set_number(app, "messages", unfit.apps[i].messages);
        json_array_append_new(list, app);
    }
    return list;
}

static void print_json(struct printing *print)
{
    const struct ind_rehearsal *r = print->rehearsal;
    json_t *object = json_object(), *routes = json_array();
    for (size_t i = 0; i < r->route_count; i++) {
        json_t *route = json_object();
        json_object_set_new(route, "route", json_string(r->routes[i].route->name));
        ind_json_set_number(route, "messages", r->routes[i].messages);
        ind_json_set_number(route, "bytes", r->routes[i].bytes);
        ind_json_set_number(route, "cut", r->routes[i].cut);
        json_object_set_new(route, "examples", lines_json(print, &r->routes[i].examples));
        json_array_append_new(routes, route);
    }
    json_object_set_new(object, "ledger", ledger_json(r));
    ind_json_set_number(object, "lines", r->lines);
    ind_json_set_number(object, "line_bytes", r->line_bytes);
    json_object_set_new(object, "edits", edits_json(print));
    json_object_set_new(object, "routes", routes);
    json_object_set_new(object, "unrouted", lines_json(print, &r->unrouted));
    if (ind_patterns_count(print->config->patterns) > 0) {
        ind_json_set_number(object, "unmatched", r->unmatched);
        json_object_set_new(object, "unmatched_apps", unmatched_json(print));
        json_object_set_new(object, "unmatched_examples", lines_json(print, &r->unmatched_examples));
    }
    if (print->config->alerts.count) {
        json_object_set_new(object, "alerts", alerts_json(print));
        ind_json_set_number(object, "alerts_left_out", r->alerts.left_out);
    }
    if (print->there) {
        ind_json_set_number(object, "different", r->different);
        json_object_set_new(object, "differences", differences_json(print));
    }
    ind_print_json(object, stdout);
    printf("\n");
    json_decref(object);
}

/* ---- ---- */

static void print_result(struct printing *print)
{
    if (print->there) {
        print_differences(print);
        return;
    }
    print_ledger(print);
    print_edits(print);
    print_routes(print);
    print_alerts(print);
    print_examples(print);
}

/* The files' own names tell them apart, mostly. */
static void shorten_names(struct printing *print)
{
    const char *here = strrchr(print->here, '/'), *there = print->there ? strrchr(print->there, '/') : NULL;
    here = here ? here + 1 : print->here;
    there = there ? there + 1 : print->there;
    if (!there || strcmp(here, there) == 0)
        return;
    print->here = here;
    print->there = there;
}

static int rehearse(const struct ind_call *call, const struct ind_loaded *loaded,
                    const struct ind_loaded *other)
{
    struct ind_rehearsal rehearsal;
    struct ind_rehearse_call rehearse = {.config = loaded->config,
                                         .other = given.against ? other->config : NULL,
                                         .files = call->rest,
                                         .report = ind_complain_text,
                                         .progress = ind_progress};
    while (call->rest[rehearse.file_count])
        rehearse.file_count++;
    if (rehearse.file_count == 0) {
        ind_complain("which files? \"-\" is standard input: indagator rehearse messages.log");
        return IND_EXIT_CALL;
    }
    if (!ind_line_options_read(&given.lines, loaded->config, &rehearse.form, &rehearse.sender,
                               &rehearse.received))
        return IND_EXIT_CALL;
    bool good = ind_rehearse(&rehearse, &rehearsal);
    ind_progress_end();
    if (!good)
        ind_complain("out of memory, or no thread could be started");
    struct printing *print = good ? calloc(1, sizeof *print) : NULL;
    if (print) {
        print->config = loaded->config;
        print->rehearsal = &rehearsal;
        print->here = call->config_path ? call->config_path : ind_config_find();
        print->there = given.against;
        shorten_names(print);
        print->bold = ind_colour();
        (call->json ? print_json : print_result)(print);
        free(print);
    }
    int status = !good || rehearsal.unread_files        ? IND_EXIT_FAILED
                 : given.against && rehearsal.different ? IND_EXIT_NO
                                                        : IND_EXIT_DONE;
    ind_rehearsal_free(&rehearsal);
    return status;
}

static int run(struct ind_call *call)
{
    struct ind_loaded loaded, other = {0};
    struct ind_call against = *call;
    int status = IND_EXIT_CALL;
    if (!ind_load(call, false, &loaded))
        return IND_EXIT_CALL;
    against.config_path = given.against;
    if (!given.against || ind_load(&against, false, &other))
        status = rehearse(call, &loaded, &other);
    ind_loaded_free(&other);
    ind_loaded_free(&loaded);
    return status;
}

const struct ind_command ind_command_rehearse = {
    .name = "rehearse",
    .summary = "what the rules would do with messages from files, nothing stored",
    .arguments = "[-c FILE] [--against OTHER.yaml] FILE…",
    .about = "Puts every line of the files through the rules as collect --from would, and stores nothing:\n"
             "what would become of the messages, what each edit and each route would do, in messages and\n"
             "bytes, with examples. --against tells which messages would be filed, changed or dropped\n"
             "differently by the rules of another configuration; exit code 1 where there are any.\n\n"
             "Example:\n"
             "  indagator rehearse messages.log\n"
             "  indagator rehearse -c next.yaml --against indagator.yaml messages.log\n",
    .options = options,
    .run = run,
};
