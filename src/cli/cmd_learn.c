#include "cli/learn_show.h"
#include "cli/search_places.h"
#include "collect/runtime/clock.h"
#include "core/base/escape.h"

#include <stdlib.h>

enum { NOT_GIVEN = -1, AT_LEAST = 5 };

static struct {
    char *since, *until, *when, *as, *check;
    long at_least, top;
} given = {.at_least = NOT_GIVEN, .top = NOT_GIVEN};

static struct poptOption *options(void)
{
    static struct poptOption table[] = {
        {"since", '\0', POPT_ARG_STRING, &given.since, 0,
         "messages from then on: a time, a date, or an age such as 7d", "TIME"},
        {"until", '\0', POPT_ARG_STRING, &given.until, 0, "messages before then; of a date, that day too",
         "TIME"},
        {"when", '\0', POPT_ARG_STRING, &given.when, 0, "only messages of which the condition holds",
         "CONDITION"},
        {"as", '\0', POPT_ARG_STRING, &given.as, 0,
         "how the lines of the files are laid out: raw (messages as sent), plain, json or rfc5424", "LAYOUT"},
        {"at-least", '\0', POPT_ARG_LONG, &given.at_least, 0,
         "propose what fits so many messages; 5 where none is given", "N"},
        {"top", '\0', POPT_ARG_LONG, &given.top, 0, "propose so many patterns at most, the most frequent",
         "N"},
        {"check", '\0', POPT_ARG_STRING, &given.check, 0,
         "propose nothing: tell what this pattern of the configuration fits that no other does", "NAME"},
        POPT_TABLEEND};
    return table;
}

struct learning {
    const struct ind_config *config;
    struct ind_learning *learning;
    struct ind_search_settings settings;
    struct ind_search_places places;
    bool no_memory;
    char *room;
};

/* ---- Messages ---- */

/* A line "APP TEXT", as the template has them: escaped, "-" where there is none. */
static bool take(void *context, struct ind_slice line)
{
    struct learning *run = context;
    if (line.length && line.at[line.length - 1] == '\n')
        line.length--;
    const char *space = line.length ? memchr(line.at, ' ', line.length) : NULL;
    if (!space || line.length > IND_LINE_MOST)
        return true;
    struct ind_slice app = {line.at, (size_t)(space - line.at)}, text = ind_slice_from(line, app.length + 1);
    const size_t app_length = ind_slice_equal(app, IND_SLICE("-")) ? 0 : ind_unescape(run->room, app);
    char *at = run->room + app.length;
    const size_t length = ind_slice_equal(text, IND_SLICE("-")) ? 0 : ind_unescape(at, text);
    run->no_memory = !ind_learning_take(run->learning, (struct ind_slice){run->room, app_length},
                                        (struct ind_slice){at, length});
    return !run->no_memory;
}

static void report(void *context, const char *text)
{
    (void)context;
    ind_complain("%s", text);
}

/* False where not all could be read. */
static bool read_messages(struct learning *run)
{
    static struct ind_template line;
    struct ind_mistake mistake = {0};
    struct ind_search_result result;
    struct ind_search_settings *settings = &run->settings;
    (void)ind_template_read(IND_SLICE("{app} {text}"), IND_TEMPLATE_LINE, &line, &mistake);
    settings->config = run->config;
    settings->files = run->places.files;
    settings->file_count = run->places.count;
    settings->line = &line;
    settings->once = run->places.is_whole_store;
    settings->any_order = !settings->once; /* of texts it does not matter */
    settings->sum = settings->distinct = (struct ind_search_by){.what = IND_BY_NOTHING};
    settings->zone = run->config->zone;
    settings->now = ind_now();
    settings->temporary = ind_temporary_folder();
    settings->write = take;
    settings->report = report;
    settings->progress = ind_progress_of;
    settings->context = run;
    ind_search_run(settings, &result);
    ind_progress_end();
    const bool whole = !result.failed && result.unread_files == 0 && run->places.unreadable == 0;
    ind_search_free(&result);
    return whole;
}

