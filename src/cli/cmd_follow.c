#include "cli/control_client.h"
#include "cli/follow_show.h"
#include "cli/grown.h"
#include "collect/runtime/clock.h"
#include "store/disk/fs.h"

#include <errno.h>
#include <signal.h>
#include <stdlib.h>
#include <time.h>

/* MOST_BEFORE: of --last; SETTLE, AGAIN: milliseconds for the collector to file what it had, and between two
 * looks whether it is back. */
enum { MOST_BEFORE = 100000, SETTLE = 300, AGAIN = 500 };

static struct {
    const char **when;
    char *layout, *by;
    long count, last;
} given;

static struct poptOption *options(void)
{
    static struct poptOption table[] = {
        {"when", '\0', POPT_ARG_ARGV, &given.when, 0,
         "only messages for which this holds; several: for which one of them does, each in a colour of its "
         "own",
         "CONDITION"},
        {"layout", '\0', POPT_ARG_STRING, &given.layout, 0,
         "show lines as plain (the default), json, rfc5424, raw, or by a template such as \"{time} {device} "
         "{text}\"",
         "LAYOUT"},
        {"last", '\0', POPT_ARG_LONG, &given.last, 0, "show the last N that are stored first", "N"},
        {"by", '\0', POPT_ARG_STRING, &given.by, 0,
         "count them instead: how many of each, drawn again every second on a terminal, at the end "
         "elsewhere; "
         "fields as in \"search --by\"",
         "FIELD[,FIELD]"},
        {"count", '\0', POPT_ARG_LONG, &given.count, 0, "end after so many messages", "N"},
        POPT_TABLEEND};
    return table;
}

static volatile sig_atomic_t interrupted;

static void interrupt(int signal)
{
    (void)signal;
    interrupted = 1;
}

/* ---- What comes from the collector ---- */

struct following {
    const struct ind_config *config;
    struct ind_follow_show show;
    struct ind_search_settings *settings;
    const char *when;      /* all conditions, as one; "" for none */
    bool begun;            /* it has answered once */
    ind_time last;         /* when something last came */
    struct ind_grown line; /* with what it is in front */
};

static bool is_enough(const struct following *following)
{
    return following->show.failed || interrupted ||
           (given.count > 0 && following->show.shown >= (uint64_t)given.count);
}

/* The first byte tells what it is (docs/formats.md). */
static void take_line(struct following *following)
{
    const char *line = following->line.at;
    const size_t length = following->line.length;
    if (length == 0)
        return;
    if (line[0] == '=')
        ind_follow_show_line(&following->show, (struct ind_slice){line + 1, length - 1});
    else if (line[0] == '!')
        ind_follow_show_skipped(&following->show, line + 1);
    else
        ind_complain("%s", line + 1);
}

static bool take(void *context, const char *bytes, size_t length)
{
    struct following *following = context;
    following->last = ind_now();
    while (length > 0 && !is_enough(following)) {
        const char *newline = memchr(bytes, '\n', length);
        const size_t part = newline ? (size_t)(newline - bytes) : length;
        if (!ind_grown_add(&following->line, bytes, part)) {
            ind_complain("out of memory");
            return false;
        }
        bytes += part + (newline != NULL);
        length -= part + (newline != NULL);
        if (newline) {
            take_line(following);
            following->line.length = 0;
        }
    }
    ind_follow_show_counts(&following->show, false);
    following->show.failed |= fflush(stdout) != 0;
    return !is_enough(following);
}

static bool tick(void *context)
{
    struct following *following = context;
    ind_follow_show_counts(&following->show, false);
    return !is_enough(following);
}

/* ---- What is stored already ---- */

static void show_stored(void *context, struct ind_slice line)
{
    struct following *following = context;
    if (!is_enough(following))
        ind_follow_show_earlier(&following->show, line);
}

static void sleep_for(long milliseconds)
{
    const struct timespec span = {milliseconds / 1000, milliseconds % 1000 * 1000000};
    (void)nanosleep(&span, NULL);
}

static bool keep(void *context, struct ind_slice line)
{
    struct ind_kept_lines *kept = context;
    return ind_kept_add(kept, line) && kept->count < (size_t)given.last;
}

