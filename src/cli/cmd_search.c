#include "cli/cli.h"
#include "cli/search_places.h"
#include "cli/table.h"
#include "collect/runtime/clock.h"
#include "config/zones.h"
#include "store/disk/fs.h"
#include "store/read/lookup.h"

#include <errno.h>
#include <fcntl.h>
#include <limits.h>
#include <poll.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <unistd.h>

static struct {
    char *when, *since, *until, *by, *to, *layout, *as, *zone;
    int count, force, once, copies, why;
    long top, first, last; /* ABSENT: not given; of `top` 0 */
} given = {.first = LONG_MIN, .last = LONG_MIN};

enum { MOST_LAST = 1000000 };
#define ABSENT LONG_MIN

static struct poptOption *options(void)
{
    static struct poptOption table[] = {
        {"when", '\0', POPT_ARG_STRING, &given.when, 0,
         "only messages for which this holds (docs/conditions.md)", "CONDITION"},
        {"since", '\0', POPT_ARG_STRING, &given.since, 0,
         "from this time on: 2026-11-23, 2026-11-23T04:45, 22:00 (the last one), today, \"yesterday 08:00\", "
         "mon "
         "(the last one), now, or an age such as 24h, 1h30m or 30d",
         "TIME"},
        {"until", '\0', POPT_ARG_STRING, &given.until, 0, "before this time; a day includes all of it",
         "TIME"},
        {"first", '\0', POPT_ARG_LONG, &given.first, 0, "only the first N of what is found, by time", "N"},
        {"last", '\0', POPT_ARG_LONG, &given.last, 0, "only the last N of what is found, by time", "N"},
        {"count", '\0', POPT_ARG_NONE, &given.count, 0, "only how many", NULL},
        {"by", '\0', POPT_ARG_STRING, &given.by, 0,
         "how many of each, the most frequent first: facility, severity, host, device, sender, listener, "
         "transport, app, procid, msgid, text, original, pattern, \"field NAME\", \"label NAME\"; by minute, "
         "hour, day or weekday in order of time; several with commas",
         "FIELD[,FIELD]"},
        {"top", '\0', POPT_ARG_LONG, &given.top, 0, "only the N most frequent (with --by)", "N"},
        {"once", '\0', POPT_ARG_NONE, &given.once, 0,
         "a message that several routes stored is found once: so it is anyway where the whole store is "
         "counted",
         NULL},
        {"copies", '\0', POPT_ARG_NONE, &given.copies, 0, "each of its copies is counted", NULL},
        {"why", '\0', POPT_ARG_NONE, &given.why, 0,
         "say how much was read, and what the index of archives left out", NULL},
        {"zone", '\0', POPT_ARG_STRING, &given.zone, 0,
         "print and read times in this zone: local (this machine's), UTC, a name or an offset; without it, "
         "lines are printed as times: has it, and what groups and TIME mean is zone: of the configuration",
         "ZONE"},
        {"to", '\0', POPT_ARG_STRING, &given.to, 0, "write what is found to a file, whole or not at all",
         "FILE"},
        {"force", '\0', POPT_ARG_NONE, &given.force, 0, "with --to: over a file that is there already", NULL},
        {"layout", '\0', POPT_ARG_STRING, &given.layout, 0,
         "print lines as plain (the default), json, rfc5424, raw, or by a template such as \"{time} {device} "
         "{text}\"; \\t and \\n in one are a tab and a line's end",
         "L"},
        {"as", '\0', POPT_ARG_STRING, &given.as, 0,
         "what the lines of the files named are: raw (messages as they were sent), or stored lines in plain, "
         "json or rfc5424; without it the journal of the store that a file lies in tells, and what lies in "
         "none is raw",
         "LAYOUT"},
        POPT_TABLEEND};
    return table;
}

