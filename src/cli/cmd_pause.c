#include "cli/control_client.h"
#include "cli/table.h"
#include "config/quantity.h"

#include <jansson.h>
#include <stdlib.h>
#include <string.h>

static struct {
    char *after;
} given;

static struct poptOption *pause_options(void)
{
    static struct poptOption table[] = {
        {"after", '\0', POPT_ARG_STRING, &given.after, 0,
         "closes after so long, in which /health says already that it will; 2 s", "SPAN"},
        POPT_TABLEEND};
    return table;
}

static struct poptOption *no_options(void)
{
    static struct poptOption table[] = {POPT_TABLEEND};
    return table;
}

/* "/pause?after=2000&listener=…". New; NULL where memory is out. */
static char *question(const char *path, long long milliseconds, const char *const *names)
{
    char *text = NULL;
    size_t size;
    FILE *out = open_memstream(&text, &size);
    if (!out)
        return NULL;
    fprintf(out, "%s", path);
    if (milliseconds >= 0)
        fprintf(out, "?after=%lld", milliseconds);
    for (size_t i = 0; names[i]; i++) {
        char *name = ind_query_text(names[i]);
        fprintf(out, "%clistener=%s", milliseconds < 0 && i == 0 ? '?' : '&', name ? name : "");
        free(name);
    }
    return fclose(out) == 0 ? text : NULL;
}

static void print_paused(const char *answer, bool json)
{
    static const struct ind_column columns[] = {{"paused", false}};
    json_error_t error;
    json_t *object = json_loads(answer, 0, &error), *name;
    const json_t *names = json_object_get(object, "paused");
    size_t i;
    if (!json && json_array_size(names) == 0)
        printf("no listener is paused\n");
    struct ind_table *table = ind_table_new(columns, 1);
    json_array_foreach(names, i, name) ind_table_text(table, json_string_value(name));
    if (json || json_array_size(names) > 0)
        ind_table_print(table, json, stdout);
    ind_table_free(table);
    json_decref(object);
}

static int ask(struct ind_call *call, const char *path, long long milliseconds)
{
    struct ind_loaded loaded;
    char *answer = NULL;
    if (!ind_load(call, false, &loaded))
        return IND_EXIT_CALL;
    char *asked = question(path, milliseconds, call->rest);
    enum ind_control_client_result result =
        asked ? ind_control_client_ask(loaded.config, true, asked, &answer) : IND_CONTROL_CLIENT_REFUSED;
    if (result == IND_CONTROL_CLIENT_NOBODY)
        ind_tell_nobody(loaded.config);
    else if (result == IND_CONTROL_CLIENT_ANSWERED && answer)
        print_paused(answer, call->json != 0);
    else
        ind_complain("%.*s", answer ? (int)strcspn(answer, "\n") : 13, answer ? answer : "out of memory");
    free(answer);
    free(asked);
    ind_loaded_free(&loaded);
    return result == IND_CONTROL_CLIENT_ANSWERED ? IND_EXIT_DONE : IND_EXIT_FAILED;
}

static int run_pause(struct ind_call *call)
{
    int64_t after = 2 * IND_SECOND;
    if (given.after && (!ind_read_span(ind_slice_of(given.after), &after) || after > 3600 * IND_SECOND)) {
        ind_complain("--after %s: " IND_SPAN_HINT ", an hour at most", given.after);
        return IND_EXIT_CALL;
    }
    return ask(call, "/pause", (long long)(after / (IND_SECOND / 1000)));
}

static int run_resume(struct ind_call *call)
{
    return ask(call, "/resume", -1);
}

const struct ind_command ind_command_pause = {
    .name = "pause",
    .summary = "closes listeners of the running collector for a while",
    .arguments = "[-c FILE] [--after SPAN] [LISTENER...]",
    .about =
        "Pauses the listeners that are named, or all. At once /health says so, so that whoever passes\n"
        "messages on looks elsewhere; after a span they are closed, and what stands in their sockets is\n"
        "filed. A LISTENER is written as \"indagator status\" shows it, such as \"udp 0.0.0.0:514\", or is\n"
        "only its kind or its address. A pause outlives reloads; a restart ends it.\n\n"
        "Example:\n"
        "  indagator pause --after 5s \"tcp 0.0.0.0:601\"\n",
    .options = pause_options,
    .run = run_pause,
};

const struct ind_command ind_command_resume = {
    .name = "resume",
    .summary = "takes paused listeners up again",
    .arguments = "[-c FILE] [LISTENER...]",
    .about = "Takes listeners up again that were paused: those that are named, or all.\n\n"
             "Example:\n"
             "  indagator resume\n",
    .options = no_options,
    .run = run_resume,
};
