#include "cli/cli.h"
#include "cli/control_client.h"

#include <errno.h>
#include <stdlib.h>

static struct {
    char *when, *layout;
    long count;
} given;

static struct poptOption *options(void)
{
    static struct poptOption table[] = {
        {"when", '\0', POPT_ARG_STRING, &given.when, 0, "only messages for which this holds", "CONDITION"},
        {"layout", '\0', POPT_ARG_STRING, &given.layout, 0,
         "show lines as plain (the default), json, rfc5424, raw, or by a template such as \"{time} {device} "
         "{text}\"",
         "LAYOUT"},
        {"count", '\0', POPT_ARG_LONG, &given.count, 0, "end after so many messages", "N"},
        POPT_TABLEEND};
    return table;
}

struct shown {
    long count;
    bool begun, failed; /* within a line; standard output takes no more */
    char kind;
    char other[2048]; /* a line that is no message */
    size_t other_length;
};

static void say_other(struct shown *shown)
{
    shown->other[shown->other_length] = '\0';
    if (shown->kind == '!')
        ind_complain("%s messages were skipped: they come faster than they can be shown; a narrower --when "
                     "helps",
                     shown->other);
    else
        ind_complain("%s", shown->other);
    shown->other_length = 0;
}

/* The first byte of a line tells what it is (docs/formats.md). False once enough were shown. */
static bool show_part(struct shown *shown, const char *bytes, size_t length, bool ends)
{
    if (!shown->begun && length > 0) {
        shown->kind = *bytes++;
        length--;
        shown->begun = true;
    }
    if (shown->kind == '=') {
        shown->failed |= fwrite(bytes, 1, length, stdout) != length || (ends && putchar('\n') == EOF);
    } else {
        size_t room = sizeof shown->other - 1 - shown->other_length;
        memcpy(shown->other + shown->other_length, bytes, length < room ? length : room);
        shown->other_length += length < room ? length : room;
    }
    if (!ends)
        return !shown->failed;
    shown->begun = false;
    if (shown->kind != '=')
        say_other(shown);
    else
        shown->count++;
    return !shown->failed && (given.count <= 0 || shown->count < given.count);
}

static bool show(void *context, const char *bytes, size_t length)
{
    bool more = true;
    while (length > 0 && more) {
        const char *newline = memchr(bytes, '\n', length);
        size_t part = newline ? (size_t)(newline - bytes) : length;
        more = show_part(context, bytes, part, newline != NULL);
        part += newline != NULL;
        bytes += part;
        length -= part;
    }
    return fflush(stdout) == 0 && more;
}

static void say_listening(void *context)
{
    (void)context;
    ind_complain("listening: messages are shown as they arrive, until this is interrupted");
}

static void question(char *path, size_t room)
{
    char *when = given.when ? ind_query_text(given.when) : NULL;
    char *layout = given.layout ? ind_query_text(given.layout) : NULL;
    snprintf(path, room, "/follow?%s%s%s%s%s", when ? "when=" : "", when ? when : "",
             when && layout ? "&" : "", layout ? "layout=" : "", layout ? layout : "");
    free(when);
    free(layout);
}

static int run(struct ind_call *call)
{
    static char path[16000];
    struct ind_loaded loaded;
    struct shown shown = {.count = 0};
    if (*call->rest) {
        ind_complain("follow takes no arguments, but \"%s\" was given; conditions go with --when",
                     *call->rest);
        return IND_EXIT_CALL;
    }
    if (call->json && !given.layout)
        given.layout = strdup("json");
    if (!ind_load(call, false, &loaded))
        return IND_EXIT_CALL;
    ind_condition condition;
    struct ind_conditions *set;
    bool good = ind_condition_option(loaded.config, given.when, &set, &condition);
    ind_conditions_free(set); /* the collector reads it again; here it was tried */
    if (!good) {
        ind_loaded_free(&loaded);
        return IND_EXIT_CALL;
    }
    question(path, sizeof path);
    enum ind_control_client_result asked = ind_ask(loaded.config, false, path, say_listening, show, &shown);
    if (asked == IND_CONTROL_CLIENT_NOBODY)
        ind_tell_nobody(loaded.config);
    ind_loaded_free(&loaded);
    bool enough = given.count <= 0 || shown.count >= given.count;
    return asked == IND_CONTROL_CLIENT_ANSWERED && enough ? IND_EXIT_DONE : IND_EXIT_FAILED;
}

const struct ind_command ind_command_follow = {
    .name = "follow",
    .summary = "shows messages as they arrive",
    .arguments = "[-c FILE] [--when CONDITION] [--layout LAYOUT]",
    .about =
        "Asks the running collector for the messages that come in, until it is interrupted. The collector\n"
        "is never slowed by it: where messages come faster than they can be shown, some are skipped, and\n"
        "it says how many.\n\n"
        "Example:\n"
        "  indagator follow --when 'severity at least warning' --layout '{device} {severity} {text}'\n",
    .options = options,
    .run = run,
};