/* ---- ---- */

static bool read_call(struct learning *run)
{
    struct ind_search_settings *settings = &run->settings;
    settings->when = IND_CONDITION_ALWAYS;
    if (given.at_least != NOT_GIVEN && given.at_least < 2)
        ind_complain("--at-least: a number of messages, from 2 on");
    else if (given.top != NOT_GIVEN && given.top < 1)
        ind_complain("--top: a number of patterns, from 1 on");
    else
        return ind_moment_option("since", given.since, run->config->zone, false, &settings->since) &&
               ind_moment_option("until", given.until, run->config->zone, true, &settings->until) &&
               ind_condition_option(run->config, given.when, &settings->conditions, &settings->when);
    return false;
}

static bool begin(struct learning *run)
{
    bool unknown;
    run->learning = ind_learning_new(run->config, ind_slice_of(given.check ? given.check : ""), &unknown);
    run->room = malloc(2 * IND_LINE_MOST);
    if (run->learning && run->room)
        return true;
    if (unknown) {
        const char *near = ind_pattern_near(run->config->patterns, ind_slice_of(given.check));
        ind_complain("--check: there is no pattern \"%s\"%s%s%s", given.check,
                     near ? "; did you mean \"" : "", near ? near : "", near ? "\"?" : "");
    } else {
        ind_complain("out of memory");
    }
    return false;
}

/* 1 where there is nothing to propose. */
static int show(struct learning *run, bool json, bool whole)
{
    struct ind_learning_result result;
    const uint64_t at_least = given.at_least == NOT_GIVEN ? AT_LEAST : (uint64_t)given.at_least;
    if (run->no_memory || !ind_learning_finish(run->learning, at_least,
                                               given.top == NOT_GIVEN ? 0 : (size_t)given.top, &result)) {
        ind_complain("out of memory");
        return IND_EXIT_FAILED;
    }
    if (given.check)
        ind_learn_show_check(&result, given.check, json);
    else
        ind_learn_show(&result, at_least, json);
    const bool any = given.check ? result.checked > 0 : result.pattern_count > 0;
    return !whole ? IND_EXIT_FAILED : any ? IND_EXIT_DONE : IND_EXIT_NO;
}

static int run(struct ind_call *call)
{
    struct ind_loaded loaded;
    int status = IND_EXIT_CALL;
    if (!ind_load(call, true, &loaded))
        return IND_EXIT_CALL;
    struct learning learning = {.config = loaded.config};
    if (read_call(&learning) && begin(&learning)) {
        status = ind_search_places_find(loaded.config, call->rest, given.as, &learning.places);
        if (status == IND_EXIT_DONE && learning.places.word_count) {
            ind_complain("%s: there is no such file", learning.places.words[0]);
            status = IND_EXIT_CALL;
        }
        if (status == IND_EXIT_DONE)
            status = show(&learning, call->json != 0, read_messages(&learning));
        ind_search_places_free(&learning.places);
    }
    ind_learning_free(learning.learning);
    ind_conditions_free(learning.settings.conditions);
    free(learning.room);
    ind_loaded_free(&loaded);
    return status;
}

const struct ind_command ind_command_learn = {
    .name = "learn",
    .summary = "proposes patterns for messages that none fits",
    .arguments = "[-c FILE] [--since TIME] [--when CONDITION] [--at-least N] [--check NAME] [FILE…]",
    .about =
        "Reads messages of the store, or of files, and groups those that no pattern of the configuration\n"
        "fits by how they are laid out. Prints patterns as YAML, to be looked at, given better names, and\n"
        "included: each with its messages, typed fields, and examples. What masks hide is not in them.\n\n"
        "Example:\n"
        "  indagator learn --since 7d >learned.yaml\n",
    .options = options,
    .run = run,
};