/* The last of them, found backwards. */
static void show_last(struct following *following)
{
    struct ind_search_places places;
    struct ind_search_settings settings = *following->settings;
    struct ind_search_result result;
    struct ind_kept_lines kept = {NULL, 0};
    const char *none[] = {NULL};
    sleep_for(SETTLE);
    if (ind_search_places_find(following->config, none, NULL, &places) == IND_EXIT_DONE) {
        settings.files = places.files;
        settings.file_count = places.count;
        settings.reverse = settings.once = true;
        settings.by_count = 0;
        settings.write = keep;
        settings.context = &kept;
        ind_search_run(&settings, &result);
        ind_search_free(&result);
        ind_search_places_free(&places);
    }
    ind_kept_give_back(&kept, show_stored, following);
    following->show.failed |= fflush(stdout) != 0;
}

/* ---- Following ---- */

static void begin(void *context)
{
    struct following *following = context;
    if (following->begun) {
        char time[64];
        struct ind_buffer out = ind_buffer_on(time, sizeof time - 1);
        ind_time_write(&out, following->last);
        time[out.length] = '\0';
        ind_complain("the collector is back; what came meanwhile is not shown: indagator search --since %s",
                     time);
        return;
    }
    following->begun = true;
    following->last = ind_now();
    ind_complain("listening: messages are shown as they arrive, until this is interrupted");
    if (given.last > 0)
        show_last(following);
}

static void question(const struct following *following, char *path, size_t room)
{
    const bool parses = following->show.parses;
    char *when = *following->when ? ind_query_text(following->when) : NULL;
    char *layout = parses ? strdup("json") : given.layout ? ind_query_text(given.layout) : NULL;
    snprintf(path, room, "/follow?%s%s%s%s%s", when ? "when=" : "", when ? when : "",
             when && layout ? "&" : "", layout ? "layout=" : "", layout ? layout : "");
    free(when);
    free(layout);
}

/* The collector may end and begin again: that is waited for. */
static int follow(struct following *following)
{
    static char path[16000];
    question(following, path, sizeof path);
    for (;;) {
        bool broken = false;
        const enum ind_control_client_result asked =
            ind_ask_on(following->config, path, begin, take, tick, following, &broken);
        following->line.length = 0;
        if (is_enough(following) || (asked != IND_CONTROL_CLIENT_NOBODY && !broken && !following->begun))
            return asked == IND_CONTROL_CLIENT_ANSWERED || interrupted || following->show.failed
                       ? IND_EXIT_DONE
                       : IND_EXIT_FAILED;
        if (!following->begun) {
            ind_tell_nobody(following->config);
            return IND_EXIT_FAILED;
        }
        if (asked != IND_CONTROL_CLIENT_NOBODY && !broken)
            return IND_EXIT_FAILED; /* refused: told */
        if (broken)
            ind_complain("the collector has ended; following goes on when it is back");
        sleep_for(AGAIN);
        if (interrupted)
            return IND_EXIT_DONE;
    }
}

/* ---- The call ---- */

/* "(A) or (B)". New. */
static char *join_conditions(void)
{
    char *text = NULL;
    size_t size = 0;
    FILE *out = open_memstream(&text, &size);
    for (size_t i = 0; out && given.when && given.when[i]; i++)
        fprintf(out, given.when[1] ? "%s(%s)" : "%s%s", i ? " or " : "", given.when[i]);
    return out && fclose(out) == 0 ? text : NULL;
}

/* Each by itself, so that a mistake has its place in what was typed; before they are read as one. */
static bool read_conditions(const struct ind_config *config, struct ind_follow_show *show)
{
    for (size_t i = 0; i == 0 || (given.when && given.when[i]); i++) {
        struct ind_conditions *set;
        ind_condition when;
        const char *text = given.when ? given.when[i] : NULL;
        if (!ind_condition_option(config, text, &set, &when))
            return false;
        if (!ind_follow_show_condition(show, set, when)) {
            ind_conditions_free(set);
            ind_complain("--when is given more than %d times", IND_FOLLOW_CONDITIONS);
            return false;
        }
        if (!given.when)
            break;
    }
    return true;
}

