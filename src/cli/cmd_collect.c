#include "cli/cli.h"
#include "cli/lines.h"
#include "cli/table.h"
#include "collect/daemon/collector.h"
#include "core/archive/archive_name.h"
#include "store/read/lookup.h"

#include <stdlib.h>

static struct {
    int from;
    struct ind_line_options lines;
} given;

static struct poptOption *options(void)
{
    static struct poptOption table[] = {{"from", '\0', POPT_ARG_NONE, &given.from, 0,
                                         "take messages from the files named (- is standard input), then end",
                                         NULL},
                                        IND_LINE_OPTIONS(given.lines),
                                        POPT_TABLEEND};
    return table;
}

static void add_edit(struct ind_table *table, uint64_t count, const char *what, const char *name)
{
    char text[400];
    if (count == 0)
        return;
    snprintf(text, sizeof text, "%s by the edit \"%s\"", what, name);
    ind_table_number(table, count);
    ind_table_text(table, text);
}

static void print_result(const struct ind_collect_result *result, bool json, FILE *out)
{
    const struct {
        const char *what;
        uint64_t count;
        bool always;
    } rows[] = {
        {"messages received", result->ledger.received, true},
        {"messages stored", result->ledger.ended[IND_END_STORED], true},
        {"messages handed on", result->ledger.ended[IND_END_HANDED], false},
        {"messages dropped by edits", result->ledger.ended[IND_END_DROPPED], false},
        {"messages unrouted", result->ledger.ended[IND_END_UNROUTED], true},
        {"refused: sender not allowed", result->ledger.ended[IND_END_REFUSED_SENDER], false},
        {"refused: empty", result->ledger.ended[IND_END_REFUSED_EMPTY], false},
        {"lost: buffer full", result->ledger.ended[IND_END_LOST_BUFFER], false},
        {"lost: disk", result->ledger.ended[IND_END_LOST_DISK], false},
        {"lost: not taken by a program or standard output", result->ledger.ended[IND_END_LOST_SINK], false},
        {"dropped by the kernel before us", result->kernel_dropped, false},
        {"malformed headers", result->ledger.malformed, false},
        {"cut at the size limit", result->ledger.cut, false},
        {"matches given up as too long", result->ledger.gave_up, false},
        {"lines written", result->store.lines, true},
        {"lines cut: longer than 512 KiB", result->lines_cut, false},
        {"lines in overflow files", result->store.overflowed, false},
        {"files rotated", result->store.rotated, false},
        {"archives compressed", result->keeper.compressed, false},
        {"archives removed", result->keeper.removed, false},
    };
    static const struct ind_column columns[] = {{"count", true}, {"what", false}};
    struct ind_table *table = ind_table_new(columns, 2);
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++)
        if (rows[i].always || rows[i].count) {
            ind_table_number(table, rows[i].count);
            ind_table_text(table, rows[i].what);
        }
    for (const struct ind_edit_count *edit = result->edits; edit; edit = edit->hh.next) {
        add_edit(table, edit->dropped, "dropped", edit->name);
        add_edit(table, edit->changed, "changed", edit->name);
    }
    ind_table_print(table, json, out);
    ind_table_free(table);
}

static bool read_settings(const struct ind_call *call, const struct ind_config *config,
                          struct ind_collect_settings *settings)
{
    while (call->rest[settings->file_count])
        settings->file_count++;
    settings->files = call->rest;
    if (!given.from && settings->file_count) {
        ind_complain("\"%s\": files follow --from", call->rest[0]);
        return false;
    }
    if (given.from && !settings->file_count) {
        ind_complain("--from: which files? \"-\" is standard input");
        return false;
    }
    if (!given.from && (given.lines.received || given.lines.sender || given.lines.as)) {
        ind_complain("--received, --sender and --as go with --from");
        return false;
    }
    for (size_t i = 0; i < settings->file_count; i++)
        if (ind_is_live_name(ind_slice_of(call->rest[i])) && ind_lies_in(config->store, call->rest[i])) {
            ind_complain(
                "%s lies in the store, and would be read while it is written to; rotate it first, or copy it "
                "to another place",
                call->rest[i]);
            return false;
        }
    return ind_line_options_read(&given.lines, config, &settings->form, &settings->sender,
                                 &settings->received);
}

static int run(struct ind_call *call)
{
    struct ind_loaded loaded;
    struct ind_collect_result result;
    if (!ind_load(call, false, &loaded))
        return IND_EXIT_CALL;
    /* Also where nobody takes them: programs that are started are not to get them. */
    struct ind_inherited *inherited = ind_inherited_take();
    struct ind_service_manager *manager = ind_service_manager_find();
    struct ind_collect_settings settings = {.config = loaded.config,
                                            .version = IND_VERSION,
                                            .manager = manager,
                                            .doubts = &loaded.diagnostics,
                                            .inherited = inherited,
                                            .config_path =
                                                call->config_path ? call->config_path : ind_config_find(),
                                            .report = ind_complain_text,
                                            .progress = ind_progress};
    enum ind_collect_status status = IND_COLLECT_CALL;
    if (read_settings(call, loaded.config, &settings)) {
        status = ind_collect(&settings, &result);
        ind_progress_end();
        if (status == IND_COLLECT_DONE || status == IND_COLLECT_PART)
            /* Where messages go to standard output, it is theirs. */
            print_result(&result, call->json,
                         ind_config_has_to(loaded.config, IND_TO_OUTPUT) ? stderr : stdout);
        ind_collect_result_free(&result);
    }
    ind_inherited_free(inherited);
    ind_service_manager_free(manager);
    ind_loaded_free(&loaded);
    return status == IND_COLLECT_DONE   ? IND_EXIT_DONE
           : status == IND_COLLECT_CALL ? IND_EXIT_CALL
                                        : IND_EXIT_FAILED;
}

const struct ind_command ind_command_collect = {
    .name = "collect",
    .summary = "receives messages and files them; or takes them from files",
    .arguments = "[-c FILE] [--from FILE…]",
    .about = "Receives syslog on the addresses under listen: and files it by the routes, until it is told\n"
             "to end (SIGTERM): then what was received is filed, and the counts are printed. With --from\n"
             "it takes messages from files (also .zst and .gz) through the same rules, and ends.\n\n"
             "Example:\n"
             "  indagator collect -c indagator.yaml --from messages.log\n",
    .options = options,
    .run = run,
};
