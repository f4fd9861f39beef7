#include "cli/cli.h"
#include "cli/table.h"
#include "collect/runtime/clock.h"
#include "store/disk/fs.h"
#include "store/read/lookup.h"
#include "store/search/search.h"

#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <unistd.h>

static struct {
    char *when, *since, *until, *by, *to, *layout, *as;
    int count, force;
    long top;
} given;

static struct poptOption *options(void)
{
    static struct poptOption table[] = {
        {"when", '\0', POPT_ARG_STRING, &given.when, 0,
         "only messages for which this holds (docs/conditions.md)", "CONDITION"},
        {"since", '\0', POPT_ARG_STRING, &given.since, 0,
         "from this time on: a date, a date and time, or an age such as 24h", "TIME"},
        {"until", '\0', POPT_ARG_STRING, &given.until, 0, "before this time; a date includes that day",
         "TIME"},
        {"count", '\0', POPT_ARG_NONE, &given.count, 0, "only how many", NULL},
        {"by", '\0', POPT_ARG_STRING, &given.by, 0,
         "how many of each: facility, severity, host, device, sender, listener, transport, app, procid, "
         "msgid, text, original, pattern, \"field NAME\", \"label NAME\", date, hour; several with commas",
         "FIELD,..."},
        {"top", '\0', POPT_ARG_LONG, &given.top, 0, "only the N most frequent (with --by)", "N"},
        {"to", '\0', POPT_ARG_STRING, &given.to, 0, "write what is found to a file, whole or not at all",
         "FILE"},
        {"force", '\0', POPT_ARG_NONE, &given.force, 0, "with --to: over a file that is there already", NULL},
        {"layout", '\0', POPT_ARG_STRING, &given.layout, 0,
         "print lines as plain (the default), json, rfc5424, raw, or by a template such as \"{time} {device} "
         "{text}\"",
         "L"},
        {"as", '\0', POPT_ARG_STRING, &given.as, 0,
         "what the lines of the files named are: raw (messages as they were sent), or stored lines in plain, "
         "json or rfc5424; without it the journal of the store that a file lies in tells, and what lies in "
         "none is raw",
         "LAYOUT"},
        POPT_TABLEEND};
    return table;
}

/* A condition from the command line, reported with a caret under the place. */
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
    settings->line = template;
    if (!ind_template_read(ind_slice_of(given.layout), IND_TEMPLATE_LINE, template, &mistake))
        ind_complain("--layout: %s", mistake.text);
    return !mistake.made;
}

static bool read_settings(const struct ind_config *config, struct ind_search_settings *settings,
                          struct ind_template *template)
{
    if (given.top && !given.by) {
        ind_complain("--top goes with --by");
        return false;
    }
    if (given.top < 0) {
        ind_complain("--top: a number from 1 on");
        return false;
    }
    if (given.as && ind_layout_read(ind_slice_of(given.as)) < 0) {
        ind_complain("--as: unknown layout \"%s\"; expected raw, plain, json or rfc5424", given.as);
        return false;
    }
    settings->count_only = given.count != 0;
    return ind_moment_option("since", given.since, config->zone, false, &settings->since) &&
           ind_moment_option("until", given.until, config->zone, true, &settings->until) &&
           ind_condition_option(config, given.when, &settings->conditions, &settings->when) &&
           read_by(settings) && read_layout(settings, template);
}

/* ---- Files ---- */

/* A line is never believed because of what it looks like: its sender may have made it look so. */
static int layout_of(const char *path)
{
    if (given.as)
        return strcmp(given.as, "raw") == 0 ? IND_STORED_UNKNOWN : ind_layout_read(ind_slice_of(given.as));
    if (strcmp(path, "-") == 0)
        return IND_STORED_UNKNOWN;
    int stored = ind_stored_of_path(path), looks = stored < 0 ? ind_looks_stored(path) : -1;
    if (looks >= 0)
        ind_complain("%s: read as messages, since no journal says that its lines are stored ones; they look "
                     "so: --as %s reads them as such",
                     path, ind_layout_name((enum ind_layout)looks).at);
    return stored;
}

static struct ind_search_file *list_paths(const char **paths, size_t *count)
{
    for (*count = 0; paths[*count];)
        ++*count;
    struct ind_search_file *files = calloc(*count + 1, sizeof *files);
    for (size_t i = 0; files && i < *count; i++)
        files[i] = (struct ind_search_file){.name = paths[i], .path = paths[i], .as = layout_of(paths[i])};
    return files;
}

static struct ind_search_file *list_store(const struct ind_config *config, struct ind_snapshot *snapshot,
                                          size_t *count)
{
    *count = 0;
    if (!ind_snapshot_take(config->store, NULL, NULL, snapshot)) {
        ind_complain("cannot read the store %s: %s", config->store, strerror(errno));
        return NULL;
    }
    struct ind_search_file *files = calloc(snapshot->count + 1, sizeof *files);
    for (size_t i = 0; files && i < snapshot->count; i++)
        if (!snapshot->files[i].twice)
            files[(*count)++] =
                (struct ind_search_file){.name = snapshot->files[i].path, .stored = &snapshot->files[i]};
    return files;
}