/* As those of search; what they borrow from lives in `read`. */
static bool read_settings(const struct ind_call *call, const struct ind_config *config, char *when,
                          struct ind_search_read *read)
{
    struct ind_search_options *shared = ind_search_options();
    shared->when = when;
    shared->by = given.by;
    shared->layout = given.layout;
    shared->json = call->json;
    return ind_search_options_read(shared, config, read);
}

static bool is_call_good(const struct ind_call *call)
{
    const bool several = given.when && given.when[0] && given.when[1];
    if (*call->rest)
        ind_complain("follow takes no arguments, but \"%s\" was given; conditions go with --when",
                     *call->rest);
    else if (given.last < 0 || given.last > MOST_BEFORE)
        ind_complain("--last: a number from 1 to %d", MOST_BEFORE);
    else if (given.by && given.layout)
        ind_complain("--layout is of lines, and --by prints none; leave one out");
    else if (several && given.layout && strcmp(given.layout, "raw") == 0)
        ind_complain("--layout raw shows messages as they came, and cannot be had with several --when");
    else
        return true;
    return false;
}

/* The collector tells messages without what edits gave them. */
static void tell_what_is_lost(const struct ind_config *config, const struct ind_search_settings *settings)
{
    unsigned asked = ind_condition_fields(settings->conditions, settings->when);
    for (size_t i = 0; i < settings->by_count; i++)
        asked |= settings->by[i].what < IND_FIELDS ? 1u << settings->by[i].what : 0;
    if (ind_search_lost_in_edits(config) & asked)
        ind_complain(
            "labels and fields that edits give are not known here: messages are told apart by those of "
            "devices and of the text");
}

static int run_with(const struct ind_call *call, const struct ind_config *config, char *when)
{
    static struct ind_search_read read;
    static struct following following;
    const bool several = given.when && given.when[0] && given.when[1];
    const bool parses = several || given.by; /* what is shown is worked out here */
    int code = IND_EXIT_CALL;
    following = (struct following){.config = config, .settings = &read.settings, .when = when};
    const bool good =
        read_conditions(config, &following.show) && read_settings(call, config, *when ? when : NULL, &read);
    struct ind_search_settings of_search = read.settings;
    if (good && ind_follow_show_begin(&following.show, &read.settings, parses)) {
        if (following.show.parses) { /* what is shown is made of what JSON tells */
            of_search.layout = IND_LAYOUT_JSON;
            of_search.line = NULL;
        }
        following.settings = &of_search;
        if (parses)
            tell_what_is_lost(config, &read.settings);
        (void)signal(SIGINT, interrupt);
        (void)signal(SIGTERM, interrupt);
        code = follow(&following);
        ind_follow_show_counts(&following.show, true);
    }
    ind_follow_show_end(&following.show);
    free(following.line.at);
    ind_search_read_free(&read);
    return code;
}

static int run(struct ind_call *call)
{
    struct ind_loaded loaded;
    if (!is_call_good(call))
        return IND_EXIT_CALL;
    if (call->json && !given.layout && !given.by)
        given.layout = strdup("json");
    if (!ind_load(call, false, &loaded))
        return IND_EXIT_CALL;
    ind_fs_raise_file_limit();
    char *when = join_conditions();
    const int code = when ? run_with(call, loaded.config, when) : IND_EXIT_FAILED;
    free(when);
    ind_loaded_free(&loaded);
    return code;
}

const struct ind_command ind_command_follow = {
    .name = "follow",
    .summary = "shows messages as they arrive",
    .arguments = "[-c FILE] [--when CONDITION]… [--last N] [--by FIELD,…] [--layout LAYOUT]",
    .about =
        "Asks the running collector for the messages that come in, until it is interrupted. The collector\n"
        "is never slowed by it: where messages come faster than they can be shown, some are skipped, and\n"
        "it says how many. Where the collector ends, it waits until it is back.\n\n"
        "Examples:\n"
        "  indagator follow --when 'severity at least warning' --last 10\n"
        "  indagator follow --when 'severity at least error' --when 'text mentions \"sshd\"'\n"
        "  indagator follow --by device,severity\n",
    .options = options,
    .run = run,
};
