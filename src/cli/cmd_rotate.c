#include "cli/cli.h"
#include "cli/control_client.h"
#include "cli/dry_run.h"
#include "cli/table.h"
#include "collect/control/control_socket.h"
#include "collect/daemon/collector.h"
#include "collect/runtime/clock.h"
#include "store/archive/keeper.h"
#include "store/write/store.h"

#include <jansson.h>
#include <stdlib.h>

static struct {
    int due, dry_run, clock_is_right;
} given;

static struct poptOption *options(void)
{
    static struct poptOption table[] = {
        {"due", '\0', POPT_ARG_NONE, &given.due, 0,
         "only files whose time, size or number of messages calls for it", NULL},
        {"dry-run", '\0', POPT_ARG_NONE, &given.dry_run, 0, "only say what would be done, and by which rule",
         NULL},
        {"clock-is-right", '\0', POPT_ARG_NONE, &given.clock_is_right, 0,
         "let archives be removed for their age again, after the clock had jumped", NULL},
        POPT_TABLEEND};
    return table;
}

/* It compresses and removes by itself, after it has answered. */
static int print_asked(const char *text, bool json)
{
    static const struct ind_column names[] = {{"rotated", true}, {"failed", true}};
    json_error_t error;
    json_t *answer = json_loads(text, 0, &error);
    uint64_t failed = (uint64_t)json_integer_value(json_object_get(answer, "failed"));
    struct ind_table *table = ind_table_new(names, 2);
    ind_table_number(table, (uint64_t)json_integer_value(json_object_get(answer, "rotated")));
    ind_table_number(table, failed);
    ind_table_print(table, json, stdout);
    ind_table_free(table);
    if (!json)
        printf("done by the running collector, which compresses them in a moment\n");
    json_decref(answer);
    return failed == 0 ? IND_EXIT_DONE : IND_EXIT_FAILED;
}

/* One process at a time writes a store: the one that does is asked. `busy`: who that is. */
static int ask_collector(const struct ind_config *config, bool json, const char *busy)
{
    char path[64], *text = NULL;
    snprintf(path, sizeof path, "/rotate?due=%d&clock-is-right=%d", given.due != 0,
             given.clock_is_right != 0);
    enum ind_control_client_result asked = ind_control_client_ask(config, true, path, &text);
    int status = IND_EXIT_FAILED;
    if (asked == IND_CONTROL_CLIENT_ANSWERED && text)
        status = print_asked(text, json);
    else if (asked == IND_CONTROL_CLIENT_NOBODY)
        ind_complain("%s, and does not answer at %s/" IND_CONTROL_SOCKET, busy, config->state);
    else
        ind_complain("%s", text ? text : busy);
    free(text);
    return status;
}

static int rotate(const struct ind_config *config, bool json)
{
    char reason[1400];
    struct ind_store *store;
    struct ind_store_settings settings = {
        .config = config, .fs = &ind_fs_posix, .now = ind_now(), .report = ind_complain_of};
    enum ind_store_status status = ind_store_open(&settings, &store, reason, sizeof reason);
    if (status == IND_STORE_BUSY)
        return ask_collector(config, json, reason);
    if (status != IND_STORE_OK) {
        ind_complain("%s", reason);
        return IND_EXIT_FAILED;
    }
    const struct ind_rotated outcome = ind_rotate_and_keep(store, given.due != 0, given.clock_is_right != 0);
    struct ind_keeper_counts keeper = ind_keeper_counts(ind_store_keeper(store));
    ind_store_close(store);
    static const struct ind_column names[] = {
        {"rotated", true}, {"compressed", true}, {"removed", true}, {"failed", true}};
    struct ind_table *table = ind_table_new(names, 4);
    ind_table_number(table, outcome.rotated);
    ind_table_number(table, keeper.compressed);
    ind_table_number(table, keeper.removed);
    ind_table_number(table, outcome.failed + keeper.failed);
    ind_table_print(table, json, stdout);
    ind_table_free(table);
    return outcome.kept && outcome.failed == 0 ? IND_EXIT_DONE : IND_EXIT_FAILED;
}

static int run(struct ind_call *call)
{
    struct ind_loaded loaded;
    if (*call->rest) {
        ind_complain("rotate takes no arguments, but \"%s\" was given", *call->rest);
        return IND_EXIT_CALL;
    }
    if (!ind_load(call, false, &loaded))
        return IND_EXIT_CALL;
    int status = !ind_has_store(loaded.config) ? IND_EXIT_CALL
                 : given.dry_run
                     ? ind_dry_run(loaded.config, given.due != 0, given.clock_is_right != 0, call->json != 0)
                     : rotate(loaded.config, call->json);
    ind_loaded_free(&loaded);
    return status;
}

const struct ind_command ind_command_rotate = {
    .name = "rotate",
    .summary = "turns live files into archives: all now, or what is due",
    .arguments = "[-c FILE] [--due] [--dry-run]",
    .about =
        "Rotates the live files of the store, compresses what the archive policies say, and removes\n"
        "what they no longer keep. A running collector does this by itself; while one runs, it is asked.\n\n"
        "Example:\n"
        "  indagator rotate -c indagator.yaml --due --dry-run\n",
    .options = options,
    .run = run,
};