/* What --by names, with commas between. */
static bool read_by(struct ind_search_settings *settings)
{
    char *rest = given.by;
    while (rest && *rest) {
        size_t length = strcspn(rest, ",");
        struct ind_slice name = {rest, length};
        struct ind_search_by by;
        if (!ind_search_by_read(name, &by)) {
            const char *names[IND_BY_END];
            size_t count = 0;
            for (unsigned i = 0; i < IND_BY_END; i++)
                if (ind_search_by_read(ind_search_by_name(i), &by))
                    names[count++] = ind_search_by_name(i).at;
            const char *near = ind_near(name, names, count);
            ind_complain("--by: unknown field \"%.*s\"%s%s%s", IND_ARG(name), near ? "; did you mean \"" : "",
                         near ? near : "", near ? "\"?" : "");
            return false;
        }
        if (settings->by_count == IND_SEARCH_FIELDS) {
            ind_complain("--by takes at most %d fields", IND_SEARCH_FIELDS);
            return false;
        }
        settings->by[settings->by_count++] = by;
        rest += length + (rest[length] == ',');
    }
    return true;
}

/* Backslash t and backslash n become what they stand for, two backslashes one; in place. */
static void undo_escapes(char *text)
{
    char *to = text;
    for (; *text; text++) {
        const char *found = *text == '\\' && text[1] ? strchr("tn\\", text[1]) : NULL;
        *to++ = found ? "\t\n\\"[found - "tn\\"] : *text;
        text += found != NULL;
    }
    *to = '\0';
}

static bool read_layout(struct ind_search_settings *settings, struct ind_template *template)
{
    struct ind_mistake mistake = {0};
    settings->layout = IND_LAYOUT_PLAIN;
    if (!given.layout)
        return true;
    int layout = ind_layout_read(ind_slice_of(given.layout));
    if (layout >= 0) {
        settings->layout = (enum ind_layout)layout;
        return true;
    }
    if (!strchr(given.layout, '{')) {
        ind_complain(
            "--layout: unknown layout \"%s\"; expected plain, json, rfc5424, raw, or a template such as "
            "\"{time} {device} {text}\"",
            given.layout);
        return false;
    }
    undo_escapes(given.layout);
    settings->line = template;
    if (!ind_template_read(ind_slice_of(given.layout), IND_TEMPLATE_LINE, template, &mistake))
        ind_complain("--layout: %s", mistake.text);
    return !mistake.made;
}

/* Options that do not go together are refused: none is passed over. */
static bool go_together(const char **arguments)
{
    if (given.top && !given.by)
        ind_complain("--top goes with --by");
    else if (given.top < 0)
        ind_complain("--top: a number from 1 on");
    else if ((given.first != ABSENT && given.first < 1) || (given.last != ABSENT && given.last < 1) ||
             given.last > MOST_LAST)
        ind_complain("--first and --last: a number from 1 on, of --last up to 1000000");
    else if (given.first != ABSENT && given.last != ABSENT)
        ind_complain("--first and --last say the opposite; leave one out");
    else if ((given.first != ABSENT || given.last != ABSENT) && (given.by || given.count))
        ind_complain("--%s is of lines, and --%s prints none; leave one out",
                     given.first != ABSENT ? "first" : "last", given.by ? "by" : "count");
    else if (given.count && given.by)
        ind_complain(
            "--count and --by do not go together: --by counts each group, --count all; leave one out");
    else if (given.layout && (given.by || given.count))
        ind_complain("--layout is of lines, and --%s prints none; leave one out", given.by ? "by" : "count");
    else if (given.force && !given.to)
        ind_complain("--force goes with --to");
    else if (given.once && given.copies)
        ind_complain("--once and --copies say the opposite; leave one out");
    else if (given.copies && !given.by && !given.count)
        ind_complain(
            "--copies goes with --count or --by: lines are printed with all copies unless --once is given");
    else if (given.as && ind_layout_read(ind_slice_of(given.as)) < 0)
        ind_complain("--as: unknown layout \"%s\"; expected raw, plain, json or rfc5424", given.as);
    else if (given.as && !*arguments)
        ind_complain(
            "--as says what the lines of named files are: name them; of the store its journal knows");
    else
        return true;
    return false;
}

