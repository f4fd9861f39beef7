#include "cli/cli.h"
#include "cli/table.h"
#include "collect/collector.h"

#include <stdlib.h>

static struct {
    int from;
    char *received, *sender, *as;
} given;

static struct poptOption *options(void)
{
    static struct poptOption table[] = {{"from", '\0', POPT_ARG_NONE, &given.from, 0,
                                         "take messages from the files named (- is standard input), then end",
                                         NULL},
                                        {"received", '\0', POPT_ARG_STRING, &given.received, 0,
                                         "when the messages of the files were received: settles the year, "
                                         "and stands in where they tell no time",
                                         "TIME"},
                                        {"sender", '\0', POPT_ARG_STRING, &given.sender, 0,
                                         "the address that the messages of the files came from", "ADDRESS"},
                                        {"as", '\0', POPT_ARG_STRING, &given.as, 0,
                                         "what the lines are: raw (messages as they were sent; the default), "
                                         "or stored lines in plain, json or rfc5424",
                                         "LAYOUT"},
                                        POPT_TABLEEND};
    return table;
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
        {"messages unrouted", result->ledger.ended[IND_END_UNROUTED], true},
        {"refused: sender not allowed", result->ledger.ended[IND_END_REFUSED_SENDER], false},
        {"refused: empty", result->ledger.ended[IND_END_REFUSED_EMPTY], false},
        {"lost: buffer full", result->ledger.ended[IND_END_LOST_BUFFER], false},
        {"lost: disk", result->ledger.ended[IND_END_LOST_DISK], false},
        {"lost: not taken by a program or standard output", result->ledger.ended[IND_END_LOST_TAKER], false},
        {"dropped by the kernel before us", result->kernel_dropped, false},
        {"malformed headers", result->ledger.malformed, false},
        {"cut at the size limit", result->ledger.cut, false},
        {"matches given up as too long", result->ledger.gave_up, false},
        {"lines written", result->store.lines, true},
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
    ind_table_print(table, json, out);
    ind_table_free(table);
}

static bool read_form(const char *text, enum ind_line_form *form)
{
    static const char *const names[] = {"raw", "plain", "json", "rfc5424"};
    for (int i = 0; i < 4; i++)
        if (!text || strcmp(text, names[i]) == 0) {
            *form = (enum ind_line_form)i;
            return true;
        }
    ind_complain("--as: unknown layout \"%s\"; expected raw, plain, json or rfc5424", text);
    return false;
}

static bool read_settings(const struct ind_call *call, const struct ind_config *config,
                          struct ind_collect_settings *settings)
{
    struct ind_address address;
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
    if (!given.from && (given.received || given.sender || given.as)) {
        ind_complain("--received, --sender and --as go with --from");
        return false;
    }
    if (given.sender && !ind_address_read(ind_slice_of(given.sender), &address)) {
        ind_complain("--sender: \"%s\" is no address; write one such as 192.0.2.9", given.sender);
        return false;
    }
    settings->sender = ind_slice_of(given.sender);
    return ind_moment_option("received", given.received, config->zone, false, &settings->received) &&
           read_form(given.as, &settings->form);
}

static int run(struct ind_call *call)
{
    struct ind_loaded loaded;
    struct ind_collect_result result;
    if (!ind_load(call, false, &loaded))
        return IND_EXIT_CALL;
    struct ind_collect_settings settings = {.config = loaded.config,
                                            .config_path =
                                                call->config_path ? call->config_path : ind_config_find(),
                                            .tell = ind_tell,
                                            .progress = ind_progress};
    enum ind_collect_status status = IND_COLLECT_CALL;
    if (read_settings(call, loaded.config, &settings)) {
        status = ind_collect(&settings, &result);
        ind_progress_end();
        if (status == IND_COLLECT_DONE || status == IND_COLLECT_PART)
            /* Where messages go to standard output, it is theirs. */
            print_result(&result, call->json,
                         ind_config_has_to(loaded.config, IND_TO_OUTPUT) ? stderr : stdout);
    }
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