/* ---- Results ---- */

struct printer {
    FILE *out;
    bool failed;
};

static bool print_line(void *context, struct ind_slice line)
{
    struct printer *printer = context;
    printer->failed = fwrite(line.at, 1, line.length, printer->out) != line.length;
    return !printer->failed;
}

static void print_groups(const struct ind_search_result *result, const struct ind_search_settings *settings,
                         bool json, FILE *out)
{
    struct ind_column columns[IND_SEARCH_FIELDS + 1] = {{"messages", true}};
    char headings[IND_SEARCH_FIELDS][80];
    for (size_t i = 0; i < settings->by_count; i++)
        snprintf(headings[i], sizeof headings[i], "%.*s", IND_ARG(settings->by[i].text));
    size_t rows =
        given.top && (size_t)given.top < result->group_count ? (size_t)given.top : result->group_count;
    for (size_t i = 0; i < settings->by_count; i++)
        columns[i + 1] = (struct ind_column){headings[i], false};
    struct ind_table *table = ind_table_new(columns, settings->by_count + 1);
    for (size_t row = 0; row < rows; row++) {
        ind_table_number(table, result->groups[row].count);
        for (size_t i = 0; i < settings->by_count; i++)
            ind_table_text(table, result->groups[row].values[i]);
    }
    ind_table_print(table, json, out);
    ind_table_free(table);
}

static bool print_result(struct ind_search_result *result, const struct ind_search_settings *settings,
                         bool json, FILE *out)
{
    char number[32];
    struct printer printer = {out, false};
    if (settings->by_count)
        print_groups(result, settings, json, out);
    else if (settings->count_only && json)
        fprintf(out, "{\"messages\":%llu}\n", (unsigned long long)result->found);
    else if (settings->count_only)
        fprintf(out, "%s\n", ind_grouped(result->found, number));
    else if (!ind_search_lines(result, print_line, &printer))
        return false;
    return !printer.failed;
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
    if (result->failed) {
        ind_complain("memory or the disk for temporary files ran out: the answer is not whole");
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

static int search(const struct ind_call *call, struct ind_search_settings *settings)
{
    struct ind_search_result result;
    struct result_file file = {.stream = stdout};
    if (given.to && !open_result(&file))
        return IND_EXIT_FAILED;
    ind_search_run(settings, &result);
    ind_progress_end();
    bool printed = print_result(&result, settings, call->json != 0, file.stream);
    bool closed = !given.to || close_result(&file, printed);
    int status = result.found ? IND_EXIT_DONE : IND_EXIT_NO;
    if (!report_gaps(&result, settings->snapshot->unreadable))
        status = IND_EXIT_FAILED;
    if (!printed && !given.to && errno == EPIPE) {
        ; /* whoever reads has seen enough */
    } else if (!printed || !closed) {
        ind_complain("cannot write %s: %s", given.to ? given.to : "the results", strerror(errno));
        status = IND_EXIT_FAILED;
    }
    ind_search_free(&result);
    return status;
}

static int run(struct ind_call *call)
{
    struct ind_loaded loaded;
    struct ind_template template;
    struct ind_snapshot snapshot = {.folder = -1};
    int status = IND_EXIT_CALL;
    if (!ind_load(call, *call->rest != NULL, &loaded))
        return IND_EXIT_CALL;
    struct ind_search_settings settings = {
        .config = loaded.config, .now = ind_now(), .report = ind_complain_text, .progress = ind_progress};
    if (call->json && !given.layout)
        given.layout = strdup("json");
    ind_fs_raise_file_limit(); /* live files are held open for the snapshot */
    if ((!given.to || may_write(loaded.config, given.to)) &&
        read_settings(loaded.config, &settings, &template)) {
        struct ind_search_file *files = *call->rest
                                            ? list_paths(call->rest, &settings.file_count)
                                            : list_store(loaded.config, &snapshot, &settings.file_count);
        settings.files = files;
        settings.snapshot = &snapshot;
        status = files ? search(call, &settings) : IND_EXIT_FAILED;
        free(files);
    }
    ind_snapshot_free(&snapshot);
    ind_conditions_free(settings.conditions);
    ind_loaded_free(&loaded);
    return status;
}

const struct ind_command ind_command_search = {
    .name = "search",
    .summary = "finds stored messages, live and archived",
    .arguments = "[--when CONDITION] [--since TIME] [--until TIME] [PATH…]",
    .about = "Looks through all files of the store, or through the files named, and prints what it finds\n"
             "in order of time. Exit code 1 where nothing is found.\n\n"
             "Examples:\n"
             "  indagator search -c indagator.yaml --when 'severity at least warning' --since 24h\n"
             "  indagator search -c indagator.yaml --by device,severity --top 10\n",
    .options = options,
    .run = run,
};