/* --zone; without it what the configuration says. *made is to be freed. */
static bool read_zone(const struct ind_config *config, struct ind_search_settings *settings,
                      struct ind_zone **made)
{
    settings->zone = config->zone;
    settings->times = config->times;
    if (!given.zone)
        return true;
    *made = strcmp(given.zone, "local") == 0 ? ind_zone_of_machine() : ind_zone_named(given.zone);
    if (!*made)
        ind_complain(
            "--zone: unknown time zone \"%s\"; write local, or one such as Europe/Lisbon, UTC or +01:00",
            given.zone);
    settings->zone = *made;
    settings->times = strcmp(given.zone, "UTC") == 0 ? NULL : *made;
    settings->as_stored = false;
    return *made != NULL;
}

/* Words that are to stand somewhere, beside what --when asks: a mistake in that has been shown by now. */
static bool add_words(const struct ind_config *config, const struct ind_search_places *places,
                      struct ind_search_settings *settings)
{
    if (!places->word_count)
        return true;
    ind_conditions_free(settings->conditions);
    settings->conditions = NULL;
    char *whole = ind_search_words_condition(places, given.when);
    if (!whole)
        ind_complain("out of memory");
    free(given.when);
    given.when = whole;
    return whole && ind_condition_option(config, whole, &settings->conditions, &settings->when);
}

/* An empty span would look like nothing found. */
static bool is_span(const struct ind_search_settings *settings)
{
    if (settings->since == IND_TIME_NONE || settings->until == IND_TIME_NONE ||
        settings->since < settings->until)
        return true;
    ind_complain("--since %s is not before --until %s: no message can be found", given.since, given.until);
    return false;
}

static bool read_settings(const struct ind_config *config, struct ind_search_settings *settings,
                          struct ind_template *template)
{
    settings->count_only = given.count != 0;
    settings->top = (size_t)given.top;
    return ind_moment_option("since", given.since, settings->zone, false, &settings->since) &&
           ind_moment_option("until", given.until, settings->zone, true, &settings->until) &&
           is_span(settings) &&
           ind_condition_option(config, given.when, &settings->conditions, &settings->when) &&
           read_by(settings) && read_layout(settings, template);
}

/* ---- Results ---- */

enum { PRINTED_AT_ONCE = 128 << 10 };

struct printer {
    char buffer[PRINTED_AT_ONCE];
    size_t filled;
    FILE *out;
    bool failed, broken; /* broken: whoever reads has seen enough */
    int error;
    uint64_t lines;
    char **kept; /* the last of them, the latest first, where only these are wanted */
    size_t *lengths;
};

static bool note_error(struct printer *printer, int error)
{
    printer->failed = true;
    printer->error = error;
    printer->broken = error == EPIPE;
    return false;
}

static bool flush(struct printer *printer)
{
    errno = 0;
    const bool good = fwrite(printer->buffer, 1, printer->filled, printer->out) == printer->filled &&
                      fflush(printer->out) == 0;
    printer->filled = 0;
    return good || note_error(printer, errno);
}

/* Lines are gathered: a call for each costs more than all else. */
static bool put_line(struct printer *printer, struct ind_slice line)
{
    if (line.length > sizeof printer->buffer - printer->filled && !flush(printer))
        return false;
    if (line.length > sizeof printer->buffer)
        return fwrite(line.at, 1, line.length, printer->out) == line.length || note_error(printer, errno);
    memcpy(printer->buffer + printer->filled, line.at, line.length);
    printer->filled += line.length;
    return true;
}

/* Nothing more comes for a moment. Whoever reads from a pipe may have gone. */
static bool pause_printing(void *context)
{
    struct printer *printer = context;
    struct pollfd out = {.fd = fileno(printer->out), .events = 0};
    if (printer->filled && !flush(printer))
        return false;
    return poll(&out, 1, 0) <= 0 || !(out.revents & POLLERR) || note_error(printer, EPIPE);
}

static bool keep_line(struct printer *printer, struct ind_slice line)
{
    char *copy = malloc(line.length + 1);
    if (!copy)
        return note_error(printer, ENOMEM);
    memcpy(copy, line.at, line.length);
    printer->kept[printer->lines] = copy;
    printer->lengths[printer->lines++] = line.length;
    return printer->lines < (uint64_t)given.last;
}

static bool take_line(void *context, struct ind_slice line)
{
    struct printer *printer = context;
    if (printer->kept)
        return keep_line(printer, line);
    printer->lines++;
    return put_line(printer, line) && (given.first == ABSENT || printer->lines < (uint64_t)given.first);
}

static void print_kept(struct printer *printer)
{
    for (uint64_t i = printer->lines; i-- > 0;) {
        if (!printer->failed)
            (void)put_line(printer, (struct ind_slice){printer->kept[i], printer->lengths[i]});
        free(printer->kept[i]);
    }
    free(printer->kept);
    free(printer->lengths);
}

static void print_groups(const struct ind_search_result *result, const struct ind_search_settings *settings,
                         bool json, FILE *out)
{
    struct ind_column columns[IND_SEARCH_FIELDS + 1] = {{"messages", true}};
    char headings[IND_SEARCH_FIELDS][80];
    for (size_t i = 0; i < settings->by_count; i++)
        snprintf(headings[i], sizeof headings[i], "%.*s", IND_ARG(settings->by[i].text));
    for (size_t i = 0; i < settings->by_count; i++)
        columns[i + 1] = (struct ind_column){headings[i], false};
    struct ind_table *table = ind_table_new(columns, settings->by_count + 1);
    for (size_t row = 0; row < result->group_count; row++) {
        ind_table_number(table, result->groups[row].count);
        for (size_t i = 0; i < settings->by_count; i++)
            ind_table_text(table, result->groups[row].values[i]);
    }
    ind_table_print(table, json, out);
    ind_table_free(table);
}

static void print_count_json(const struct ind_search_result *result,
                             const struct ind_search_settings *settings, FILE *out)
{
    fprintf(out, "{\"messages\":%llu", (unsigned long long)result->found);
    if (settings->once)
        fprintf(out, ",\"copies\":%llu", (unsigned long long)result->copies);
    fputs("}\n", out);
}

static void print_result(const struct ind_search_result *result, const struct ind_search_settings *settings,
                         bool json, struct printer *printer)
{
    char number[32];
    FILE *out = printer->out;
    if (settings->by_count)
        print_groups(result, settings, json, out);
    else if (settings->count_only && json)
        print_count_json(result, settings, out);
    else if (settings->count_only)
        fprintf(out, "%s\n", ind_number_text(result->found, ind_goes_to_terminal(out), number));
    else if (printer->kept)
        print_kept(printer);
    if (!printer->failed)
        (void)flush(printer);
}

/* How many copies were left out: whoever counts lines otherwise has to know. */
static void report_copies(const struct ind_search_result *result)
{
    char number[32];
    if (result->copies)
        ind_complain("%s cop%s of messages that several routes stored %s left out%s",
                     ind_grouped(result->copies, number), result->copies == 1 ? "y" : "ies",
                     result->copies == 1 ? "is" : "are", given.once ? "" : "; --copies counts them too");
}

/* Of archives that have an index (docs/archive-format.md); all else is read to its end. */
static void tell_why(const struct ind_search_result *result)
{
    char size[2][32], number[7][32];
    if (result->archives == 0) {
        ind_complain("%s of text were read; no archive with an index was there to be asked, or nothing in "
                     "the question could be",
                     ind_size_text(result->bytes, size[0]));
        return;
    }
    ind_complain(
        "%s of text were read; the index of %s archive%s left out %s of %s pieces, %s of text: %s by "
        "time, %s by facility and severity, %s by device, %s by words",
        ind_size_text(result->bytes, size[0]), ind_grouped(result->archives, number[0]),
        result->archives == 1 ? "" : "s",
        ind_grouped(result->frames - result->left_out[IND_READ_IT], number[1]),
        ind_grouped(result->frames, number[2]), ind_size_text(result->bytes_left_out, size[1]),
        ind_grouped(result->left_out[IND_LEFT_OUT_BY_TIME], number[3]),
        ind_grouped(result->left_out[IND_LEFT_OUT_BY_PRI], number[4]),
        ind_grouped(result->left_out[IND_LEFT_OUT_BY_DEVICE], number[5]),
        ind_grouped(result->left_out[IND_LEFT_OUT_BY_WORDS], number[6]));
}

/* What keeps the answer from being whole is said, and is no success. */
static bool report_gaps(const struct ind_search_result *result, size_t unreadable)
{
    bool whole = result->unread_files == 0;
    if (unreadable) {
        ind_complain("%zu folder%s of the store may not be read: what is in there was not searched",
                     unreadable, unreadable == 1 ? "" : "s");
        whole = false;
    }
    for (unsigned field = 0; field < IND_FIELDS; field++)
        if (result->lacking[field]) {
            ind_complain(
                "%llu file%s not hold the field \"%s\", or not of every message, so that a test of it "
                "cannot be answered there; layout: %s keeps it",
                (unsigned long long)result->lacking[field], result->lacking[field] == 1 ? " does" : "s do",
                ind_field_name((enum ind_field)field).at, field == IND_FIELD_ORIGINAL ? "raw" : "json");
            whole = false;
        }
    if (result->gave_up) {
        ind_complain("a regular expression or a pattern was given up on a message %llu time%s, since it took "
                     "too long: "
                     "whether that one is meant is not known; a plainer expression, or contains, takes less",
                     (unsigned long long)result->gave_up, result->gave_up == 1 ? "" : "s");
        whole = false;
    }
    if (result->groups_cut) {
        ind_complain("more than a million groups: the rest is left out");
        whole = false;
    }
    if (result->spill_error) {
        ind_complain("the folder for temporary files, %s, cannot take what has no room in memory (%s): the answer "
                     "is not whole; TMPDIR names another",
                     ind_temporary_folder(), strerror(result->spill_error));
        whole = false;
    } else if (result->failed) {
        ind_complain("memory ran out: the answer is not whole");
        whole = false;
    }
    return whole;
}

/* ---- Into a file ---- */

/* What is found goes into a new file beside the one that was named, which takes its name once it is whole:
 * nothing that the search is about to read is lost, and nobody finds a half. */
struct result_file {
    FILE *stream;
    char temporary[4200];
};

/* Whether the file would stand below a folder of the collector's: there it may be one that is written to. */
static bool would_lie_in(const char *folder, const char *path)
{
    char parent[4096];
    const char *slash = strrchr(path, '/');
    snprintf(parent, sizeof parent, "%.*s",
             slash == path ? 1
             : slash       ? (int)(slash - path)
                           : 1,
             slash ? path : ".");
    return ind_lies_in(folder, path) || ind_lies_in(folder, parent) || ind_is_same_folder(folder, parent);
}

static bool may_write(const struct ind_config *config, const char *path)
{
    struct stat facts;
    bool there = stat(path, &facts) == 0;
    if (would_lie_in(config->store, path) || would_lie_in(config->state, path))
        ind_complain("--to: %s lies in the %s folder, which belongs to the collector; name another place",
                     path, would_lie_in(config->store, path) ? "store" : "state");
    else if (there && !S_ISREG(facts.st_mode))
        ind_complain("--to: %s is no file; name one, or let the shell write there (> %s)", path, path);
    else if (there && !given.force)
        ind_complain("--to: %s is there already; name another, or give --force", path);
    else
        return true;
    return false;
}

static bool open_result(struct result_file *result)
{
    snprintf(result->temporary, sizeof result->temporary, "%s.%ld.part", given.to, (long)getpid());
    int file = open(result->temporary, O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0666);
    result->stream = file < 0 ? NULL : fdopen(file, "w");
    if (!result->stream)
        ind_complain("cannot write %s: %s", result->temporary, strerror(errno));
    return result->stream != NULL;
}

/* Without --force a file that has come meanwhile stays. */
static bool close_result(struct result_file *result, bool whole)
{
    bool good = fclose(result->stream) == 0 && whole;
    if (good)
        good =
            given.force ? rename(result->temporary, given.to) == 0 : link(result->temporary, given.to) == 0;
    int error = errno;
    if (!good || !given.force)
        (void)unlink(result->temporary);
    errno = error;
    return good;
}

static int search(const struct ind_call *call, struct ind_search_settings *settings, size_t unreadable)
{
    struct ind_search_result result;
    struct result_file file = {.stream = stdout};
    static struct printer printer;
    if (given.to && !open_result(&file))
        return IND_EXIT_FAILED;
    printer.out = file.stream;
    if (given.last != ABSENT) {
        settings->reverse = true;
        printer.kept = calloc((size_t)given.last, sizeof(char *));
        printer.lengths = calloc((size_t)given.last, sizeof *printer.lengths);
    }
    settings->write = take_line;
    settings->pause = pause_printing;
    settings->context = &printer;
    ind_search_run(settings, &result);
    ind_progress_end();
    print_result(&result, settings, call->json != 0, &printer);
    const bool closed = !given.to || close_result(&file, !printer.failed);
    const int error = printer.failed ? printer.error : errno;
    int status = result.found ? IND_EXIT_DONE : IND_EXIT_NO;
    report_copies(&result);
    if (given.why)
        tell_why(&result);
    if (!report_gaps(&result, unreadable))
        status = IND_EXIT_FAILED;
    if ((printer.failed && !printer.broken) || !closed) {
        ind_complain("cannot write %s: %s", given.to ? given.to : "the results", strerror(error));
        status = IND_EXIT_FAILED;
    }
    ind_search_free(&result);
    return status;
}

static int find_and_search(const struct ind_call *call, const struct ind_config *config,
                           struct ind_search_settings *settings)
{
    struct ind_search_places places;
    int status = ind_search_places_find(config, call->rest, given.as, &places);
    if (status == IND_EXIT_DONE) {
        bool counts = given.count || given.by;
        settings->files = places.files;
        settings->file_count = places.count;
        settings->once = given.once || (counts && places.is_whole_store && !given.copies);
        status =
            add_words(config, &places, settings) ? search(call, settings, places.unreadable) : IND_EXIT_CALL;
    }
    ind_search_places_free(&places);
    return status;
}

static int run(struct ind_call *call)
{
    struct ind_loaded loaded;
    struct ind_template template;
    struct ind_zone *zone = NULL;
    int status = IND_EXIT_CALL;
    if (!go_together(call->rest) || !ind_load(call, *call->rest != NULL, &loaded))
        return IND_EXIT_CALL;
    struct ind_search_settings settings = {.config = loaded.config,
                                           .now = ind_now(),
                                           .as_stored = true,
                                           .temporary = ind_temporary_folder(),
                                           .report = ind_complain_text,
                                           .progress = ind_progress};
    if (call->json && !given.layout)
        given.layout = strdup("json");
    ind_fs_raise_file_limit(); /* live files are held open for the snapshot */
    if ((!given.to || may_write(loaded.config, given.to)) && read_zone(loaded.config, &settings, &zone) &&
        read_settings(loaded.config, &settings, &template))
        status = find_and_search(call, loaded.config, &settings);
    ind_conditions_free(settings.conditions);
    ind_zone_free(zone);
    ind_loaded_free(&loaded);
    return status;
}

const struct ind_command ind_command_search = {
    .name = "search",
    .summary = "finds stored messages, live and archived",
    .arguments = "[--when CONDITION] [--since TIME] [--until TIME] [PATH|WORD…]",
    .about =
        "Looks through all files of the store, or through the files and folders named, and prints what it\n"
        "finds in order of time. An argument without a slash that is no file is a word to look for. Exit\n"
        "code 1 where nothing is found.\n\n"
        "Examples:\n"
        "  indagator search -c indagator.yaml --when 'severity at least warning' --since 24h\n"
        "  indagator search -c indagator.yaml --by device,severity --top 10\n"
        "  indagator search -c indagator.yaml --since 'yesterday 22:00' pier1-rtr\n",
    .options = options,
    .run = run,
};
